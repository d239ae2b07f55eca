//! `yandro map`.

mod desired;
mod folder;
mod project;
mod published;
mod request;

use camino::Utf8PathBuf;
pub(super) use desired::absolute;
use desired::desired;
use project::Project;
use request::requests;
use yandro_core::{
    Change, ChangeSet, CheckStep, Content, HostName, Role, ServerId, Site, SiteChange, SiteList, Switched, Symlinks,
    TakeOver, VirtualHost, map_site, map_sites,
};
use yandro_machine::{Found, SystemFresh, servers};

use super::apply::{Done, Planned, apply, done};
use super::prove::{Proven, prove};
use super::{reach, real_names};
use crate::args::MapArgs;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::{self, labelled, server_lines};
use crate::view::check::{FindingData, finding_data, finding_text};
use crate::view::{COMMAND, Data, GOOD, Outcome, STRONG, Ui, WARN, both_ways, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c MapArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    run_then(context, args, ui, || Ok(()))
}

/// Maps the sites; `written` runs when all is written, before the proof.
pub(crate) fn run_then<'c>(
    context: &'c Context,
    args: &'c MapArgs,
    ui: &mut Ui,
    written: impl Fn() -> Result<(), CommandError>,
) -> Result<Outcome<'c>, CommandError> {
    let project = if args.name.is_none() { Some(Project::here(context)?.ok_or_else(no_name)?) } else { None };
    if let Some(project) = &project {
        project.takes(args)?;
        project.agree(context, args)?;
    }
    let requests = if project.is_some() { Vec::new() } else { requests(context, args)? };
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
        Ok(Planned { set, starts: true, about: sites })
    };
    bring_about(
        context,
        ui,
        plan,
        written,
        Telling { is_root_given: project.is_some() || args.document_root.is_some(), ..Telling::default() },
    )
}

/// Neither a name is given, nor a project's file is here.
fn no_name() -> CommandError {
    CommandError::usage("which site? No name is given, and this folder has no `yandro.toml`")
        .hint("name it: yandro map NAME FOLDER, such as: yandro map saltmarsh.test .")
        .hint("or see what there is: yandro sites")
}

/// What is told of sites that were brought about.
#[derive(Default)]
pub(super) struct Telling {
    /// Whether the document root was said.
    pub(super) is_root_given: bool,
    /// What happened to a site, where it wasn't only mapped: a line for each.
    pub(super) first: Vec<String>,
}

/// Applies a plan of sites, proves each of them, and tells of it. `written` runs before the proof.
pub(super) fn bring_about<'c>(
    context: &'c Context,
    ui: &mut Ui,
    plan: impl FnMut() -> Result<Planned<Vec<Site>>, CommandError>,
    written: impl Fn() -> Result<(), CommandError>,
    telling: Telling,
) -> Result<Outcome<'c>, CommandError> {
    let mut proven = Vec::new();
    let done = done!(apply(context, ui, plan, |sites| {
        written()?;
        proven.clear();
        for site in sites {
            proven.push(prove(context, site)?);
        }
        Ok(())
    }));
    Ok(tell(context, done, proven, telling))
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
    let fresh = &mut SystemFresh::new();
    Ok(match sites {
        [site] => map_site(&observed, list, site, fresh)?,
        sites => map_sites(&mut observed, list, sites, fresh)?,
    })
}

fn needs_start(context: &Context, site: &Site) -> bool {
    site.server.is_some_and(|server| server.is_configured() && context.machine.is_real() && !context.runs(server))
}

/// The note for a new wildcard certificate: the server does not answer for every name that it covers.
fn wildcard(change: &SiteChange, site: &Site) -> Option<String> {
    let had_it = change.before.as_ref().is_some_and(|before| before.certificate.wildcard);
    (site.certificate.wildcard && !had_it).then(|| {
        format!(
            "the certificate covers every name directly below `{}`, but the server only answers for names that you map: map each name that you need, or add it with --alias",
            site.name
        )
    })
}

/// Notes about a site that was just mapped.
fn notes(context: &Context, set: &ChangeSet, site: &Site, is_given: bool) -> Vec<String> {
    let is_this = |change: &&SiteChange| change.after.as_ref().is_some_and(|after| after.name == site.name);
    let mut notes: Vec<String> = Vec::new();
    let change = set.sites.iter().find(is_this);
    if let Some(change) = change {
        notes.extend(chosen_root(change, site).filter(|_| !is_given));
        notes.extend(of_names(change, site));
    }
    if let Ok((_, list)) = context.list() {
        notes.extend(reach::note(context, site, &list.sites));
    }
    if let Some(found) = site.server.and_then(|id| context.server(id)) {
        if change.is_some_and(|change| change.before.is_none()) {
            notes.extend(displaced(context, found));
        }
        notes.extend(come_to_life(context, found, set));
    }
    if change.and_then(|change| change.before.as_ref()).is_some_and(|before| before.address != site.address) {
        notes.push(BROWSERS_REMEMBER.into());
    }
    if site.server == Some(ServerId::Elsewhere) {
        notes.extend(certificate_elsewhere(context, set, site));
    }
    notes
}

/// Notes about a site's folder, its certificate and its names.
fn of_names(change: &SiteChange, site: &Site) -> Vec<String> {
    let mut notes = Vec::new();
    if site.serving.symlinks == Symlinks::Anywhere {
        notes.push(format!(
            "symbolic links below {} are followed wherever they lead: whoever writes in that folder can have any file of yours served, but for those in hidden folders",
            site.content
        ));
    }
    notes.extend(wildcard(change, site));
    let known: Vec<&HostName> = change.before.iter().flat_map(Site::names).collect();
    for name in site.names().filter(|name| !known.contains(name)) {
        notes.extend(name.advice().map(|advice| format!("{}: {advice}", both_ways(name))));
    }
    notes
}

/// The document root that was chosen because the index is there.
fn chosen_root(change: &SiteChange, site: &Site) -> Option<String> {
    let below = own_root(site)?;
    let is_chosen = change.before.as_ref().and_then(own_root).as_ref() != Some(&below);
    is_chosen
        .then(|| format!("`{below}` is served, since the index is there; to serve the whole folder: --document-root ."))
}

fn own_root(site: &Site) -> Option<Utf8PathBuf> {
    match &site.content {
        Content::Folder { document_root, .. } => document_root.clone(),
        Content::Upstream(_) => None,
    }
}

/// The virtual hosts that answered unknown names until now.
fn displaced(context: &Context, found: &Found) -> Vec<String> {
    let told = |(place, address)| {
        format!(
            "{place} was the default virtual host on {address}; the first yandro site is now. To keep yours first, rename its file so that it sorts before `yandro-`"
        )
    };
    servers::displaced(&context.machine, found).into_iter().map(told).collect()
}

/// The need of another server for a new certificate.
fn certificate_elsewhere(context: &Context, set: &ChangeSet, site: &Site) -> Option<String> {
    let places = &context.machine.places;
    if !site.https.is_on() || set.change_of(&places.chain(&site.name)).is_none() {
        return None;
    }
    Some(if site.own_tls().is_some() {
        format!("what the dev server needs for TLS: yandro cert env {}", site.name)
    } else {
        let folder = places.certificates().join(site.name.as_str());
        format!("the server at {} needs this certificate and its key: {folder}", site.address)
    })
}

/// The person's own virtual hosts that count from now on, since an `Include` of their file was
/// switched on.
fn come_to_life(context: &Context, found: &Found, set: &ChangeSet) -> Option<String> {
    let switched: Vec<String> = set.switched.iter().filter_map(|(_, switched)| files_of_others(switched)).collect();
    let modules = enabled_modules(set);
    if switched.is_empty() && modules.is_empty() {
        return None;
    }
    let configuration = servers::configuration(&context.machine, found);
    let answering = configuration.answering();
    let is_theirs = |host: &VirtualHost| {
        let file = &host.place.file;
        let is_included = || switched.iter().any(|path| file.contains(path.split('*').next().unwrap_or(path)));
        !found.is_own(file.as_str().into())
            && (is_included() || modules.iter().any(|module| host.is_guarded_by(module)))
    };
    let mut alive: Vec<&VirtualHost> = Vec::new();
    for host in answering.iter().flat_map(|at| at.hosts.iter().copied()) {
        if is_theirs(host) && alive.iter().all(|own| own.place != host.place) {
            alive.push(host);
        }
    }
    let first = alive.first()?;
    let names: Vec<&str> = alive.iter().map(|host| host.name.as_deref().unwrap_or("one without a name")).collect();
    let place = first.place.written();
    Some(match modules.iter().find(|module| first.is_guarded_by(module)) {
        Some(module) => format!(
            "the module {module} is on now, and with it your own virtual hosts of {place} answer: {}",
            names.join(", ")
        ),
        None => {
            format!("{} is included now, and with it your own virtual hosts answer: {}", place.file, names.join(", "))
        }
    })
}

/// The modules that a change switches on.
fn enabled_modules(set: &ChangeSet) -> Vec<&str> {
    let by_link = set.steps.iter().filter_map(|step| match (&step.role, &step.change) {
        (Role::ModuleLink { module, loads: true, .. }, Change::Link(link)) if link.after.is_some() => {
            Some(module.as_str())
        }
        _ => None,
    });
    let by_line = set.switched.iter().filter_map(|(_, switched)| match switched {
        Switched::Module(module) => Some(module.as_str()),
        _ => None,
    });
    by_link.chain(by_line).collect()
}

fn files_of_others(switched: &Switched) -> Option<String> {
    match switched {
        Switched::Include { files, are_own: false } => Some(files.clone()),
        _ => None,
    }
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
    ui.say(&labelled(&lines));
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
