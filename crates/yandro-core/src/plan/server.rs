//! What planning does alike for every server that yandro writes configuration for.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};

use super::change::{Access, ChangeSet, Step};
use super::observed::{Observed, ObservedApache, ObservedNginx};
use super::others::others_name;
use super::site::{PlanError, drop_certificate};
use crate::config::{Dialect, Layout, Others, Place, ServerTraits, site_file};
use crate::httpd::ApacheSyntax;
use crate::name::HostName;
use crate::nginx::NginxSyntax;
use crate::site::{Logs, ServerKind, Site};

/// Yandro's own files of a server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnFiles {
    /// Where the server's files are.
    pub layout: Layout,
    /// The site files that exist, of the sites that the command is about.
    pub site_files: BTreeMap<HostName, Vec<u8>>,
    /// The names of all site files of yandro's, those for other names left out.
    pub own_sites: BTreeSet<HostName>,
    /// The links to sites' files: name and target.
    pub site_links: BTreeMap<String, Utf8PathBuf>,
}

/// A server that yandro writes configuration for.
pub(super) trait Configured {
    fn kind(&self) -> ServerKind;
    fn dialect(&self) -> &'static dyn Dialect;
    fn own(&self) -> &OwnFiles;
    fn traits(&self) -> ServerTraits;
    /// Whether other people's virtual hosts are on an address; where yandro has one for other
    /// names there, whether theirs comes first.
    fn is_theirs(&self, address: &str, has_own: bool) -> bool;
    /// The text of a file that sites share, by its path as the server sees it.
    fn shared_text(&self, path: &Utf8Path) -> Option<&[u8]>;
}

impl Configured for ObservedApache {
    fn kind(&self) -> ServerKind {
        ServerKind::Apache
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &ApacheSyntax
    }

    fn own(&self) -> &OwnFiles {
        &self.own
    }

    fn traits(&self) -> ServerTraits {
        self.shared.traits(self.own.layout.known.logs)
    }

    fn is_theirs(&self, address: &str, has_own: bool) -> bool {
        let hosts = if has_own { &self.shared.foreign_first } else { &self.shared.foreign_addresses };
        hosts.contains(address)
    }

    fn shared_text(&self, path: &Utf8Path) -> Option<&[u8]> {
        self.shared.text(path)
    }
}

impl Configured for ObservedNginx {
    fn kind(&self) -> ServerKind {
        ServerKind::Nginx
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &NginxSyntax
    }

    fn own(&self) -> &OwnFiles {
        &self.own
    }

    fn traits(&self) -> ServerTraits {
        self.traits.clone()
    }

    fn is_theirs(&self, address: &str, has_own: bool) -> bool {
        let hosts = if has_own { &self.foreign_first } else { &self.foreign_addresses };
        hosts.contains(address)
    }

    fn shared_text(&self, path: &Utf8Path) -> Option<&[u8]> {
        self.shared.text(path)
    }
}

impl Observed {
    /// The servers that are there and that yandro writes configuration for.
    pub(super) fn configured(&self) -> Vec<&dyn Configured> {
        let apache = self.apache.as_ref().map(|own| own as &dyn Configured);
        apache.into_iter().chain(self.nginx.as_ref().map(|own| own as _)).collect()
    }

    /// The one of this kind.
    pub(super) fn configured_as(&self, kind: Option<ServerKind>) -> Option<&dyn Configured> {
        self.configured().into_iter().find(|server| Some(server.kind()) == kind)
    }

    /// The server that a file or link belongs to, if its configuration changes with it.
    pub fn server_of(&self, path: &Utf8Path) -> Option<ServerKind> {
        let links = self.apache.as_ref().and_then(ObservedApache::links);
        if links.is_some_and(|links| path.parent() == Some(&links.enabled_modules)) {
            return Some(ServerKind::Apache);
        }
        let is_of = |server: &&dyn Configured| {
            let layout = &server.own().layout;
            layout.site_of_file(path).is_some() || layout.is_own(path) || self.is_shared(*server, path)
        };
        self.configured().into_iter().find(is_of).map(Configured::kind)
    }

    /// Whether a path is a file of a server that its sites share.
    pub(super) fn is_shared(&self, server: &dyn Configured, path: &Utf8Path) -> bool {
        server.shared_text(&self.places.inside(path)).is_some() && server.own().layout.site_of_file(path).is_none()
    }
}

/// Refuses a site of which somebody else's virtual host has a name.
pub(super) fn not_taken(
    observed: &Observed,
    site: &Site,
    foreign_names: &BTreeMap<String, Place>,
) -> Result<(), PlanError> {
    let taken = site.names().find_map(|name| Some((name, foreign_names.get(name.as_str())?)));
    let Some((name, place)) = taken else { return Ok(()) };
    let is_path = place.file.starts_with('/');
    let outside = || observed.places.outside(place.file.as_str().into()).into_string();
    let file = if is_path { outside() } else { place.file.clone() };
    Err(PlanError::VirtualHostTaken { place: Place { file, line: place.line }, name: name.clone() })
}

/// Plans the file of a site, and the link that enables it.
pub(super) fn write_site(
    set: &mut ChangeSet,
    observed: &Observed,
    server: &dyn Configured,
    before: Option<&Site>,
    site: &Site,
) -> Result<(), PlanError> {
    let own = server.own();
    let path = own.layout.site_file(&site.name);
    let traits = server.traits();
    let files = |site: &Site| observed.places.site_files(site, &traits);
    let now = files(site);
    now.check(&site.serving)?;
    if let Logs::Folder(folder) = &site.serving.logs {
        // The server makes the files in it, and no folder.
        set.steps.push(Step::Folder { path: folder.clone(), access: Access::Public });
    }
    let is_here = |before: &&Site| before.server == Some(server.kind());
    let earlier = before.filter(is_here).map(|before| (before, files(before)));
    let earlier = earlier.as_ref().map(|(before, files)| (*before, files));
    let existing = own.site_files.get(&site.name);
    let text = site_file(server.dialect(), existing.map(Vec::as_slice), earlier, (site, &now))
        .map_err(|error| PlanError::SiteFile { path: path.clone(), error })?;
    set.file(path, existing.cloned(), Some(text), Access::Public);
    if let Some((link, target)) = own.layout.site_link(&site.name) {
        let old_target = own.site_links.get(link.file_name().unwrap_or_default()).cloned();
        if let Some(other) = old_target.as_ref().filter(|old| **old != target) {
            return Err(PlanError::LinkTaken { path: link, target: other.clone() });
        }
        set.link(link, old_target, Some(target));
    }
    Ok(())
}

/// Has the server told, if there is a step beyond the first `count` that concerns it.
pub(super) fn tell_after(set: &mut ChangeSet, count: usize, kind: ServerKind) {
    if set.steps.iter().skip(count).any(|step| !matches!(step, Step::Folder { .. })) {
        set.servers.insert(kind);
    }
}

/// Takes a site's file and link away, if they are there.
pub(super) fn remove_site_file(set: &mut ChangeSet, server: &dyn Configured, name: &HostName) {
    let (count, own) = (set.steps.len(), server.own());
    if let Some((link, target)) = own.layout.site_link(name) {
        // A link that leads elsewhere is somebody else's.
        if own.site_links.get(link.file_name().unwrap_or_default()) == Some(&target) {
            set.link(link, Some(target), None);
        }
    }
    set.file(own.layout.site_file(name), own.site_files.get(name).cloned(), None::<Vec<u8>>, Access::Public);
    tell_after(set, count, server.kind());
}

/// Whether the set takes the last of yandro's sites from a server.
pub(super) fn is_last(set: &ChangeSet, server: &dyn Configured) -> bool {
    let gone = |step: &Step| match step {
        Step::File(change) if change.after.is_none() => server.own().layout.site_of_file(&change.path),
        _ => None,
    };
    let gone: BTreeSet<HostName> = set.steps.iter().filter_map(gone).collect();
    !gone.is_empty() && server.own().own_sites.difference(&gone).next().is_none()
}

/// Whether another server than this kind has virtual hosts for other names over HTTPS, once the
/// set is done.
pub(super) fn is_refused_elsewhere(set: &ChangeSet, observed: &Observed, kind: ServerKind) -> bool {
    let name = others_name();
    observed.configured().into_iter().filter(|other| other.kind() != kind).any(|other| {
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
pub(super) fn others_go(set: &mut ChangeSet, observed: &Observed, server: &dyn Configured) -> Option<Others> {
    if !is_last(set, server) {
        return None;
    }
    let name = others_name();
    let others = server.own().site_files.get(&name).map(|text| Others::read(server.dialect(), text));
    let others = others.unwrap_or_default();
    remove_site_file(set, server, &name);
    let is_planned = set.change_of(&observed.places.chain(&name)).is_some();
    if !is_planned && !is_refused_elsewhere(set, observed, server.kind()) {
        drop_certificate(set, observed, &name);
    }
    for file in others.journal.files() {
        if let Some(text) = server.shared_text(file) {
            let after = others.journal.taken_back(file, text);
            set.file(observed.places.outside(file), Some(text.to_vec()), Some(after), Access::Public);
        }
    }
    Some(others)
}
