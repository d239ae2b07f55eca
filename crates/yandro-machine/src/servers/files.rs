//! The files of a server: as it sees them, and yandro's own among them.

use std::collections::BTreeMap;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{FileOwner, Files, HostName, Layout, OTHERS, Others, OwnFiles, ServerPath, others_certificate};

use super::found::Found;
use crate::files::{self, FileError};

/// A server's files as if yandro's own for sites, of which there may be a thousand, were not
/// there, but for the one for other names.
pub(super) struct WithoutOwn<'f>(pub(super) &'f Found);

impl WithoutOwn<'_> {
    fn is_own(&self, path: &ServerPath) -> bool {
        matches!(self.0.owner_of(path), FileOwner::Site(_))
    }
}

impl Files for WithoutOwn<'_> {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        if self.is_own(path) { None } else { self.0.files().read(path) }
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let mut names = self.0.files().list(folder)?;
        if self.0.view.here(folder).as_deref() == Some(self.0.layout.read_folder()) {
            names.retain(|name| !self.is_own(&folder.join(name)));
        }
        Some(names)
    }

    fn exists(&self, path: &ServerPath) -> bool {
        !self.is_own(path) && self.0.files().exists(path)
    }
}

/// Yandro's own files of a server, for the sites of these names.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub(super) fn own_files(found: &Found, names: &[HostName]) -> Result<OwnFiles, FileError> {
    let layout = &found.layout;
    let others = HostName::parse(OTHERS).expect("it is a name");
    let text = files::read_if_there(&layout.site_file(&others))?.unwrap_or_default();
    let all = if has_own_ports(found, &text) { sites(layout) } else { Vec::new() };
    let read = |names: &[HostName]| files::read_by_name(&layout.sites, names, |name| layout.site_file(name));
    let mut site_files = read(names)?;
    site_files.extend(read(&all)?);
    let disabled_files = files::read_by_name(&layout.sites, names, |name| layout.disabled_file(name))?;
    let mut site_links = BTreeMap::new();
    if let Some(links) = &layout.links {
        for path in list(&links.sites)? {
            if let (Some(name), Ok(Some(target))) = (path.file_name(), files::read_link_if_there(&path)) {
                site_links.insert(name.to_owned(), target);
            }
        }
    }
    let certificate =
        site_files.get(&others).and_then(|text| others_certificate(found.kind.software().dialect(), text));
    let here = certificate.and_then(|[certificate, _]| found.view.here(&certificate));
    let own_sites = sites(layout).into_iter().filter(|name| name.as_str() != OTHERS).collect();
    Ok(OwnFiles {
        id: found.id,
        view: found.view.clone(),
        published: found.published(),
        layout: layout.clone(),
        site_files,
        disabled_files,
        own_sites,
        site_links,
        lacks_others_certificate: here.is_some_and(|path| is_gone(&path)),
    })
}

/// Whether sites have other ports than the usual ones, by the default virtual hosts: then it takes all
/// sites to know which ports are still used.
fn has_own_ports(found: &Found, text: &[u8]) -> bool {
    let others = Others::read(found.kind.software().dialect(), text);
    others.http.iter().any(|port| *port != 80) || others.https.iter().any(|port| *port != 443)
}

/// Whether a file isn't there; one in a folder of another user's, where that can't be seen, is.
fn is_gone(path: &Utf8Path) -> bool {
    path.symlink_metadata().is_err_and(|error| error.kind() == std::io::ErrorKind::NotFound)
}

/// The sites that have a file of yandro's, those that are out of use among them.
pub(crate) fn kept_sites(layout: &Layout) -> Vec<HostName> {
    let site = |path: &Utf8PathBuf| layout.site_of_file(path).or_else(|| layout.site_of_disabled(path));
    list(&layout.sites).unwrap_or_default().iter().filter_map(site).collect()
}

/// The sites that have a file of yandro's.
pub fn sites(layout: &Layout) -> Vec<HostName> {
    list(&layout.sites).unwrap_or_default().iter().filter_map(|path| layout.site_of_file(path)).collect()
}

/// The entries of a folder, in order.
pub(crate) fn list(folder: &Utf8Path) -> Result<Vec<Utf8PathBuf>, FileError> {
    let entries = files::follow(folder)?.read_dir_utf8().map_err(FileError::at(folder))?;
    let mut paths: Vec<Utf8PathBuf> = entries.filter_map(|entry| Some(folder.join(entry.ok()?.file_name()))).collect();
    paths.sort();
    Ok(paths)
}
