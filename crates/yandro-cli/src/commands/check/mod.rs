//! `yandro check`.

mod fix;
pub(crate) mod url;
mod watch;

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use camino::Utf8Path;
use yandro_core::{ServerId, Site, SiteList, SiteReport};
use yandro_machine::{Limit, files};

use super::{look, reach};
use crate::args::CheckArgs;
use crate::as_root::as_root;
use crate::context::{Context, now, stamp};
use crate::error::{self, CommandError, Status};
use crate::signals;
use crate::view::{Outcome, Ui, check as view};

pub(crate) fn run<'c>(context: &'c Context, args: &'c CheckArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    if args.names.iter().any(|name| url::is_url(name)) {
        return url::run(context, args);
    }
    let (_, list) = context.list()?;
    let sites = chosen(args, &list)?;
    if args.watch && !sites.is_empty() {
        return watch::run(context, args, ui);
    }
    let within = Limit::seconds(args.timeout);
    let is_streamed = sites.len() >= MANY && !args.fix && !ui.is_data() && !ui.is_quiet();
    let (mut reports, mut took) =
        if is_streamed { streamed(context, &sites, within, ui)? } else { looked(context, &sites, within)? };
    if args.fix && reports.iter().any(|report| !report.findings.is_empty()) {
        let is_changed = fix::run(context, &list, &reports, ui)?;
        if context.preview {
            return Ok(Outcome::printed().with(Status::Findings));
        }
        if is_changed {
            (reports, took) = looked(context, &sites, within)?;
        }
    }
    write_reports(context, args, &reports, ui)?;
    let well = reports.iter().all(|report| report.findings.is_empty());
    let reached =
        if ui.verbose { sites.iter().filter_map(|site| reached_from(context, site)).collect() } else { Vec::new() };
    let outcome = Outcome::new(view::to_data(&reports, took), move |_, ui| {
        show((&reports, is_streamed), &reached, took, ui);
    });
    Ok(outcome.with(if well { Status::Well } else { Status::Findings }))
}

/// From how many sites on the rows of the table are shown as they come.
const MANY: usize = 20;

/// Writes the files that are asked for.
fn write_reports(context: &Context, args: &CheckArgs, reports: &[SiteReport], ui: &mut Ui) -> Result<(), CommandError> {
    let written = [(&args.report, view::page as fn(&[SiteReport], &str) -> String), (&args.junit, view::junit)];
    for (file, make) in written {
        if let Some(file) = file {
            let file = context.given(file);
            write(&file, &make(reports, &stamp(now())))?;
            ui.note(&format!("written: {file}"));
        }
    }
    Ok(())
}

fn show((reports, is_streamed): (&[SiteReport], bool), reached: &[String], took: Duration, ui: &mut Ui) {
    if reports.is_empty() {
        ui.say("No site is mapped yet. Map one: yandro map NAME FOLDER");
        return;
    }
    if is_streamed {
        view::print_findings(ui, reports, took);
    } else {
        view::print(ui, reports, took);
    }
    let untested: BTreeSet<ServerId> =
        reports.iter().filter(|report| report.is_untested).map(|own| own.server).collect();
    for server in untested {
        ui.note(&format!(
            "not looked at: whether {server} accepts its changed files, since only root can test them: {}",
            as_root(&["check"])
        ));
    }
    for line in reached {
        ui.say(line);
    }
}

/// The computers that can reach a site, in a line; `None` if yandro can't see that.
fn reached_from(context: &Context, site: &Site) -> Option<String> {
    let words = if reach::is_open(context, site)? { "this computer and its network" } else { "this computer only" };
    Some(format!("{}: reached from {words}", site.name))
}

/// Looks at the sites closely, and how long that took.
fn looked(context: &Context, sites: &[Site], within: Limit) -> Result<(Vec<SiteReport>, Duration), CommandError> {
    let started = Instant::now();
    let runtime = signals::runtime()?;
    let looked = runtime.block_on(signals::unless_interrupted(look::closely(context, sites, within, None)));
    let reports = looked.ok_or_else(interrupted)??;
    Ok((reports, started.elapsed()))
}

/// The same, with the table's rows as they come.
fn streamed(
    context: &Context,
    sites: &[Site],
    within: Limit,
    ui: &mut Ui,
) -> Result<(Vec<SiteReport>, Duration), CommandError> {
    let started = Instant::now();
    let runtime = signals::runtime()?;
    let mut rows = view::StreamedTable::of(sites, ui.width());
    ui.say(&rows.heading());
    let mut tell = |report: &SiteReport| ui.say(&rows.of_site(report));
    let looked = look::closely(context, sites, within, Some(&mut tell));
    let reports = runtime.block_on(signals::unless_interrupted(looked)).ok_or_else(interrupted)??;
    Ok((reports, started.elapsed()))
}

fn interrupted() -> CommandError {
    CommandError::not_made("interrupted; no proof file was left behind")
}

/// Writes a report over the last one: nothing else is written over.
fn write(file: &Utf8Path, text: &str) -> Result<(), CommandError> {
    if let Some(before) = files::read_if_there(file)?
        && !before.is_empty()
        && !before.windows(view::MARK.len()).any(|own| own == view::MARK.as_bytes())
    {
        return Err(CommandError::usage(format!("the file {file} exists already, and is not a report of yandro's"))
            .hint("name another, or take it away first"));
    }
    Ok(files::write_for_all(file, text.as_bytes())?)
}

fn chosen(args: &CheckArgs, list: &SiteList) -> Result<Vec<Site>, CommandError> {
    if args.names.is_empty() {
        let enabled = list.clone().enabled().sites;
        return if enabled.is_empty() && !list.sites.is_empty() { Err(all_disabled()) } else { Ok(enabled) };
    }
    let mut sites: Vec<Site> = Vec::new();
    for name in &error::names(&args.names)? {
        let site = list.answering(name).ok_or_else(|| {
            error::no_site(name)
                .hint(format!("map it: yandro map {name} FOLDER"))
                .hint(format!("see what answers there: yandro check https://{name}/"))
        })?;
        if site.disabled {
            return Err(out_of_use(site));
        }
        if !sites.contains(site) {
            sites.push(site.clone());
        }
    }
    Ok(sites)
}

fn all_disabled() -> CommandError {
    CommandError::usage("every site of the list is out of use, and there is nothing to check")
        .hint("bring them back: yandro enable --all")
}

pub(super) fn out_of_use(site: &Site) -> CommandError {
    CommandError::usage(format!("the site `{}` is out of use", site.name))
        .hint(format!("bring it back: yandro enable {}", site.name))
}
