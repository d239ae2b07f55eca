//! `yandro settle`.

use std::collections::BTreeSet;

use camino::Utf8PathBuf;
use yandro_core::HandEdit;
use yandro_core::{HostName, Orphans, Settlement, Site, map_sites, settle};
use yandro_machine::SystemFresh;

use super::apply::{Applied, Done, Planned, apply};
use super::consent;
use super::follow::{self, Moved};
use super::serve::background;
use crate::args::SettleArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError};
use crate::view::change;
use crate::view::{COMMAND, DIM, Data, Outcome, STRONG, Ui, WARN, count, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c SettleArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let put_back = put_back(context, args)?;
    let mut drift = None;
    let is_verbose = ui.verbose;
    let mut is_agreed = args.yes || context.preview;
    let plan = || {
        let planned = plan(context, &put_back, args.follow)?;
        ask_to_remove(context, &planned.about.settlement.orphans, &mut is_agreed)?;
        if context.preview {
            drift = Some(report(context, &planned.about, is_verbose));
        }
        Ok(planned)
    };
    let done = match apply(context, ui, plan, |_| Ok(()))? {
        Applied::Done(done) => *done,
        Applied::Preview(set) => {
            let drift = drift.filter(|drift| !drift.is_empty());
            return Ok(change::preview(*set).then(move |ui| drift.iter().for_each(|drift| ui.say(drift))));
        }
    };
    let sites: Vec<Site> = done.set.sites.iter().filter_map(|change| change.after.clone()).collect();
    let built_in = if context.machine.is_real() { background::bring_up(context, &sites) } else { None };
    let orphans = done.about.settlement.orphans.iter().map(ToString::to_string).collect();
    let data = Settled { sites: done.about.sites, changed: change::paths(&done.set), orphans };
    Ok(Outcome::new(data, move |_, ui| {
        show(context, &done, ui);
        if let Some(note) = &built_in {
            ui.note(note);
        }
    }))
}

data! {
    /// Data of `yandro settle`.
    struct Settled {
        /// How many sites the list has.
        sites: usize,
        /// The paths that were changed.
        changed: Vec<String>,
        /// The names that belonged to no site of the list, and are taken away.
        orphans: Vec<String>,
    }
}

impl Data for Settled {}

/// What a run is about.
struct Settling {
    settlement: Settlement,
    /// How many sites the list has.
    sites: usize,
    /// Those that follow this computer's address.
    moved: Vec<Moved>,
    /// Those that could.
    left: Vec<Moved>,
}

fn show(context: &Context, done: &Done<Settling>, ui: &mut Ui) {
    let sites = &done.about.sites;
    let is_verbose = ui.verbose;
    if change::is_quiet(&done.set) {
        ui.say(&format!("{}: the machine is as the site list says; nothing was changed", count(*sites, "site")));
    } else {
        ui.say(&format!("{STRONG}{}{STRONG:#}: the machine is now as the site list says", count(*sites, "site")));
        ui.say(&done.summary(context));
    }
    let drift = report(context, &done.about, is_verbose);
    if !drift.is_empty() {
        ui.say(&drift);
    }
    if !change::is_quiet(&done.set) {
        ui.say(&format!("\nprove it: {COMMAND}yandro check{COMMAND:#}"));
    }
}

/// The sites whose edits are overwritten, each by its own name.
fn put_back(context: &Context, args: &SettleArgs) -> Result<BTreeSet<HostName>, CommandError> {
    if args.put_back.is_empty() {
        return Ok(BTreeSet::new());
    }
    let (_, list) = context.list()?;
    let of = |name: &HostName| {
        let site = list.owner(name).ok_or_else(|| error::no_site(name))?;
        Ok(site.name.clone())
    };
    error::names(&args.put_back)?.iter().map(of).collect()
}

/// Asks before sites go that are on this machine and no longer in the list: it may have been cut
/// short by accident.
fn ask_to_remove(context: &Context, orphans: &[HostName], is_agreed: &mut bool) -> Result<(), CommandError> {
    if orphans.is_empty() || *is_agreed {
        return Ok(());
    }
    let names: Vec<String> = orphans.iter().map(HostName::to_unicode).collect();
    let (these, are) = if names.len() == 1 { ("this name is", "is") } else { ("these names are", "are") };
    let fact = format!(
        "{these} on this machine and no longer in {}: {}; what yandro wrote for {} would be removed",
        context.machine.places.site_list(),
        names.join(", "),
        if are == "is" { "it" } else { "them" },
    );
    let option = "if that is what you want, add `--yes`; if the list was cut short by accident, restore it first";
    consent::ask(&fact, "Remove what yandro wrote for them?", option)?;
    *is_agreed = true;
    Ok(())
}

fn plan(context: &Context, put_back: &BTreeSet<HostName>, follows: bool) -> Result<Planned<Settling>, CommandError> {
    let (text, mut list) = context.list()?;
    let (moved, left) = match follow::moved(context, &list) {
        moved if follows => (moved, Vec::new()),
        left => (Vec::new(), left),
    };
    let mut observed = context.observer().observe_all(text, &list, now())?;
    observed.wishes.put_back.clone_from(put_back);
    let default = context.default_server(&list)?;
    // They come first: what is settled is the list with their new address.
    let sites = moved.iter().map(|moved| &moved.site);
    let mut set = map_sites(&mut observed, &list, sites.clone(), &mut SystemFresh::new())?;
    for site in sites {
        list = list.with(site.clone());
    }
    let mut settlement = settle(&mut observed, &list, default, Orphans::Removed, &mut SystemFresh::new())?;
    set.merge(std::mem::take(&mut settlement.set));
    Ok(Planned { set, starts: true, about: Settling { settlement, sites: list.sites.len(), moved, left } })
}

/// How many edits of a site are shown one by one.
const FEW: usize = 3;

/// The file of a site's virtual hosts.
fn file_of(context: &Context, name: &HostName) -> Option<Utf8PathBuf> {
    let (_, list) = context.list().ok()?;
    Some(context.server(list.site(name)?.server?)?.layout.site_file(name))
}

/// A line that a person edited.
fn by_hand(context: &Context, name: &HostName, edit: &HandEdit) -> String {
    if edit.wanted.is_empty() {
        let found = edit.found.as_deref().unwrap_or_default();
        let file = file_of(context, name)
            .map_or_else(|| format!("line {}", edit.line), |file| format!("{file}:{}", edit.line));
        return format!(
            "\n{WARN}!{WARN:#} {STRONG}{name}{STRONG:#}: conflict: you edited a line that the site list no longer asks for; it stays: `{found}`\n    {DIM}remove it if you don't want it:{DIM:#} {file}"
        );
    }
    let what = match &edit.found {
        Some(found) if edit.conflicts => {
            format!(
                "conflict: line {} was edited by hand, and the site list says something else by now; the line stays: `{found}`",
                edit.line
            )
        }
        None if edit.conflicts => format!(
            "conflict: a line was taken out by hand of the section at line {}, and the site list changes it; it stays out",
            edit.line
        ),
        Some(found) => format!("line {} was edited by hand and stays: `{found}`", edit.line),
        None => format!("a line was taken out by hand of the section at line {}, and stays out", edit.line),
    };
    format!("\n{WARN}!{WARN:#} {STRONG}{name}{STRONG:#}: {what}\n    {DIM}yandro would write:{DIM:#} {}", edit.wanted)
}

/// Differences that are not missing parts.
fn report(context: &Context, about: &Settling, is_verbose: bool) -> String {
    let (settlement, mut text) = (&about.settlement, String::new());
    for Moved { site, from } in &about.moved {
        text += &follow::line(&site.name, *from, site.address);
    }
    text.extend(follow::note(&about.left));
    for (old, new) in &settlement.renamed {
        text += &format!("\n{STRONG}{old}{STRONG:#} has the name {STRONG}{new}{STRONG:#} now");
    }
    for name in &settlement.orphans {
        text += &format!(
            "\n{WARN}!{WARN:#} {STRONG}{name}{STRONG:#} was written by yandro and belongs to no site of the list: it is taken away"
        );
    }
    for name in &settlement.unowned {
        text += &format!(
            "\n{WARN}!{WARN:#} {STRONG}{name}{STRONG:#} was written by an earlier yandro that didn't say for which site list, and it isn't in yours: it stays. If it is yours, map it again; otherwise the user whose site it is runs yandro settle"
        );
    }
    let mut edited: Vec<&HostName> = settlement.edited.iter().map(|(name, _)| name).collect();
    edited.dedup();
    for name in &edited {
        let edits: Vec<&HandEdit> =
            settlement.edited.iter().filter(|(own, _)| own == *name).map(|(_, edit)| edit).collect();
        let is_told = |edit: &&&HandEdit| is_verbose || edits.len() <= FEW || edit.conflicts;
        for edit in edits.iter().filter(is_told) {
            text += &by_hand(context, name, edit);
        }
        let rest = edits.len() - edits.iter().filter(is_told).count();
        if rest > 0 {
            text += &format!(
                "\n{WARN}!{WARN:#} {STRONG}{name}{STRONG:#}: {} not as yandro would write them, and stay so; each of them: {COMMAND}yandro settle --verbose{COMMAND:#}",
                count(rest, "line")
            );
        }
    }
    let is_overwritten =
        |name: &HostName| settlement.edited.iter().any(|(own, edit)| own == name && !edit.wanted.is_empty());
    for name in edited.into_iter().filter(|name| is_overwritten(name)) {
        text += &format!("\n\nto overwrite your edits of {name}: {COMMAND}yandro settle --put-back {name}{COMMAND:#}");
    }
    text
}
