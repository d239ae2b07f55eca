//! `yandro map`.

mod application;
mod desired;
mod each;
mod folder;
mod notes;
mod php;
mod project;
mod published;
mod request;
mod steps;

pub(super) use desired::absolute;
use desired::desired;
use each::Each;
use notes::notes;
use project::Project;
use request::requests;
#[cfg(test)]
pub(crate) use steps::Steps;
use yandro_core::{ChangeSet, CheckStep, ServerId, Site, SiteList, TakeOver, map_site, map_sites};
use yandro_machine::SystemFresh;

use super::apply::{Done, Planned, apply, done};
use super::prove::{Proven, prove};
use super::real_names;
use super::serve::background;
use crate::args::MapArgs;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::{self, labelled, server_lines};
use crate::view::check::{FindingData, finding_data, finding_text};
use crate::view::{COMMAND, Data, GOOD, Outcome, STRONG, Ui, WARN, both_ways, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c MapArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    if args.database.is_none() && (args.new_database.import.is_some() || args.new_database.admin.is_some()) {
        return Err(CommandError::usage("a dump and an administrator are for a new database")
            .hint("add `--database`; for a database that is there: yandro database NAME import FILE"));
    }
    let project = if args.name.is_none() && args.each.is_none() { Project::here(context)? } else { None };
    let names = match &project {
        Some(project) => project.names(),
        None => requests(context, args).unwrap_or_default().into_iter().map(|request| request.name).collect(),
    };
    let mapped = if args.database.is_some() || !args.readdress.is_empty() {
        application::run(context, args, ui)?
    } else {
        run_then(context, args, ui, || Ok(()))?
    };
    let steps = steps::after(context, args, &names, project.as_ref().map(Project::text))?;
    Ok(match steps {
        Some(steps) => mapped.and("steps", steps),
        None => mapped,
    })
}

/// Maps the sites; `written` runs when all is written, before the proof.
pub(crate) fn run_then<'c>(
    context: &'c Context,
    args: &'c MapArgs,
    ui: &mut Ui,
    written: impl Fn() -> Result<(), CommandError>,
) -> Result<Outcome<'c>, CommandError> {
    run_with(context, args, ui, written, |_| {})
}

/// The same; `besides` adds to what is changed.
fn run_with<'c>(
    context: &'c Context,
    args: &'c MapArgs,
    ui: &mut Ui,
    written: impl Fn() -> Result<(), CommandError>,
    besides: impl Fn(&mut ChangeSet),
) -> Result<Outcome<'c>, CommandError> {
    let each = args.each.as_ref().map(|folder| Each::of(context, args, folder)).transpose()?;
    let project = match args.name {
        None if each.is_none() => Some(Project::here(context)?.ok_or_else(no_name)?),
        _ => None,
    };
    if let Some(project) = &project {
        project.takes(args)?;
        project.agree(context, args)?;
    }
    let requests = match (&project, &each) {
        (Some(_), _) => Vec::new(),
        (None, Some(each)) => {
            each.agree(context, args)?;
            each.requests()
        }
        (None, None) => requests(context, args)?,
    };
    let (mut asked, mut asked_folder) = (false, false);
    let plan = || {
        let (text, list) = context.list()?;
        let sites: Vec<Site> = match &project {
            Some(project) => project.desired(context, args, &list)?,
            None => requests.iter().map(|request| desired(context, args, request, &list)).collect::<Result<_, _>>()?,
        };
        let mut set = plan(context, args, text, &list, &sites)?;
        if let Some(project) = &project {
            project.note(context, &mut set);
        }
        for site in &sites {
            if args.create {
                folder::create(&mut set, site);
            }
            let new = site.names().filter(|name| list.owner(name).is_none());
            real_names::ask(context, args.hide_real, new, &mut asked)?;
            published::ask(context, args.any_folder, site, &list, &mut asked_folder)?;
            can_be_served(context, &mut set, site, args.fix_permissions)?;
        }
        besides(&mut set);
        Ok(Planned { set, starts: true, about: sites })
    };
    // Agreed to once, it counts for later commands, too.
    let written = || {
        if args.name_servers {
            context.machine.write_private(&context.machine.places.agreed_name_servers(), b"")?;
        }
        written()
    };
    bring_about(
        context,
        ui,
        plan,
        written,
        Telling {
            is_root_given: project.is_some() || each.is_some() || args.document_root.is_some(),
            ..Telling::default()
        },
    )
}

/// Neither a name is given, nor a project's file is here.
fn no_name() -> CommandError {
    CommandError::usage("which site? No name is given, and this folder has no `yandro.toml`")
        .hint("name it: yandro map NAME FOLDER, such as: yandro map saltmarsh.test .")
        .hint("or see what there is: yandro sites")
}

/// The output after sites were mapped.
#[derive(Default)]
pub(super) struct Telling {
    /// Whether the document root was said.
    pub(super) is_root_given: bool,
    /// Further lines about what happened to a site.
    pub(super) first: Vec<String>,
    /// A note on the built-in server, if it was started or could not be.
    pub(super) built_in: Option<String>,
}

/// Applies a plan of sites, proves each of them, and tells of it. `written` runs before the proof.
pub(super) fn bring_about<'c>(
    context: &'c Context,
    ui: &mut Ui,
    plan: impl FnMut() -> Result<Planned<Vec<Site>>, CommandError>,
    written: impl Fn() -> Result<(), CommandError>,
    telling: Telling,
) -> Result<Outcome<'c>, CommandError> {
    let (mut proven, mut built_in) = (Vec::new(), None);
    let done = done!(apply(context, ui, plan, |sites| {
        written()?;
        proven.clear();
        if context.machine.is_real() {
            built_in = background::bring_up(context, sites);
        }
        for site in sites {
            proven.push(prove(context, site)?);
        }
        Ok(())
    }));
    Ok(tell(context, done, proven, Telling { built_in, ..telling }))
}

/// Looks whether a site can be served before anything is written, and has its server started if it doesn't run.
pub(super) fn can_be_served(
    context: &Context,
    set: &mut ChangeSet,
    site: &Site,
    fixes: bool,
) -> Result<(), CommandError> {
    folder::visible(context, site)?;
    folder::let_in(context, set, site, fixes)?;
    folder::ports_allowed(context, site)?;
    if site.server == Some(ServerId::BuiltIn) && context.machine.is_real() {
        background::can_start(context)?;
    }
    // Start a stopped server even if no file changes.
    if needs_start(context, site) {
        folder::ports_free(context, site)?;
        set.servers.extend(site.server);
    }
    Ok(())
}

/// Plans the sites as one change.
fn plan(
    context: &Context,
    args: &MapArgs,
    text: Option<String>,
    list: &SiteList,
    sites: &[Site],
) -> Result<ChangeSet, CommandError> {
    let mut observed = context.observer().observe(text, &sites.iter().collect::<Vec<_>>(), now())?;
    if args.take_over {
        observed.wishes.take_over = TakeOver::Yes;
    }
    observed.wishes.name_servers |= args.name_servers || context.preview;
    let fresh = &mut SystemFresh::new();
    Ok(match sites {
        [site] => map_site(&observed, list, site, fresh)?,
        sites => map_sites(&mut observed, list, sites, fresh)?,
    })
}

fn needs_start(context: &Context, site: &Site) -> bool {
    site.server.is_some_and(|server| server.is_configured() && context.machine.is_real() && !context.runs(server))
}

/// A hint about browsers' caches after a name's address has changed.
pub(super) const BROWSERS_REMEMBER: &str = "browsers remember the old address for about a minute; to have them forget at once: chrome://net-internals/#dns in Chromium, about:networking#dns in Firefox, or a restart";

data! {
    /// Data of `yandro map`.
    struct Mapped {
        site: String,
        url: String,
        /// The project's folder, or the upstream.
        content: String,
        /// The paths that were changed.
        changed: Vec<String>,
        /// Whether its answer is proven to come from there.
        proven: bool,
        findings: Vec<FindingData>,
    }

    /// Data of `yandro map` with several names.
    struct MappedSites {
        /// Each site; the paths are those of the whole change.
        sites: Vec<Mapped>,
    }
}

impl Data for Mapped {}
impl Data for MappedSites {}

fn tell(context: &Context, done: Done<Vec<Site>>, proofs: Vec<Proven>, telling: Telling) -> Outcome<'_> {
    let mapped: Vec<Mapped> =
        done.about.iter().zip(&proofs).map(|(site, proof)| mapped(context, &done.set, site, proof)).collect();
    let is_well = proofs.iter().all(|proof| proof.findings().is_empty());
    let status = if is_well { Status::Well } else { Status::Findings };
    let text = move |ui: &mut Ui| show(context, &done, &proofs, &telling, ui);
    let outcome = match <[Mapped; 1]>::try_from(mapped) {
        Ok([only]) => Outcome::new(only, move |_, ui| text(ui)),
        Err(sites) => Outcome::new(MappedSites { sites }, move |_, ui| text(ui)),
    };
    outcome.with(status)
}

fn mapped(context: &Context, set: &ChangeSet, site: &Site, proof: &Proven) -> Mapped {
    Mapped {
        site: site.name.to_string(),
        url: context.url(site),
        content: site.content.to_string(),
        changed: change::paths(set),
        proven: proof.is_proven(),
        findings: proof.findings().iter().map(finding_data).collect(),
    }
}

/// Prints the changes, the proof of each site, what was found, and what is worth knowing.
fn show(context: &Context, done: &Done<Vec<Site>>, proofs: &[Proven], telling: &Telling, ui: &mut Ui) {
    let Done { set, servers, about: sites } = done;
    let unchanged = if change::is_quiet(set) { " (nothing had to be changed)" } else { "" };
    telling.first.iter().for_each(|line| ui.say(line));
    for site in sites {
        ui.say(&format!("{STRONG}{}{STRONG:#} -> {}{unchanged}", both_ways(&site.name), site.content));
    }
    let mut lines = change::summary(set, &context.machine.places);
    lines.extend(server_lines(set, servers));
    for (site, proof) in sites.iter().zip(proofs) {
        let line = ("proof", proof_line(site, &context.url(site), proof));
        // Sites that can't be proven for the same reason share a line.
        if lines.last() != Some(&line) {
            lines.push(line);
        }
    }
    if !lines.is_empty() {
        ui.say(&labelled(&lines));
    }
    for finding in proofs.iter().flat_map(Proven::findings) {
        ui.print(&finding_text(finding, ui.verbose));
    }
    let mut told = Vec::new();
    for note in sites.iter().flat_map(|site| notes(context, set, site, telling.is_root_given)) {
        if !told.contains(&note) {
            ui.note(&note);
            told.push(note);
        }
    }
    telling.built_in.iter().for_each(|note| ui.note(note));
    if set.change_of(&context.machine.places.root_certificate()).is_some() {
        ui.say(&format!(
            "\nMake this system and your browsers trust the new authority: {COMMAND}yandro authority trust{COMMAND:#}\n(`yandro authority show` prints which names it can issue for)."
        ));
    }
}

/// The result of the proof, in a line.
pub(super) fn proof_line(site: &Site, url: &str, proof: &Proven) -> String {
    match proof {
        Proven::Seen(_) if proof.is_proven() => {
            let how = if site.https.is_on() { ", over HTTPS" } else { "" };
            format!("{GOOD}{url} answers from there{how}{GOOD:#}")
        }
        Proven::Seen(report) if report.is_well() && report.findings.is_empty() => {
            let unproven = report.names.iter().find(|name| !name.is_proven);
            let why = unproven.map_or("", |name| name.detail(CheckStep::Proof));
            format!("{url} answers, but from where can't be proven: {why}")
        }
        Proven::Seen(_) => format!("{WARN}written, but with problems{WARN:#}"),
        Proven::NotTried(why) => format!("{WARN}not proven{WARN:#}: {why}"),
    }
}
