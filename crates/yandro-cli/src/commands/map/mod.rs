//! `yandro map`.

mod desired;
mod folder;
mod published;

use camino::Utf8PathBuf;
use desired::desired;
use yandro_core::{ChangeSet, CheckStep, Content, ServerId, Site, Switched, Symlinks, TakeOver, VirtualHost, map_site};
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

/// Maps a site; `written` runs when all is written, before the proof.
pub(crate) fn run_then<'c>(
    context: &'c Context,
    args: &'c MapArgs,
    ui: &mut Ui,
    written: impl Fn() -> Result<(), CommandError>,
) -> Result<Outcome<'c>, CommandError> {
    let mut proven = None;
    let (mut asked, mut asked_folder) = (false, false);
    let plan = || {
        let (text, list) = context.list()?;
        let site = desired(context, args, &list)?;
        let mut observed = context.observer().observe(text, &[&site], now())?;
        if args.take_over {
            observed.wishes.take_over = TakeOver::Yes;
        }
        let mut set = map_site(&observed, &list, &site, &mut SystemFresh::new())?;
        if args.create {
            folder::create(&mut set, &site);
        }
        folder::let_in(context, &mut set, &site, args.fix_permissions)?;
        if needs_start(context, &site) {
            folder::ports_free(context, &site)?;
        }
        real_names::ask(context, args.hide_real, site.names().filter(|name| list.owner(name).is_none()), &mut asked)?;
        published::ask(context, args.any_folder, &site, &list, &mut asked_folder)?;
        // A server that doesn't run has to, even where nothing has to be written.
        if needs_start(context, &site) {
            set.servers.extend(site.server);
        }
        Ok(Planned { set, starts: true, about: site })
    };
    let done = done!(apply(context, ui, plan, |site| {
        written()?;
        proven = Some(prove(context, site)?);
        Ok(())
    }));
    let proven = proven.unwrap_or(Proven::NotTried(String::new()));
    Ok(tell(context, done, proven, args.document_root.is_some()))
}

fn needs_start(context: &Context, site: &Site) -> bool {
    site.server.is_some_and(|server| server.is_configured() && context.machine.is_real() && !context.runs(server))
}

/// The note for a new wildcard certificate: the server does not answer for every name that it covers.
fn wildcard(set: &ChangeSet, site: &Site) -> Option<String> {
    let had_it = |before: Option<&Site>| before.is_some_and(|before| before.certificate.wildcard);
    let is_new = set.sites.iter().any(|change| !had_it(change.before.as_ref()));
    (site.certificate.wildcard && is_new).then(|| {
        format!(
            "the certificate covers every name directly below `{}`, but the server only answers for names that you map: map each name that you need, or add it with --alias",
            site.name
        )
    })
}

/// What is worth knowing of a site that was just mapped.
fn notes(context: &Context, done: &Done<Site>, is_given: bool) -> Vec<String> {
    let Done { set, about: site, .. } = done;
    let mut notes: Vec<String> = Vec::new();
    if !is_given {
        notes.extend(chosen_root(set, site));
    }
    if site.serving.symlinks == Symlinks::Anywhere && set.sites.iter().any(|change| change.after.is_some()) {
        notes.push(format!(
            "symbolic links below {} are followed wherever they lead: whoever writes in that folder can have any file of yours served, but for those in hidden folders",
            site.content
        ));
    }
    notes.extend(wildcard(set, site));
    let known = set.sites.iter().filter_map(|change| change.before.as_ref()).flat_map(Site::names).collect::<Vec<_>>();
    for name in site.names().filter(|name| !set.sites.is_empty() && !known.contains(name)) {
        notes.extend(name.advice().map(|advice| format!("{}: {advice}", both_ways(name))));
    }
    if let Ok((_, list)) = context.list() {
        notes.extend(reach::note(context, site, &list.sites));
    }
    if let Some(found) = site.server.and_then(|id| context.server(id)) {
        if set.sites.iter().any(|change| change.before.is_none()) {
            notes.extend(displaced(context, found));
        }
        notes.extend(come_to_life(context, found, set));
    }
    let is_elsewhere = |before: &Site| before.address != site.address;
    if set.sites.iter().any(|change| change.before.as_ref().is_some_and(is_elsewhere)) {
        notes.push(BROWSERS_REMEMBER.into());
    }
    if site.server == Some(ServerId::Elsewhere) {
        notes.extend(certificate_elsewhere(context, set, site));
    }
    notes
}

/// The document root that was chosen because the index is there.
fn chosen_root(set: &ChangeSet, site: &Site) -> Option<String> {
    let below = own_root(site)?;
    let is_chosen = set.sites.iter().any(|change| change.before.as_ref().and_then(own_root).as_ref() != Some(&below));
    is_chosen.then(|| {
        format!("`{below}` is served, since the index is there; to serve the whole folder: --document-own_root .")
    })
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

/// What a server elsewhere needs of a certificate that is new.
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
    if switched.is_empty() {
        return None;
    }
    let configuration = servers::configuration(&context.machine, found);
    let answering = configuration.answering();
    let is_theirs = |file: &str| {
        let is_own = found.is_own(file.into());
        !is_own && switched.iter().any(|path| file.contains(path.split('*').next().unwrap_or(path)))
    };
    let mut alive: Vec<&VirtualHost> = Vec::new();
    for host in answering.iter().flat_map(|at| at.hosts.iter().copied()) {
        if is_theirs(&host.place.file) && alive.iter().all(|own| own.place != host.place) {
            alive.push(host);
        }
    }
    let file = &alive.first()?.place.file;
    let names: Vec<&str> = alive.iter().map(|host| host.name.as_deref().unwrap_or("one without a name")).collect();
    Some(format!("{file} is included now, and with it your own virtual hosts answer: {}", names.join(", ")))
}

fn files_of_others(switched: &Switched) -> Option<String> {
    match switched {
        Switched::Include { files, are_own: false } => Some(files.clone()),
        _ => None,
    }
}

/// What a name's new address has to get past, besides the system's own caches.
pub(super) const BROWSERS_REMEMBER: &str = "browsers remember the old address for about a minute; to have them forget at once: chrome://net-internals/#dns in Chromium, about:networking#dns in Firefox, or a restart";

data! {
    /// Of `yandro map`.
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
}

impl Data for Mapped {}

fn tell(context: &Context, done: Done<Site>, proof: Proven, is_given: bool) -> Outcome<'_> {
    let site = &done.about;
    let url = context.url(site, site.server.unwrap_or(ServerId::BuiltIn));
    let (findings, proven) = match &proof {
        Proven::Seen(report) => (report.findings.clone(), report.is_proven()),
        Proven::NotTried(_) => (Vec::new(), false),
    };
    let status = if findings.is_empty() { Status::Well } else { Status::Findings };
    let data = Mapped {
        site: site.name.to_string(),
        url,
        content: site.content.to_string(),
        changed: change::paths(&done.set),
        proven,
        findings: findings.iter().map(finding_data).collect(),
    };
    let text = move |data: &Mapped, ui: &mut Ui| {
        show(context, &done, data, &proof, ui);
        for finding in &findings {
            ui.print(&finding_text(finding, ui.verbose));
        }
        for note in notes(context, &done, is_given) {
            ui.note(&note);
        }
        if done.set.change_of(&context.machine.places.root_certificate()).is_some() {
            ui.say(&format!(
                "\nHave this system and your browsers trust the new authority: {COMMAND}yandro authority trust{COMMAND:#}\n(`yandro authority show` tells what it may vouch for)."
            ));
        }
    };
    Outcome::new(data, text).with(status)
}

/// What was done, and what came of the proof.
fn show(context: &Context, done: &Done<Site>, data: &Mapped, proof: &Proven, ui: &mut Ui) {
    let Done { set, servers, about: site } = done;
    let url = &data.url;
    let unchanged = if set.is_empty() { " (nothing had to be changed)" } else { "" };
    ui.say(&format!("{STRONG}{}{STRONG:#} -> {}{unchanged}", both_ways(&site.name), site.content));
    let mut lines = change::summary(set, &context.machine.places);
    lines.extend(server_lines(set, servers));
    lines.push(match proof {
        Proven::Seen(_) if data.proven => {
            let how = if site.https.is_on() { ", over HTTPS" } else { "" };
            ("proof", format!("{GOOD}{url} answers from there{how}{GOOD:#}"))
        }
        Proven::Seen(report) if report.is_well() && report.findings.is_empty() => {
            let unproven = report.names.iter().find(|name| !name.is_proven);
            let why = unproven.map_or("", |name| name.detail(CheckStep::Proof));
            ("proof", format!("{url} answers, and where from can't be proven: {why}"))
        }
        Proven::Seen(_) => ("proof", format!("{WARN}written, but not all is well{WARN:#}")),
        Proven::NotTried(why) => ("proof", format!("{WARN}not proven{WARN:#}: {why}")),
    });
    ui.say(&labelled(&lines));
}
