//! `yandro authority widen`, `narrow` and `replace`: another authority in the place of this one.

use yandro_core::{
    Authority, AuthorityCertificates, Change, Constraints, HostName, IpNet, OTHERS, Role, Step, date, replace_authority,
};
use yandro_machine::{SystemFresh, observe};

use super::own::{none_yet, root_nickname};
use super::trust::{Chosen, Root, TrustWish};
use crate::args::StoresArg;
use crate::commands::apply::{Planned, apply, done};
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::view::change::{labelled, server_lines};
use crate::view::{COMMAND, Data, Outcome, STRONG, Ui, count, data};

pub(super) fn widen<'c>(
    context: &'c Context,
    suffixes: &[String],
    networks: &[String],
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let (suffixes, networks) = (read_suffixes(suffixes)?, read_networks(networks)?);
    for name in &suffixes {
        if name.is_public_suffix() {
            return Err(CommandError::usage(format!(
                "the names below `{name}` belong to many people: whoever got at your authority's key could pose as all of them to you"
            ))
            .hint(format!("give the domain that is yours, such as saltmarsh.{name}")));
        }
    }
    let change = |old: &Constraints| {
        let wider = old.with(&suffixes, &networks);
        if wider == *old {
            return Err(CommandError::usage("the authority can issue for all of that already; nothing was changed"));
        }
        Ok(wider)
    };
    another(context, change, ui)
}

pub(super) fn narrow<'c>(
    context: &'c Context,
    suffixes: &[String],
    networks: &[String],
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let (suffixes, networks) = (read_suffixes(suffixes)?, read_networks(networks)?);
    let change = |old: &Constraints| {
        let narrower = old.without(&suffixes, &networks);
        if narrower == *old {
            return Err(CommandError::usage("the authority was not widened by any of that; nothing was changed")
                .hint("see what it can issue for: yandro authority show"));
        }
        Ok(narrower)
    };
    another(context, change, ui)
}

pub(super) fn replace<'c>(context: &'c Context, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    another(context, |old| Ok(old.clone()), ui)
}

/// Makes the other authority, and moves every certificate and all trust to it.
fn another<'c>(
    context: &'c Context,
    change: impl Fn(&Constraints) -> Result<Constraints, CommandError>,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let machine = &context.machine;
    let places = &machine.places;
    let chosen = Chosen::of(context, StoresArg::All, TrustWish::Move);
    let done = done!(apply(context, ui, || plan_another(context, &change, &chosen), |_| Ok(())));
    let (made, former) = &done.about;
    let is_moved = |step: &&Step| matches!(&step.change, Change::Trust(change) if change.after);
    let stores = done.set.steps.iter().filter(is_moved).count() + usize::from(done.set.trust.is_some());
    let sites = done.set.steps.iter().filter(|step| is_chain(step)).count();
    let elsewhere = observe::issued(machine)?.1.iter().filter(|own| done.set.change_of(&own.path).is_some()).count();
    let data = Replaced {
        root: places.root_certificate().to_string(),
        former: former.clone(),
        stores,
        certificates: sites + elsewhere,
        suffixes: made.constraints().suffixes.clone(),
    };
    let mut lines = vec![
        ("can issue for", made.constraints().suffixes_in_words()),
        ("", made.constraints().networks_in_words()),
        ("valid", format!("until {}", date(made.root_facts.not_after))),
        ("issued anew", format!("{} for sites, {elsewhere} for others", count(sites, "certificate"))),
        (
            "trust",
            if stores == 0 {
                "no store trusted the former one".into()
            } else {
                format!("moved in {}", count(stores, "trust store"))
            },
        ),
        ("former", format!("kept in {}, for `yandro undo`", places.former_authority(former))),
    ];
    lines.extend(server_lines(&done.set, &done.servers));
    let title = made.title().to_owned();
    Ok(Outcome::new(data, move |_, ui| {
        ui.say(&format!("{STRONG}{title}{STRONG:#} took the place of the former authority"));
        ui.say(&labelled(&lines));
        chosen.notes(context, &done.set, ui);
        ui.note(
            "whatever the former root was exported to (phones, containers) needs the new one: yandro authority export",
        );
        ui.say(&format!("\nprove it: {COMMAND}yandro check{COMMAND:#}"));
    }))
}

fn is_chain(step: &Step) -> bool {
    match (&step.role, &step.change) {
        (Role::Certificate(name), Change::File(_)) => name.as_str() != OTHERS,
        _ => false,
    }
}

/// Plans the other authority and gives it, with the id of the former one.
fn plan_another(
    context: &Context,
    change: impl Fn(&Constraints) -> Result<Constraints, CommandError>,
    chosen: &Chosen,
) -> Result<Planned<(Authority, String)>, CommandError> {
    let places = &context.machine.places;
    let (text, list) = context.list()?;
    let mut observed = context.observer().observe_all(text, &list, now())?;
    let old = observed.authority.as_ref().ok_or_else(none_yet)?;
    // The new key goes behind the passphrase of the old one, so that has to be known.
    old.key()?;
    let constraints = change(old.authority.constraints())?;
    let former = old.id();
    if !old.is_locked() {
        observed.wishes.passphrase = None;
    }
    let mut set = replace_authority(observed, &list, &constraints, &mut SystemFresh::new())?;
    let text = |path| {
        let bytes = set.change_of(path).and_then(|change| change.after.as_deref());
        String::from_utf8_lossy(bytes.map(Vec::as_slice).unwrap_or_default()).into_owned()
    };
    let (root, issuing) = (text(&places.root_certificate()), text(&places.issuing_certificate()));
    let made =
        Authority::read(&AuthorityCertificates { root: root.clone(), issuing }).map_err(CommandError::not_made)?;
    chosen.plan(context, &mut set, Root { nickname: &root_nickname(&made), pem: &root }, TrustWish::Move)?;
    Ok(Planned { set, starts: false, about: (made, former) })
}

data! {
    /// Data of `yandro authority widen`, `narrow` and `replace`.
    struct Replaced {
        /// The file with the new root certificate.
        root: String,
        /// The id of the former authority.
        former: String,
        /// In how many trust stores it took the place of the former.
        stores: usize,
        /// How many certificates were issued again.
        certificates: usize,
        suffixes: Vec<String>,
    }
}

impl Data for Replaced {}

fn read_suffixes(texts: &[String]) -> Result<Vec<HostName>, CommandError> {
    // A leading dot or star is how people write "all below": the constraint has neither.
    let bare = |text: &String| text.trim_start_matches("*.").trim_start_matches('.').to_owned();
    texts.iter().map(|text| HostName::parse(&bare(text)).map_err(CommandError::from)).collect()
}

fn read_networks(texts: &[String]) -> Result<Vec<IpNet>, CommandError> {
    texts.iter().map(|text| read_network(text)).collect()
}

fn read_network(text: &str) -> Result<IpNet, CommandError> {
    Constraints::parse_network(text)
        .map_err(|error| CommandError::usage(error).hint("give one such as 192.168.0.0/16, or a single address"))
}
