//! Notes about a site that was just mapped.

use std::net::ToSocketAddrs as _;

use camino::Utf8PathBuf;
use yandro_core::{
    Change, ChangeSet, Content, HostName, Role, ServerId, Site, SiteChange, Switched, Symlinks, VirtualHost,
};
use yandro_machine::{Found, servers};

use super::super::reach;
use super::BROWSERS_REMEMBER;
use crate::as_root::as_root;
use crate::context::Context;
use crate::view::both_ways;

/// Words in the names of variables that hold secrets.
const SECRETS: [&str; 5] = ["PASSWORD", "PASSWD", "SECRET", "TOKEN", "KEY"];

/// The note for a new wildcard certificate: the server does not answer for every name that it covers.
fn wildcard(change: &SiteChange, site: &Site) -> Option<String> {
    let had_it = change.before.as_ref().is_some_and(|before| before.certificate.wildcard);
    (site.certificate.wildcard && !had_it && !site.serving.tenants).then(|| {
        format!(
            "the certificate covers every name directly below `{0}`, but the server only answers for names that you map; to have it answer all of them: yandro map {0} --tenants",
            site.name
        )
    })
}

/// Notes about a site that was just mapped.
pub(super) fn notes(context: &Context, set: &ChangeSet, site: &Site, is_given: bool) -> Vec<String> {
    let is_this = |change: &&SiteChange| change.after.as_ref().is_some_and(|after| after.name == site.name);
    let mut notes: Vec<String> = Vec::new();
    let change = set.sites.iter().find(is_this);
    if let Some(change) = change {
        notes.extend(chosen_root(change, site).filter(|_| !is_given));
        notes.extend(of_names(change, site));
    }
    notes.extend(unresolved(context, site));
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
    let before = change.before.as_ref().map(|before| &before.serving.variables);
    let secrets = site.serving.variables.iter().filter(|own| before.is_none_or(|before| !before.contains(own)));
    // The built-in server has them from the site list, which only its user reads.
    let is_written = site.server != Some(ServerId::BuiltIn);
    let secrets = secrets.filter(|own| is_written && own.plain().is_some());
    let secret = secrets.map(|own| own.name.as_str()).find(|name| SECRETS.iter().any(|word| name.contains(word)));
    notes.extend(secret.map(|name| {
        format!(
            "the value of {name} is in the virtual host now, a file that every user of this computer can read; to keep it in a file of yours: --php-as-owner --env {name}@FILE"
        )
    }));
    let known: Vec<&HostName> = change.before.iter().flat_map(Site::names).collect();
    for name in site.names().filter(|name| !known.contains(name)) {
        notes.extend(name.advice().map(|advice| format!("{}: {advice}", both_ways(name))));
    }
    notes
}

/// The names below `localhost` that have no line in the hosts file, and that the resolver here doesn't know.
fn unresolved(context: &Context, site: &Site) -> Option<String> {
    let is_known = |name: &&HostName| site.server.is_some_and(|server| site.is_known_by_itself(name, server));
    let is_unresolved = |name: &&HostName| (name.as_str(), 0).to_socket_addrs().is_err();
    let name = site.names().filter(is_known).find(is_unresolved).filter(|_| context.machine.is_real())?;
    Some(format!(
        "browsers and curl take `{name}` for this computer by themselves; other programs don't here, since the resolver of this system doesn't know names below `localhost`. To have them know it: {}",
        as_root(&["hosts", "point", name.as_str(), "127.0.0.1"])
    ))
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
        !found.is_own(&file.into()) && (is_included() || modules.iter().any(|module| host.is_guarded_by(module)))
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
