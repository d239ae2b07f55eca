//! The default virtual hosts, and everything that is removed with the last site.

use std::collections::{BTreeMap, BTreeSet};

use super::certificate::{certificate, drop_certificate};
use super::change::{Access, Change, ChangeSet, LinkChange, Step};
use super::error::PlanError;
use super::fresh::Fresh;
use super::model::{is_refused_elsewhere, tell_after};
use super::observed::{Observed, ServerModel};
use super::places::Places;
use super::role::Role;
use crate::config::{Journal, OTHERS, Others, listened_port, others_certificate, others_file, others_name};
use crate::name::HostName;
use crate::server_path::ServerPath;
use crate::site::{Content, Https, ServerId, Site};

/// A site that was just planned on a server, with the lines that were changed for it.
pub(super) struct Placed<'p> {
    pub(super) server: &'p dyn ServerModel,
    pub(super) site: &'p Site,
    pub(super) journal: &'p Journal,
}

/// Keeps the virtual hosts for other names in step with a site that was just planned.
pub(super) fn keep_others(
    set: &mut ChangeSet,
    observed: &Observed,
    placed: &Placed<'_>,
    fresh: &mut dyn Fresh,
) -> Result<(), PlanError> {
    let server = placed.server;
    let (name, own, dialect) = (others_name(), server.own(), server.dialect());
    let path = own.layout.site_file(&name);
    let existing = own.site_files.get(&name);
    let before = existing.map(|text| Others::read(dialect, text)).unwrap_or_default();
    let now = others_with(&before, set, placed);
    let link = own.layout.site_link(&name);
    let old = link.as_ref().and_then(|(link, _)| own.site_links.get(link.file_name().unwrap_or_default()).cloned());
    let is_linked = link.is_none() || old.is_some();
    // Another list's certificate does as well: the file is shared.
    let shared = shared_certificate(observed, server);
    let has_certificate = shared.is_some() || observed.chains.contains_key(&name) && observed.keys.contains_key(&name);
    // The other server may refuse by the same certificate.
    let is_secure = !now.https.is_empty() || has_certificate && is_refused_elsewhere(set, observed, server.id());
    // A list may have a thousand sites, and this is looked at for each.
    if set.steps.is_empty() && before == now && is_linked && existing.is_some() && has_certificate == is_secure {
        return Ok(());
    }
    let pretended = pretended(is_secure, server.id());
    let mut files = server.site_files(&observed.places, &pretended);
    match shared {
        Some([certificate, key]) => {
            files.certificate = certificate;
            files.key = key;
        }
        None => certificate(set, observed, &pretended, fresh)?,
    }
    let text = others_file(dialect, existing.map(Vec::as_slice), &before, &now, &files);
    let count = set.steps.len();
    let role = Role::DefaultHost(server.id());
    set.file(role.clone(), path, (existing.cloned(), Some(text)), Access::Public);
    if let Some((link, target)) = link {
        set.link(role, link, old, Some(target));
    }
    tell_after(set, count, server.id());
    Ok(())
}

/// Wanted content of the file for unknown host names once `site` exists.
fn others_with(before: &Others, set: &ChangeSet, placed: &Placed<'_>) -> Others {
    let Placed { server, site, journal } = *placed;
    let kept = |known: &BTreeSet<u16>, own: Vec<u16>| {
        let own = if site.serving.by_address { Vec::new() } else { own };
        let ports = known.iter().copied().chain(own);
        // Theirs comes first, or is the only one: names without a site are answered there.
        ports.filter(|port| !server.is_theirs(&format!("*:{port}"), known.contains(port))).collect::<BTreeSet<u16>>()
    };
    let loaded = |step: &Step| match (&step.role, &step.change) {
        (Role::ModuleLink { server: of, module, loads: true }, Change::Link(LinkChange { after: Some(_), .. }))
            if *of == server.id() =>
        {
            Some(module.clone())
        }
        _ => None,
    };
    Others {
        http: kept(&before.http, site.http_ports(80)),
        https: kept(&before.https, site.https_ports(443)),
        name_bucket: before.name_bucket.max(server.name_bucket(site)),
        modules: before.modules.iter().cloned().chain(set.steps.iter().filter_map(loaded)).collect(),
        journal: before.journal.clone().then(journal),
    }
}

/// Has each server give up the ports that no site on it has any more, so that another program or server can
/// have them: the default virtual hosts there, and the lines by which it listens.
pub(super) fn release_ports(set: &mut ChangeSet, observed: &Observed) {
    for server in observed.configured() {
        release_ports_of(set, observed, server);
    }
}

fn release_ports_of(set: &mut ChangeSet, observed: &Observed, server: &dyn ServerModel) {
    let (name, own, dialect) = (others_name(), server.own(), server.dialect());
    let path = own.layout.site_file(&name);
    let planned = set.change_of(&path).map(|change| change.after.as_deref().cloned());
    let Some(existing) = planned.unwrap_or_else(|| own.site_files.get(&name).cloned()) else { return };
    let before = Others::read(dialect, &existing);
    let may_go = |port: &u16| !USUAL_PORTS.contains(port) && !server.is_foreign_port(*port);
    let lines_with = |is_meant: &dyn Fn(&u16) -> bool| {
        before.journal.split(|line| listened_port(line).is_some_and(|port| is_meant(&port)))
    };
    if !before.http.iter().chain(&before.https).any(may_go) && lines_with(&may_go).0 == Journal::default() {
        // Nothing to look for in the files of a thousand sites.
        return;
    }
    let Some(used) = used_ports(set, server) else { return };
    let is_unused = |port: &u16| may_go(port) && !used.contains(port);
    let (gone, rest) = lines_with(&is_unused);
    let mut now = Others { journal: rest, ..before.clone() };
    now.http.retain(|port| !is_unused(port));
    now.https.retain(|port| !is_unused(port));
    if now == before {
        return;
    }
    let count = set.steps.len();
    let pretended = pretended(!now.https.is_empty(), server.id());
    let mut files = server.site_files(&observed.places, &pretended);
    if let Some([certificate, key]) = others_certificate(dialect, &existing) {
        files.certificate = certificate;
        files.key = key;
    }
    let text = others_file(dialect, Some(&existing), &before, &now, &files);
    set.change_file(Role::DefaultHost(server.id()), &path, own.site_files.get(&name), text);
    if now.https.is_empty() && !before.https.is_empty() && !is_refused_elsewhere(set, observed, server.id()) {
        set.without(&observed.places.chain(&name));
        set.without(&observed.places.key(&name));
        drop_certificate(set, observed, &name);
    }
    for file in gone.files() {
        let Some(shared) = server.shared_text(file) else { continue };
        let here = own.view.here_or_same(file);
        let text = set.change_of(&here).and_then(|change| change.after.as_deref()).map_or(shared, Vec::as_slice);
        let after = gone.taken_back(file, text);
        set.change_file(Role::SharedConfig(server.id()), &here, Some(&shared.to_vec()), after);
    }
    tell_after(set, count, server.id());
}

/// Ports that stay whether a site has them or not: most have these anyway.
const USUAL_PORTS: [u16; 2] = [80, 443];

/// The ports of all sites of yandro's that a server has once the set is done; `None` where a file wasn't read.
fn used_ports(set: &ChangeSet, server: &dyn ServerModel) -> Option<BTreeSet<u16>> {
    let (own, dialect) = (server.own(), server.dialect());
    let mut used = BTreeSet::new();
    let planned = set.steps.iter().filter_map(|step| match &step.change {
        Change::File(change) => Some((own.layout.site_of_file(&change.path)?, change.after.as_deref())),
        _ => None,
    });
    let planned: BTreeMap<HostName, Option<&Vec<u8>>> = planned.collect();
    let names = own.own_sites.iter().chain(planned.keys()).filter(|name| name.as_str() != OTHERS);
    for name in names.collect::<BTreeSet<_>>() {
        let text = match planned.get(name) {
            Some(None) => continue,
            Some(Some(text)) => text,
            None => own.site_files.get(name)?,
        };
        let tree = dialect.parse(text).ok()?;
        used.extend(tree.all(dialect.host()).into_iter().flat_map(|host| dialect.ports(host)));
    }
    Some(used)
}

/// The certificate and key of another list that the virtual hosts for other names have.
fn shared_certificate(observed: &Observed, server: &dyn ServerModel) -> Option<[ServerPath; 2]> {
    if server.own().lacks_others_certificate {
        return None;
    }
    foreign_certificate(&observed.places, server, server.own().site_files.get(&others_name())?)
}

/// The certificate and key in a file of the virtual hosts for other names, if they are another list's.
pub(super) fn foreign_certificate(places: &Places, server: &dyn ServerModel, text: &[u8]) -> Option<[ServerPath; 2]> {
    let found = others_certificate(server.dialect(), text)?;
    let this = server.own().view.there_or_same(&places.certificates());
    (!found[0].starts_with(this)).then_some(found)
}

/// Takes this list's certificate for other names away, if no server has it any more.
pub(super) fn drop_unused_certificate(set: &mut ChangeSet, observed: &Observed) {
    let name = others_name();
    let this = observed.places.chain(&name);
    let has_it = |server: &dyn ServerModel| {
        let text = server.own().site_files.get(&name);
        let found = text.and_then(|text| others_certificate(server.dialect(), text));
        found.is_some_and(|[certificate, _]| certificate == server.own().view.there_or_same(&this))
    };
    if !observed.configured().into_iter().any(has_it) {
        drop_certificate(set, observed, &name);
    }
}

/// Renews the certificate for other names, if there is one and its time comes.
pub(super) fn renew_others(set: &mut ChangeSet, observed: &Observed, fresh: &mut dyn Fresh) -> Result<(), PlanError> {
    for server in observed.configured() {
        let is_there = server.own().site_files.contains_key(&others_name());
        if is_there && observed.chains.contains_key(&others_name()) {
            certificate(set, observed, &pretended(true, server.id()), fresh)?;
        }
    }
    Ok(())
}

/// A stand-in site for unknown host names.
fn pretended(over_https: bool, id: ServerId) -> Site {
    Site {
        server: Some(id),
        https: if over_https { Https::Only } else { Https::Off },
        ..Site::new(others_name(), Content::folder("/"))
    }
}
