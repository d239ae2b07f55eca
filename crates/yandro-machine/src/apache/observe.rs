//! What planning needs to know of an Apache httpd.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv6Addr};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::{Layout, OTHERS};
use yandro_core::httpd::{ModuleFiles, Shared};
use yandro_core::name::HostName;
use yandro_core::plan::{ObservedApache, OwnFiles};

use super::files::WithoutOwn;
use super::{Found, start};
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::network;

/// The sites that have a file of yandro's.
pub fn names(layout: &Layout) -> Vec<HostName> {
    list(&layout.sites).unwrap_or_default().iter().filter_map(|path| layout.site_of_file(path)).collect()
}

/// Reads what planning needs, for the sites of these names. `is_asked` has the program asked
/// for its version: upstreams are written in the way that it knows.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub fn observe(
    machine: &Machine,
    found: &Found,
    names: &[HostName],
    is_asked: bool,
) -> Result<ObservedApache, FileError> {
    let layout = found.layout.clone();
    let own = own_files(&layout, names)?;
    let (mut available_modules, mut module_links) = (BTreeMap::new(), BTreeSet::new());
    if let Some(links) = &layout.links {
        available_modules = modules(&links.modules)?;
        let names = list(&links.enabled_modules)?;
        module_links = names.iter().filter_map(|path| path.file_name().map(str::to_owned)).collect();
    }
    let enabled_modules =
        module_links.iter().filter_map(|name: &String| name.strip_suffix(".load").map(str::to_owned)).collect();
    // Any Apache httpd 2.4 of Debian's reads the same: only others are asked what is built in.
    let start = start(machine, found, is_asked || layout.links.is_none())?;
    let shared =
        Shared::of(start, &WithoutOwn { machine, layout: &layout }, |file| layout.is_own(&machine.path(file.as_str())));
    // Of a server that runs its sockets tell; of one that is yet to be started, its configuration.
    let by_socket = if machine.is_real() { network::listens_on_v6(80) } else { None };
    let by_system = !machine.is_real() || network::would_listen_on_v6();
    let v6 = IpAddr::V6(Ipv6Addr::LOCALHOST);
    // A port that is yet to be listened on is one of all addresses.
    let on_v6 = shared.listens.iter().any(|listen| listen.takes_in(v6, listen.port)) || shared.listens.is_empty();
    Ok(ObservedApache {
        listens_on_v6: by_socket.unwrap_or(by_system && on_v6),
        shared,
        own,
        available_modules,
        enabled_modules,
        module_links,
    })
}

/// Yandro's own files of a server, for the sites of these names.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub(crate) fn own_files(layout: &Layout, names: &[HostName]) -> Result<OwnFiles, FileError> {
    let mut site_files = BTreeMap::new();
    for name in names {
        if let Some(text) = files::read_if_there(&layout.site_file(name))? {
            site_files.insert(name.clone(), text);
        }
    }
    let mut site_links = BTreeMap::new();
    if let Some(links) = &layout.links {
        for path in list(&links.sites)? {
            if let (Some(name), Ok(target)) = (path.file_name(), path.read_link_utf8()) {
                site_links.insert(name.to_owned(), target);
            }
        }
    }
    let own_sites = self::names(layout).into_iter().filter(|name| name.as_str() != OTHERS).collect();
    Ok(OwnFiles { layout: layout.clone(), site_files, own_sites, site_links })
}

/// What `mods-available` holds.
fn modules(folder: &Utf8Path) -> Result<BTreeMap<String, ModuleFiles>, FileError> {
    let mut found = BTreeMap::new();
    for path in list(folder)? {
        let (Some(module), Some("load")) = (path.file_stem(), path.extension()) else { continue };
        let load = files::read_if_there(&path)?.unwrap_or_default();
        let files = ModuleFiles {
            load: String::from_utf8_lossy(&load).into_owned(),
            has_conf: path.with_extension("conf").is_file(),
        };
        found.insert(module.to_owned(), files);
    }
    Ok(found)
}

fn list(folder: &Utf8Path) -> Result<Vec<Utf8PathBuf>, FileError> {
    let entries = folder.read_dir_utf8().map_err(FileError::at(folder))?;
    let mut paths: Vec<Utf8PathBuf> = entries.filter_map(|entry| Some(entry.ok()?.into_path())).collect();
    paths.sort();
    Ok(paths)
}
