//! `yandro adopt`.

mod same;
mod view;

use std::cell::RefCell;

use yandro_core::{Adoption, Content, HandSite, HostName, HostsFile, Https, Site, adopt_site};
use yandro_machine::{Found, SystemFresh, files, permissions, ports, servers};

use super::apply::{Applied, Done, Planned, apply};
use super::map::can_be_served;
use super::prove::{ProofFailed, Proven, prove};
use super::real_names;
use crate::args::AdoptArgs;
use crate::as_root::as_root;
use crate::context::{Context, now};
use crate::error::{self, CommandError, no_server};
use crate::view::{Outcome, Ui, change};
use same::Compared;

/// A hand-written site, and its server.
pub(super) struct Candidate<'c> {
    found: &'c Found,
    hand: HandSite,
    /// The other person whose folder it serves.
    others: Option<String>,
}

/// A site that was taken over.
pub(super) struct Adopted {
    done: Done<Site>,
    proof: Proven,
    compared: Compared,
}

pub(crate) fn run<'c>(context: &'c Context, args: &'c AdoptArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let all = hand_sites(context, args)?;
    for own in servers::running(&context.machine, context.present()) {
        ui.note(&format!(
            "not looked at: {} with {}, which yandro doesn't know; have yandro know it: {}",
            own.kind,
            own.config,
            own.to_add()
        ));
    }
    if args.names.is_empty() && !args.all {
        return Ok(view::overview(all));
    }
    let chosen = chosen(all, args, ui)?;
    let (mut adopted, mut previewed, mut refused) = (Vec::new(), Vec::new(), Vec::new());
    for hand in chosen {
        let done = wanted(&hand, args).and_then(|site| take_over(context, args, &hand, &site, ui));
        match done {
            // A site that fails doesn't keep the others from being taken over.
            Err(error) if args.all => refused.push((hand.hand.name.clone(), error)),
            Err(error) => return Err(error),
            Ok(Ok(done)) => adopted.push((hand, done)),
            Ok(Err(_)) if args.all => previewed.push(hand),
            Ok(Err(set)) => {
                ui.say(&view::lines(&hand.hand));
                return Ok(change::preview(*set));
            }
        }
    }
    if args.all && adopted.is_empty() && !previewed.is_empty() {
        return Ok(view::previewed(previewed, refused));
    }
    Ok(view::adopted(context, adopted, refused))
}

/// The hand-written sites of the servers that are meant.
fn hand_sites<'c>(context: &'c Context, args: &AdoptArgs) -> Result<Vec<Candidate<'c>>, CommandError> {
    let present = context.present().all();
    if present.is_empty() {
        return Err(CommandError::not_made("no web server was found").hint(no_server()));
    }
    let mut all = Vec::new();
    for found in present.iter().filter(|found| args.server.as_deref().is_none_or(|word| found.id.word() == word)) {
        let hands = servers::hand_sites(&context.machine, found)?.into_iter();
        all.extend(hands.map(|hand| Candidate { found, others: others(context, &hand), hand }));
    }
    Ok(all)
}

/// The other person whose folder a site serves.
fn others(context: &Context, hand: &HandSite) -> Option<String> {
    let Content::Folder { folder, .. } = &hand.site.as_ref().ok()?.content else { return None };
    let person = context.machine.is_real().then(|| permissions::person_of(folder)).flatten()?;
    (person != context.machine.user()).then_some(person)
}

/// The sites that are named, or all that can be taken over but for those of other people.
fn chosen<'c>(all: Vec<Candidate<'c>>, args: &AdoptArgs, ui: &mut Ui) -> Result<Vec<Candidate<'c>>, CommandError> {
    if args.all {
        let can = all.into_iter().filter(|own| own.hand.site.is_ok());
        let (left, chosen): (Vec<_>, Vec<_>) = can.partition(|own| own.others.is_some());
        for Candidate { hand, others, .. } in &left {
            let person = others.as_deref().unwrap_or_default();
            ui.note(&format!(
                "{} stays as it is, since its folder belongs to {person}. To take it over all the same: yandro adopt {}",
                hand.name, hand.name
            ));
        }
        return if chosen.is_empty() { Err(nothing()) } else { Ok(chosen) };
    }
    let names = error::names(&args.names)?;
    let mut chosen: Vec<Candidate<'_>> = Vec::new();
    let mut rest = all;
    for name in &names {
        let has = |own: &Candidate<'_>| match &own.hand.site {
            Ok(site) => site.names().any(|other| other == name),
            Err(_) => own.hand.name.eq_ignore_ascii_case(name.as_str()),
        };
        if chosen.iter().any(has) {
            continue;
        }
        // Prefer the virtual host that answers to a commented-out one.
        let at = rest.iter().position(|own| has(own) && own.hand.site.is_ok()).or_else(|| rest.iter().position(has));
        let hand = rest.remove(at.ok_or_else(|| unknown(name))?);
        if let Err(why) = &hand.hand.site {
            return Err(refused(name, &hand.hand, why));
        }
        chosen.push(hand);
    }
    Ok(chosen)
}

/// The error that a site can't be taken over, and what can be done instead.
fn refused(name: &HostName, hand: &HandSite, why: &str) -> CommandError {
    let error = CommandError::not_made(format!("`{name}` can't be taken over: {why}"));
    let place = hand.blocks.first().map(|(place, _)| place.written());
    match place.filter(|_| hand.is_commented) {
        Some(place) => error
            .hint(format!("have it answer first: take the comment signs away at {place}"))
            .hint(format!("or map it again: yandro map {name} FOLDER")),
        None => error.hint(format!("remove that virtual host yourself, then map the site: yandro map {name} FOLDER")),
    }
}

fn nothing() -> CommandError {
    CommandError::usage("no site can be taken over").hint("list the sites with the reasons: yandro adopt")
}

fn unknown(name: &HostName) -> CommandError {
    CommandError::usage(format!("no virtual host that was written by hand has the name `{name}`"))
        .hint("list the sites: yandro adopt")
}

/// The site that is wanted of a hand-written one.
fn wanted(hand: &Candidate<'_>, args: &AdoptArgs) -> Result<Site, CommandError> {
    let site = hand.hand.site.clone().map_err(CommandError::not_made)?;
    let has_tls = site.https == Https::Only || !site.serving.https_ports.is_empty();
    if args.plain && !has_tls && !view::has_tls(&hand.hand) {
        return Ok(Site { https: Https::Off, ..site });
    }
    let mut site = site;
    if !args.https_ports.is_empty() {
        site.serving.https_ports.clone_from(&args.https_ports);
    } else if !view::has_tls(&hand.hand) && !site.serving.http_ports.is_empty() {
        // A server on another port than 80 is not the one that has 443.
        let is_free = |port: &u16| ports::holders(*port).is_empty();
        site.serving.https_ports.extend((8443..8500).find(is_free));
    }
    Ok(site)
}

/// Takes a site over; gives the plan with `--preview`.
fn take_over(
    context: &Context,
    args: &AdoptArgs,
    hand: &Candidate<'_>,
    site: &Site,
    ui: &mut Ui,
) -> Result<Result<Adopted, Box<yandro_core::ChangeSet>>, CommandError> {
    let requests = same::requests(context, hand.found, &hand.hand, site);
    let before = if context.preview { same::Answers::default() } else { same::ask(&requests)? };
    let mut asked = false;
    let plan = || {
        let (text, list) = context.list()?;
        let adoption = servers::adoption(hand.found, &hand.hand, site.clone())?;
        may_write(context, &adoption)?;
        ask_for_real_names(context, args, site, &mut asked)?;
        let mut observed = context.observer().observe_without(text, site, now(), &hand.hand.cuts)?;
        let mut set = adopt_site(&mut observed, &list, &adoption, &mut SystemFresh::new())?;
        can_be_served(context, &mut set, site, false)?;
        Ok(Planned { set, starts: true, about: site.clone() })
    };
    let seen = RefCell::new(None);
    let applied = apply(context, ui, plan, |site: &Site| {
        let compared = same::compare(&requests, &before)?;
        let proof = match prove(context, site) {
            // It answers as before: what is wrong with it was so then.
            Err(ProofFailed::Report(report)) if compared.same > 0 => Proven::Seen(report),
            proof => proof?,
        };
        *seen.borrow_mut() = Some((proof, compared));
        Ok(())
    })?;
    Ok(match applied {
        Applied::Preview(set) => Err(set),
        Applied::Done(done) => {
            let (proof, compared) = seen.into_inner().expect("what is applied was proven");
            Ok(Adopted { done: *done, proof, compared })
        }
    })
}

/// Refuses what only root may decide: whose files these are.
fn may_write(context: &Context, adoption: &Adoption) -> Result<(), CommandError> {
    if context.preview || context.machine.is_root() || !context.machine.is_real() {
        return Ok(());
    }
    let paths = adoption.files.iter().map(|(path, ..)| path).chain(adoption.links.iter().map(|(path, _)| path));
    let foreign = paths.into_iter().find(|path| !files::may_be_replaced(path));
    foreign.map_or(Ok(()), |path| {
        let name = &adoption.site.name;
        Err(CommandError::not_made(format!("the virtual host of `{name}` is not in a file of yours: {path}"))
            .hint(format!("take it over as root: {}", as_root(&["adopt", name.as_str()]))))
    })
}

/// Asks about names that may be real and that no hosts line points here: they would be from now on.
fn ask_for_real_names(context: &Context, args: &AdoptArgs, site: &Site, asked: &mut bool) -> Result<(), CommandError> {
    let bytes = files::read_if_there(&context.machine.places.hosts)?.unwrap_or_default();
    let file = HostsFile::parse(&bytes);
    let new = site.names().filter(|name| file.entries_of(name).is_empty());
    real_names::ask(context, args.hide_real, new, asked)
}

#[cfg(test)]
pub(crate) mod schemas {
    pub(crate) use super::view::{AdoptedSites, HandSites};
}
