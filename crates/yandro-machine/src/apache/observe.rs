//! What planning needs to know of an Apache httpd.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv6Addr};

use camino::Utf8Path;
use yandro_core::httpd::{ModuleFiles, Shared};
use yandro_core::name::HostName;
use yandro_core::plan::ObservedApache;

use super::start;
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::network;
use crate::servers::{Found, WithoutOwn, list, own_files};

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
    let own = own_files(found, names)?;
    let (mut available_modules, mut module_links) = (BTreeMap::new(), BTreeSet::new());
    if let Some(links) = &layout.links {
        available_modules = modules(&links.modules)?;
        let names = list(&links.enabled_modules)?;
        module_links = names.iter().filter_map(|path| path.file_name().map(str::to_owned)).collect();
    }
    let enabled_modules =
        module_links.iter().filter_map(|name: &String| name.strip_suffix(".load").map(str::to_owned)).collect();
    // Any Apache httpd 2.4 of Debian's reads the same: only others are asked what is built in.
    let start = start(machine, found, is_asked || layout.links.is_none());
    let shared = Shared::of(start, &WithoutOwn(found), |file| found.owner_of(file));
    // Of a server that runs its sockets tell; of one that is yet to be started, its configuration.
    let by_socket = if machine.is_real() { network::listens_on_v6(80) } else { None };
    let by_system = !machine.is_real() || network::would_listen_on_v6();
    let v6 = IpAddr::V6(Ipv6Addr::LOCALHOST);
    // A port that is yet to be listened on is one of all addresses.
    let on_v6 = shared.listens.iter().any(|listen| listen.takes_in(v6, listen.port)) || shared.listens.is_empty();
    Ok(ObservedApache {
        listens_on_v6: !found.is_elsewhere() && by_socket.unwrap_or(by_system && on_v6),
        shared,
        own,
        available_modules,
        enabled_modules,
        module_links,
    })
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
