//! The part of planning that is the same for all configured servers.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use camino::Utf8Path;

use super::certificate::drop_certificate;
use super::change::{Access, Change, ChangeSet, Step};
use super::error::PlanError;
use super::observed::{Observed, ServerModel};
use super::places::Places;
use super::role::{Role, site_file_role};
use crate::config::{
    OTHERS, Others, PathView, Place, SiteFile, SiteFiles, brought_back, list_of, others_name, set_aside, site_file_name,
};
use crate::host_port::HostPort;
use crate::name::HostName;
use crate::server_path::ServerPath;
use crate::site::{ListId, ServerId, Site};

impl dyn ServerModel + '_ {
    /// A site's files as the server sees them.
    pub(super) fn site_files(&self, places: &Places, site: &Site) -> SiteFiles {
        let there = |path: &Utf8Path| self.own().view.there_or_same(path);
        SiteFiles {
            document_root: site.document_root().map(|root| there(&root)),
            certificate: there(&places.chain(&site.name)),
            key: there(&places.key(&site.name)),
            extra: site.serving.extra.as_deref().map(there),
            logs: site.serving.logs.folder().map(there),
            server: self.traits(),
            list: Some(places.list.clone()),
        }
    }

    /// The owner of a site's file.
    pub(super) fn owner(&self, places: &Places, name: &HostName) -> Owner {
        let own = self.own();
        let Some(text) = own.site_files.get(name).or_else(|| own.disabled_files.get(name)) else {
            return Owner::Nobody;
        };
        match list_of(text) {
            Some(list) if list == places.list => Owner::This,
            Some(list) => Owner::Other(list),
            // A build before lists were named: its certificate tells.
            None => {
                let certificates = self.own().view.there_or_same(&places.certificates());
                let is_this = memchr::memmem::find(text, certificates.as_str().as_bytes()).is_some();
                if is_this { Owner::This } else { Owner::Unknown }
            }
        }
    }

    /// Refuses a site with a folder or file that the server doesn't see.
    pub(super) fn sees(&self, places: &Places, site: &Site) -> Result<(), PlanError> {
        let logs = site.serving.logs.folder().map(Utf8Path::to_owned);
        let certificate = site.https.is_on().then(|| places.certificates());
        let needed = [site.document_root(), certificate, site.serving.extra.clone(), logs];
        match needed.into_iter().flatten().find(|path| self.own().view.there(path).is_none()) {
            None => Ok(()),
            Some(path) => Err(PlanError::NotSeen { server: self.id(), path }),
        }
    }
}

/// The owner of a site's file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Owner {
    /// The site has no file.
    Nobody,
    /// The list that is planned for.
    This,
    /// Another list.
    Other(ListId),
    /// It names none: an earlier build wrote it.
    Unknown,
}

/// Whether one of these addresses has a port.
pub(crate) fn is_on_port(addresses: &BTreeSet<String>, port: u16) -> bool {
    addresses.iter().any(|address| HostPort::port_of(address) == Some(port))
}

impl Observed {
    /// The server that a file or link belongs to, if its configuration changes with it.
    pub fn server_of(&self, path: &Utf8Path) -> Option<ServerId> {
        let is_of = |server: &&dyn ServerModel| {
            let layout = &server.own().layout;
            let is_module =
                layout.links.as_ref().is_some_and(|links| path.parent() == Some(links.enabled_modules.as_path()));
            let is_site = layout.site_of_file(path).is_some() || layout.site_of_disabled(path).is_some();
            is_module || is_site || layout.is_own(path) || is_shared(*server, path)
        };
        self.configured().into_iter().find(is_of).map(ServerModel::id)
    }
}

/// Whether a path is a file of a server that its sites share.
pub(super) fn is_shared(server: &dyn ServerModel, path: &Utf8Path) -> bool {
    let own = server.own();
    let there = own.view.there(path);
    there.is_some_and(|there| server.shared_text(&there).is_some()) && own.layout.site_of_file(path).is_none()
}

/// Refuses a site of which somebody else's virtual host has a name.
pub(crate) fn not_taken(
    view: &PathView,
    site: &Site,
    foreign_names: &BTreeMap<String, Place>,
) -> Result<(), PlanError> {
    let taken = site.names().find_map(|name| Some((name, foreign_names.get(name.as_str())?)));
    let Some((name, place)) = taken else { return Ok(()) };
    let path = ServerPath::new(&place.file);
    let file = if path.is_absolute() { view.here_or_same(&path).into_string() } else { place.file.clone() };
    Err(PlanError::VirtualHostTaken { place: Place { file, line: place.line }, name: name.clone() })
}

/// Plans the file of a site, and the link that enables it.
pub(crate) fn write_site(
    set: &mut ChangeSet,
    observed: &Observed,
    server: &dyn ServerModel,
    before: Option<&Site>,
    site: &Site,
) -> Result<(), PlanError> {
    let own = server.own();
    let path = own.layout.site_file(&site.name);
    server.sees(&observed.places, site)?;
    if let Owner::Other(list) = server.owner(&observed.places, &site.name) {
        return Err(PlanError::OtherList { name: site.name.clone(), list, path });
    }
    server.site_files(&observed.places, site).check(&site.serving)?;
    if let Some(folder) = site.serving.logs.folder() {
        // The server makes the files in it, and no folder.
        set.folder(Role::Logs, folder.to_owned(), Access::Public);
    }
    let text = site_text(observed, server, before, site)?;
    let existing = own.site_files.get(&site.name);
    let role = Role::VirtualHost(site.name.clone());
    set.file(role.clone(), path, (existing.cloned(), Some(text)), Access::Public);
    let aside = own.disabled_files.get(&site.name).cloned();
    set.file(role.clone(), own.layout.disabled_file(&site.name), (aside, None::<Vec<u8>>), Access::Public);
    if let Some((link, target)) = own.layout.site_link(&site.name) {
        let old_target = own.site_links.get(link.file_name().unwrap_or_default()).cloned();
        if let Some(other) = old_target.as_ref().filter(|old| **old != target) {
            return Err(PlanError::LinkTaken { path: link, target: other.clone() });
        }
        set.link(role, link, old_target, Some(target));
    }
    Ok(())
}

/// The text of a site's file: with what a person edited in it, also where the site had another name or is out of use.
fn site_text(
    observed: &Observed,
    server: &dyn ServerModel,
    before: Option<&Site>,
    site: &Site,
) -> Result<Vec<u8>, PlanError> {
    let own = server.own();
    let files = |site: &Site| server.site_files(&observed.places, site);
    let path = || own.layout.site_file(&site.name);
    if let Some(brought) = observed.wishes.adopted.get(&site.name) {
        return brought
            .written(server.dialect(), site, &files(site))
            .map_err(|error| PlanError::SiteFile { path: path(), error });
    }
    // Without what was wanted before, what differs is nobody's choice.
    let is_kept = !observed.wishes.put_back.contains(&site.name);
    let is_here = |before: &&Site| is_kept && before.server == Some(server.id());
    let earlier = before.filter(is_here).map(|before| (before, files(before)));
    let earlier = earlier.as_ref().map(|(before, files)| (*before, files));
    let of = |name: &HostName| {
        let aside = own.disabled_files.get(name).map(|text| Cow::Owned(brought_back(text)));
        own.site_files.get(name).map(|text| Cow::Borrowed(text.as_slice())).or(aside)
    };
    let brought = before.filter(|before| before.name != site.name);
    let brought = brought.filter(|before| server.owner(&observed.places, &before.name) == Owner::This);
    let existing = brought.and_then(|before| of(&before.name)).or_else(|| of(&site.name));
    let file = SiteFile {
        existing: existing.as_deref(),
        before: earlier,
        now: (site, &files(site)),
        keeps_edits: observed.wishes.keeps_edits,
    };
    file.written(server.dialect()).map_err(|error| PlanError::SiteFile { path: path(), error })
}

/// Plans to keep the virtual hosts of a site that is out of use where no server reads them.
pub(super) fn set_site_aside(
    set: &mut ChangeSet,
    observed: &Observed,
    server: &dyn ServerModel,
    before: Option<&Site>,
    site: &Site,
) -> Result<(), PlanError> {
    let own = server.own();
    let names = [Some(&site.name), before.map(|before| &before.name)];
    let is_written = |name: &HostName| own.site_files.contains_key(name) || own.disabled_files.contains_key(name);
    if !names.into_iter().flatten().any(is_written) {
        return Ok(());
    }
    let path = own.layout.disabled_file(&site.name);
    if let Owner::Other(list) = server.owner(&observed.places, &site.name) {
        return Err(PlanError::OtherList { name: site.name.clone(), list, path });
    }
    let text = set_aside(&site_text(observed, server, before, site)?);
    remove_site_file(set, &observed.places, server, &site.name);
    set.without(&path);
    let role = Role::VirtualHost(site.name.clone());
    set.file(role, path, (own.disabled_files.get(&site.name).cloned(), Some(text)), Access::Public);
    Ok(())
}

/// Has the server told, if there is a step beyond the first `count` that concerns it.
pub(crate) fn tell_after(set: &mut ChangeSet, count: usize, id: ServerId) {
    if set.steps.iter().skip(count).any(|step| !matches!(step.change, Change::Folder { .. })) {
        set.servers.insert(id);
    }
}

/// Takes a site's file and link away, if they are there and not another list's.
pub(super) fn remove_site_file(set: &mut ChangeSet, places: &Places, server: &dyn ServerModel, name: &HostName) {
    let (count, own) = (set.steps.len(), server.own());
    let has_file = own.site_files.contains_key(name) || own.disabled_files.contains_key(name);
    let has_link = || own.site_links.contains_key(&site_file_name(name));
    if !has_file && !has_link() || matches!(server.owner(places, name), Owner::Other(_)) {
        return;
    }
    let role = site_file_role(name.clone(), server.id());
    if let Some((link, target)) = own.layout.site_link(name) {
        // A link with another target is not yandro's.
        if own.site_links.get(link.file_name().unwrap_or_default()) == Some(&target) {
            set.link(role.clone(), link, Some(target), None);
        }
    }
    let before = own.site_files.get(name).cloned();
    set.file(role.clone(), own.layout.site_file(name), (before, None::<Vec<u8>>), Access::Public);
    tell_after(set, count, server.id());
    let aside = own.disabled_files.get(name).cloned();
    set.file(role, own.layout.disabled_file(name), (aside, None::<Vec<u8>>), Access::Public);
}

/// Whether the set takes the last of yandro's sites from a server.
pub(super) fn is_last(set: &ChangeSet, server: &dyn ServerModel) -> bool {
    let changed = |step: &Step| match &step.change {
        Change::File(change) => Some((server.own().layout.site_of_file(&change.path)?, change.after.is_some())),
        _ => None,
    };
    let (written, gone): (Vec<_>, Vec<_>) = set.steps.iter().filter_map(changed).partition(|(_, stays)| *stays);
    if written.iter().any(|(name, _)| name.as_str() != OTHERS) {
        return false;
    }
    let gone: BTreeSet<HostName> = gone.into_iter().map(|(name, _)| name).collect();
    !gone.is_empty() && server.own().own_sites.difference(&gone).next().is_none()
}

/// Whether another server than this has virtual hosts for other names over HTTPS, once the
/// set is done.
pub(super) fn is_refused_elsewhere(set: &ChangeSet, observed: &Observed, id: ServerId) -> bool {
    let name = others_name();
    observed.configured().into_iter().filter(|other| other.id() != id).any(|other| {
        let own = other.own();
        let text = match set.change_of(&own.layout.site_file(&name)) {
            Some(change) => change.after.as_deref(),
            None => own.site_files.get(&name),
        };
        text.is_some_and(|text| !Others::read(other.dialect(), text).https.is_empty())
    })
}

/// When the last of yandro's sites goes from a server, takes the virtual hosts for other names
/// with it, and the lines that it changed in other files. Gives what the file of those held.
pub(crate) fn others_go(set: &mut ChangeSet, observed: &Observed, server: &dyn ServerModel) -> Option<Others> {
    if !is_last(set, server) {
        return None;
    }
    let name = others_name();
    let others = server.own().site_files.get(&name).map(|text| Others::read(server.dialect(), text));
    let others = others.unwrap_or_default();
    remove_site_file(set, &observed.places, server, &name);
    let is_planned = set.change_of(&observed.places.chain(&name)).is_some();
    if !is_planned && !is_refused_elsewhere(set, observed, server.id()) {
        drop_certificate(set, observed, &name);
    }
    for file in others.journal.files() {
        if let Some(text) = server.shared_text(file) {
            let after = others.journal.taken_back(file, text);
            let (role, here) = (Role::SharedConfig(server.id()), server.own().view.here_or_same(file));
            set.file(role, here, (Some(text.to_vec()), Some(after)), Access::Public);
        }
    }
    Some(others)
}
