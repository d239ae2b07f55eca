//! `yandro map`.

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use serde_json::json;
use yandro_core::hosts::TakeOver;
use yandro_core::name::HostName;
use yandro_core::plan::map_site;
use yandro_core::site::{Content, DEFAULT_ADDRESS, Https, ServerKind, Site, SiteList, Upstream};
use yandro_machine::{SystemFresh, apache, observe};

use super::apply::{Done, Planned, apply};
use super::prove::{Proven, prove};
use super::real_names;
use crate::args::MapArgs;
use crate::context::{Context, now};
use crate::error::{self, CommandError, Status};
use crate::view::change::{self, labelled, server_line};
use crate::view::check::finding_text;
use crate::view::{COMMAND, GOOD, STRONG, Ui, WARN, both_ways};

pub(crate) fn run(context: &Context, args: &MapArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    run_then(context, args, ui, || Ok(()))
}

/// Maps a site; `written` runs when all is written, before the proof.
pub(crate) fn run_then(
    context: &Context,
    args: &MapArgs,
    ui: &mut Ui,
    written: impl Fn() -> Result<(), CommandError>,
) -> Result<Status, CommandError> {
    let mut proven = None;
    let mut asked = false;
    let plan = || {
        let (text, list) = context.list()?;
        let site = desired(context, args, &list)?;
        let mut observed = observe::observe(&context.machine, text, &[&site], now())?;
        if args.take_over {
            observed.take_over = TakeOver::Yes;
        }
        let mut set = map_site(&observed, &list, &site, &mut SystemFresh::new())?;
        real_names::ask(context, args.hide_real, &site, &list, &mut asked)?;
        // A server that doesn't run has to, even where nothing has to be written.
        set.server = set.server.or(site.server.filter(|_| needs_start(context, &site)));
        Ok(Planned { set, starts: true, about: site })
    };
    let done = apply(context, ui, plan, |site| {
        written()?;
        proven = Some(prove(context, site)?);
        Ok(())
    })?;
    let proven = proven.unwrap_or(Proven::NotTried(String::new()));
    Ok(done.map_or(Status::Well, |done| tell(context, &done, &proven, args.document_root.is_some(), ui)))
}

/// The site as the arguments want it, on top of what it was.
fn desired(context: &Context, args: &MapArgs, list: &SiteList) -> Result<Site, CommandError> {
    let name = HostName::parse(&args.name)?;
    let before = list.site(&name);
    if before.is_none()
        && let Some(owner) = list.owner(&name)
    {
        return Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
            .hint(format!("change that site: yandro map {}", owner.name)));
    }
    let aliases = match before {
        _ if args.no_alias => Vec::new(),
        Some(before) if args.aliases.is_empty() => before.aliases.clone(),
        _ => error::names(&args.aliases)?,
    };
    let mut names: Vec<_> = std::iter::once(&name).chain(&aliases).collect();
    names.sort();
    if let Some(twice) = names.windows(2).find_map(|pair| (pair[0] == pair[1]).then_some(pair[0])) {
        return Err(CommandError::usage(format!("`{twice}` is given twice")));
    }
    let address = args.address.or(before.map(|before| before.address)).unwrap_or(DEFAULT_ADDRESS);
    // A site that moves to or from another machine is served by whatever is there.
    let is_same_place = |before: &&Site| {
        before.address == address || (before.server != Some(ServerKind::Elsewhere) && context.is_own(address))
    };
    let server_before = before.filter(is_same_place).and_then(|before| before.server);
    let chosen = args.https.map(Into::into).or(args.plain.then_some(Https::Off));
    Ok(Site {
        name,
        aliases,
        content: content(context, args, before)?,
        address,
        server: Some(context.server_of(args.server.map(Into::into).or(server_before), address)?),
        https: chosen.or(before.map(|before| before.https)).unwrap_or_default(),
    })
}

fn content(context: &Context, args: &MapArgs, before: Option<&Site>) -> Result<Content, CommandError> {
    let (folder, root_before) = match (&args.target, before.map(|before| &before.content)) {
        (Some(target), _) if target.contains("://") => {
            if args.document_root.is_some() {
                return Err(CommandError::usage("an upstream has no document root: leave `--document-root` out"));
            }
            return Ok(Content::Upstream(Upstream::parse(target).map_err(CommandError::usage)?));
        }
        (Some(target), _) => (absolute(&context.current, Utf8Path::new(target))?, None),
        (None, Some(Content::Folder { folder, document_root })) => (folder.clone(), document_root.clone()),
        (None, Some(upstream)) => return Ok(upstream.clone()),
        (None, None) => (context.current.clone(), None),
    };
    folder_there(&folder, "folder")?;
    let document_root = match &args.document_root {
        Some(root) if root == "." => None,
        Some(root) => Some(below(root)?),
        None if args.target.is_some() || before.is_none() => observe::obvious_document_root(&folder),
        None => root_before,
    };
    if let Some(root) = &document_root {
        folder_there(&folder.join(root), "document root")?;
    }
    Ok(Content::Folder { folder, document_root })
}

/// An absolute path without `.`; `..` is resolved as the system does.
fn absolute(current: &Utf8Path, path: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
    let joined = current.join(path);
    if joined.components().any(|part| part == Utf8Component::ParentDir) {
        return joined.canonicalize_utf8().map_err(|_| missing(&joined, "folder"));
    }
    Ok(joined.components().collect())
}

fn below(root: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
    let parts: Utf8PathBuf = root.components().filter(|part| *part != Utf8Component::CurDir).collect();
    if parts.components().all(|part| matches!(part, Utf8Component::Normal(_))) {
        return Ok(parts);
    }
    Err(CommandError::usage(format!(
        "the document root `{root}` is not below the folder: give a path within it, such as `public`"
    )))
}

fn folder_there(path: &Utf8Path, what: &str) -> Result<(), CommandError> {
    match path.metadata() {
        Ok(meta) if meta.is_dir() => Ok(()),
        Ok(_) => Err(CommandError::usage(format!(
            "`{path}` is a file, and a site needs a folder: give the folder that it is in"
        ))),
        Err(_) => Err(missing(path, what)),
    }
}

fn missing(path: &Utf8Path, what: &str) -> CommandError {
    CommandError::usage(format!("there is no {what} `{path}`"))
        .hint(format!("make it, or look for a slip in the path: mkdir -p {path}"))
}

fn needs_start(context: &Context, site: &Site) -> bool {
    site.server == Some(ServerKind::Apache) && context.control().is_some_and(|apache| apache.running().is_none())
}

/// What is worth knowing of a site that was just mapped.
fn notes(context: &Context, done: &Done<Site>, is_given: bool) -> Vec<String> {
    let Done { set, about: site, .. } = done;
    let mut notes: Vec<String> = Vec::new();
    let root = |site: &Site| match &site.content {
        Content::Folder { document_root, .. } => document_root.clone(),
        Content::Upstream(_) => None,
    };
    let is_chosen = set.sites.iter().any(|change| change.before.as_ref().and_then(root) != root(site));
    if let Some(below) = root(site).filter(|_| is_chosen && !is_given) {
        notes.push(format!(
            "`{below}` is served, since the index is there; to serve the whole folder: --document-root ."
        ));
    }
    let known = set.sites.iter().filter_map(|change| change.before.as_ref()).flat_map(Site::names).collect::<Vec<_>>();
    for name in site.names().filter(|name| !set.sites.is_empty() && !known.contains(name)) {
        notes.extend(name.advice().map(|advice| format!("{}: {advice}", both_ways(name))));
    }
    let is_new = set.sites.iter().any(|change| change.before.is_none());
    if is_new && site.server == Some(ServerKind::Apache) {
        notes.extend(apache::displaced(&context.machine).into_iter().map(|(place, address)| {
            format!(
                "on {address} names that are no sites were answered by {place}, and are by the first site now: give its file a name that comes before `yandro-`"
            )
        }));
    }
    let moved =
        set.sites.iter().any(|change| change.before.as_ref().is_some_and(|before| before.address != site.address));
    if moved {
        notes.push(BROWSERS_REMEMBER.into());
    }
    if site.server == Some(ServerKind::Elsewhere)
        && site.https.is_on()
        && set.change_of(&context.machine.places.chain(&site.name)).is_some()
    {
        notes.push(format!(
            "the server at {} needs this certificate and its key: {}",
            site.address,
            context.machine.places.certificates().join(site.name.as_str())
        ));
    }
    notes
}

/// What a name's new address has to get past, besides the system's own caches.
pub(super) const BROWSERS_REMEMBER: &str = "browsers remember the old address for about a minute; to have them forget at once: chrome://net-internals/#dns in Chromium, about:networking#dns in Firefox, or a restart";

fn tell(context: &Context, done: &Done<Site>, proof: &Proven, is_given: bool, ui: &mut Ui) -> Status {
    let Done { set, brought_up, about: site } = done;
    let server = site.server.unwrap_or(ServerKind::BuiltIn);
    let url = context.url(site, server);
    let (findings, proven) = match proof {
        Proven::Seen(report) => (report.findings.clone(), report.is_well()),
        Proven::NotTried(_) => (Vec::new(), false),
    };
    if ui.json {
        ui.json(&json!({
            "version": 1, "site": site.name.as_str(), "url": url, "content": site.content.to_string(),
            "changed": set.steps.iter().map(yandro_core::plan::Step::path).collect::<Vec<_>>(),
            "proven": proven, "findings": findings,
        }));
    } else {
        let unchanged = if set.is_empty() { " (nothing had to be changed)" } else { "" };
        ui.say(&format!("{STRONG}{}{STRONG:#} -> {}{unchanged}", both_ways(&site.name), site.content));
        let mut lines = change::summary(set, &context.machine.places);
        if set.server.is_some() {
            lines.push(("server", server_line(server, *brought_up)));
        }
        lines.push(match proof {
            Proven::Seen(_) if proven => {
                let how = if site.https.is_on() { ", over HTTPS" } else { "" };
                ("proof", format!("{GOOD}{url} answers from there{how}{GOOD:#}"))
            }
            Proven::Seen(_) => ("proof", format!("{WARN}written, but not all is well{WARN:#}")),
            Proven::NotTried(why) => ("proof", format!("{WARN}not proven{WARN:#}: {why}")),
        });
        ui.say(&labelled(&lines));
        for finding in &findings {
            ui.print(&finding_text(finding, ui.verbose));
        }
        for note in notes(context, done, is_given) {
            ui.note(&note);
        }
        if set.change_of(&context.machine.places.root_certificate()).is_some() {
            ui.say(&format!(
                "\nHave the system trust the new authority: {COMMAND}yandro authority trust{COMMAND:#}; browsers: import {COMMAND}{}{COMMAND:#}\n(`yandro authority show` tells what it may vouch for).",
                context.machine.places.root_certificate()
            ));
        }
    }
    if findings.is_empty() { Status::Well } else { Status::Findings }
}
