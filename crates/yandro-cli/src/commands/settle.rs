//! `yandro settle`.

use std::collections::BTreeSet;

use serde_json::json;
use yandro_core::name::HostName;
use yandro_core::plan::{Orphans, Settlement, Step, settle};
use yandro_core::site::{DEFAULT_ADDRESS, ServerId, SiteList};
use yandro_machine::{SystemFresh, observe};

use super::apply::{Planned, apply};
use super::consent;
use crate::args::SettleArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError, Status};
use crate::view::change::{self, labelled, server_lines};
use crate::view::{COMMAND, DIM, STRONG, Ui, WARN, count};

pub(crate) fn run(context: &Context, args: &SettleArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    let put_back = put_back(context, args)?;
    let mut drift = None;
    let mut is_agreed = args.yes || context.preview;
    let plan = || {
        let planned = plan(context, &put_back)?;
        ask_to_remove(context, &planned.about.0.orphans, &mut is_agreed)?;
        if context.preview {
            drift = Some(report(&planned.about.0));
        }
        Ok(planned)
    };
    let done = apply(context, ui, plan, |_| Ok(()))?;
    let Some(done) = done else {
        if let Some(drift) = drift.filter(|drift| !drift.is_empty() && !ui.json) {
            ui.say(&drift);
        }
        return Ok(Status::Well);
    };

    let (settlement, sites) = &done.about;
    if ui.json {
        let changed: Vec<_> = done.set.steps.iter().map(Step::path).collect();
        ui.json(&json!({ "version": 1, "sites": sites, "changed": changed, "orphans": settlement.orphans.iter().map(ToString::to_string).collect::<Vec<_>>() }));
        return Ok(Status::Well);
    }
    if done.set.is_empty() {
        ui.say(&format!("{}: the machine is as the site list says; nothing was changed", count(*sites, "site")));
    } else {
        ui.say(&format!("{STRONG}{}{STRONG:#}: the machine is now as the site list says", count(*sites, "site")));
        let mut lines = change::summary(&done.set, &context.machine.places);
        lines.extend(server_lines(&done.set, &done.servers));
        ui.say(&labelled(&lines));
    }
    let drift = report(settlement);
    if !drift.is_empty() {
        ui.say(&drift);
    }
    if !done.set.is_empty() {
        ui.say(&format!("\nprove it: {COMMAND}yandro check{COMMAND:#}"));
    }
    Ok(Status::Well)
}

/// The sites whose edits are put back, each by its own name.
fn put_back(context: &Context, args: &SettleArgs) -> Result<BTreeSet<HostName>, CommandError> {
    let (_, list) = context.list()?;
    let of = |name: &HostName| {
        let site = list.owner(name).ok_or_else(|| {
            CommandError::usage(format!("there is no site `{name}`")).hint("see which there are: yandro sites")
        })?;
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

/// The settlement, and how many sites the list has.
fn plan(context: &Context, put_back: &BTreeSet<HostName>) -> Result<Planned<(Settlement, usize)>, CommandError> {
    let (text, list) = context.list()?;
    let mut observed = observe::observe_all(&context.machine, text, &list, now())?;
    observed.put_back.clone_from(put_back);
    let default = default_server(context, &list)?;
    let mut settlement = settle(&mut observed, &list, default, Orphans::Removed, &mut SystemFresh::new())?;
    let set = std::mem::take(&mut settlement.set);
    Ok(Planned { set, starts: true, about: (settlement, list.sites.len()) })
}

/// The server of sites that name none: asked for only where one leaves the choice open.
pub(super) fn default_server(context: &Context, list: &SiteList) -> Result<ServerId, CommandError> {
    if list.sites.iter().all(|site| site.server.is_some()) {
        return Ok(ServerId::BuiltIn);
    }
    context.server_of(None, DEFAULT_ADDRESS)
}

/// What differs beside what is missing.
fn report(settlement: &Settlement) -> String {
    let mut text = String::new();
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
    for (name, edit) in &settlement.edited {
        let what = match &edit.found {
            Some(found) => format!("line {} was edited by hand and stays: `{found}`", edit.line),
            None => format!("a line was taken out by hand of the section at line {}, and stays out", edit.line),
        };
        text += &format!(
            "\n{WARN}!{WARN:#} {STRONG}{name}{STRONG:#}: {what}\n    {DIM}yandro would write:{DIM:#} {}",
            edit.wanted
        );
    }
    let mut edited: Vec<&HostName> = settlement.edited.iter().map(|(name, _)| name).collect();
    edited.dedup();
    for name in edited {
        text += &format!("\n\nput the lines of {name} back: {COMMAND}yandro settle --put-back {name}{COMMAND:#}");
    }
    text
}
