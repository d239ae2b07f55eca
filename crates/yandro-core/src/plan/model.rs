//! What planning knows of a server that yandro writes configuration for, and what it does alike for all of them.

use core::fmt::Debug;
use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};

use super::change::{Access, Change, ChangeSet, LinkChange, Step};
use super::observed::{Observed, Places};
use super::others::others_name;
use super::role::{Role, site_file_role};
use super::site::{PlanError, drop_certificate};
use crate::config::{
    Dialect, Journal, Layout, Others, PathView, Place, Published, ServerTraits, SiteFiles, list_of, site_file,
};
use crate::name::HostName;
use crate::site::{ListId, ServerId, Site};

/// A server, and yandro's own files of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnFiles {
    /// Which server it is.
    pub id: ServerId,
    /// How it sees this machine's files.
    pub view: PathView,
    /// Under which ports it is reached.
    pub published: Published,
    /// Where the server's files are.
    pub layout: Layout,
    /// The site files that exist: of the sites that the command is about, and of all where sites have
    /// ports of their own.
    pub site_files: BTreeMap<HostName, Vec<u8>>,
    /// The names of all site files of yandro's, of every list, those for other names left out.
    pub own_sites: BTreeSet<HostName>,
    /// Whether the certificate of the virtual hosts for other names is gone.
    pub lacks_others_certificate: bool,
    /// The links to sites' files: name and target.
    pub site_links: BTreeMap<String, Utf8PathBuf>,
}

/// A server as it was observed, and how sites are planned on it.
pub trait ServerModel: Debug + Send {
    /// How its files are written.
    fn dialect(&self) -> &'static dyn Dialect;
    /// Yandro's own files of it.
    fn own(&self) -> &OwnFiles;
    /// The same, to be changed.
    fn own_mut(&mut self) -> &mut OwnFiles;
    /// Whether it listens on the loopback address of IPv6, too.
    fn listens_on_v6(&self) -> bool;
    /// How virtual hosts are written for it.
    fn traits(&self) -> ServerTraits;
    /// Whether other people's virtual hosts are on an address; where yandro has one for other
    /// names there, whether theirs comes first.
    fn is_theirs(&self, address: &str, has_own: bool) -> bool;
    /// Whether somebody else's virtual host is on a port.
    fn is_foreign_port(&self, port: u16) -> bool;
    /// The text of a file that sites share, by its path as the server sees it.
    fn shared_text(&self, path: &Utf8Path) -> Option<&[u8]>;
    /// Plans the file of a site, and what the shared files need for it. Gives the lines of these that change.
    ///
    /// # Errors
    /// When the site can't be on the server.
    fn plan_site(
        &self,
        set: &mut ChangeSet,
        observed: &Observed,
        before: Option<&Site>,
        site: &Site,
    ) -> Result<Journal, PlanError>;

    /// When the last of yandro's sites goes from it, takes all with it that was there for sites.
    fn go_with_the_last(&self, set: &mut ChangeSet, observed: &Observed) {
        others_go(set, observed, self.as_model());
    }

    /// This one, as one of all.
    fn as_model(&self) -> &dyn ServerModel;

    /// Takes in a change of a link that is none of a site's.
    fn take_link(&mut self, _: &Role, _: &LinkChange) {}

    /// Takes in what a change set does to files that all sites share.
    fn take_shared(&mut self, set: &ChangeSet);

    /// The size of the buckets of names that the site needs beyond what the server gives; `None`
    /// if it has enough.
    fn name_bucket(&self, _: &Site) -> Option<usize> {
        None
    }

    /// Which server it is.
    fn id(&self) -> ServerId {
        self.own().id
    }
}

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
        let Some(text) = self.own().site_files.get(name) else { return Owner::Nobody };
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
    let of = |address: &String| address.rsplit(':').next()?.parse::<u16>().ok();
    addresses.iter().any(|address| of(address) == Some(port))
}

impl Observed {
    /// The servers that are there and that yandro writes configuration for.
    pub(super) fn configured(&self) -> Vec<&dyn ServerModel> {
        self.servers.iter().map(|server| &**server).collect()
    }

    /// One of them.
    pub(super) fn configured_as(&self, id: Option<ServerId>) -> Option<&dyn ServerModel> {
        self.configured().into_iter().find(|server| Some(server.id()) == id)
    }

    /// The server that a file or link belongs to, if its configuration changes with it.
    pub fn server_of(&self, path: &Utf8Path) -> Option<ServerId> {
        let is_of = |server: &&dyn ServerModel| {
            let layout = &server.own().layout;
            let is_module =
                layout.links.as_ref().is_some_and(|links| path.parent() == Some(links.enabled_modules.as_path()));
            is_module || layout.site_of_file(path).is_some() || layout.is_own(path) || is_shared(*server, path)
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
    let is_path = place.file.starts_with('/');
    let outside = || view.here_or_same(place.file.as_str().into()).into_string();
    let file = if is_path { outside() } else { place.file.clone() };
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
    let files = |site: &Site| server.site_files(&observed.places, site);
    let now = files(site);
    now.check(&site.serving)?;
    if let Some(folder) = site.serving.logs.folder() {
        // The server makes the files in it, and no folder.
        set.folder(Role::Logs, folder.to_owned(), Access::Public);
    }
    // Without what was wanted before, what differs is nobody's choice.
    let is_kept = !observed.put_back.contains(&site.name);
    let is_here = |before: &&Site| is_kept && before.server == Some(server.id());
    let earlier = before.filter(is_here).map(|before| (before, files(before)));
    let earlier = earlier.as_ref().map(|(before, files)| (*before, files));
    let existing = own.site_files.get(&site.name);
    let text = site_file(server.dialect(), existing.map(Vec::as_slice), earlier, (site, &now))
        .map_err(|error| PlanError::SiteFile { path: path.clone(), error })?;
    let role = Role::VirtualHost(site.name.clone());
    set.file(role.clone(), path, (existing.cloned(), Some(text)), Access::Public);
    if let Some((link, target)) = own.layout.site_link(&site.name) {
        let old_target = own.site_links.get(link.file_name().unwrap_or_default()).cloned();
        if let Some(other) = old_target.as_ref().filter(|old| **old != target) {
            return Err(PlanError::LinkTaken { path: link, target: other.clone() });
        }
        set.link(role, link, old_target, Some(target));
    }
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
    if matches!(server.owner(places, name), Owner::Other(_)) {
        return;
    }
    let (count, own) = (set.steps.len(), server.own());
    let role = site_file_role(name.clone(), server.id());
    if let Some((link, target)) = own.layout.site_link(name) {
        // A link that leads elsewhere is somebody else's.
        if own.site_links.get(link.file_name().unwrap_or_default()) == Some(&target) {
            set.link(role.clone(), link, Some(target), None);
        }
    }
    let before = own.site_files.get(name).cloned();
    set.file(role, own.layout.site_file(name), (before, None::<Vec<u8>>), Access::Public);
    tell_after(set, count, server.id());
}

/// Whether the set takes the last of yandro's sites from a server.
pub(super) fn is_last(set: &ChangeSet, server: &dyn ServerModel) -> bool {
    let gone = |step: &Step| match &step.change {
        Change::File(change) if change.after.is_none() => server.own().layout.site_of_file(&change.path),
        _ => None,
    };
    let gone: BTreeSet<HostName> = set.steps.iter().filter_map(gone).collect();
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
