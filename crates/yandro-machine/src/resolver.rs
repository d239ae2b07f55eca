//! The way by which this system resolves names that no hosts file has, and its files for yandro's responder.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr, TcpStream};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Cache, HostName, Place, Resolver, ResolverPlace, ServerId, Site, System, TenantsSetup, answered_tenants,
};

use crate::caches;
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::network;
use crate::os;

/// Where systemd-resolved answers programs that ask by DNS (resolved.conf(5), `DNSStubListener`).
const STUBS: [&str; 2] = ["127.0.0.53", "127.0.0.54"];
/// The folders of `NetworkManager`'s settings, and its first file (NetworkManager.conf(5)).
const NETWORK_MANAGER: [&str; 3] =
    ["/usr/lib/NetworkManager/conf.d", "/etc/NetworkManager/conf.d", "/etc/NetworkManager/NetworkManager.conf"];

/// The part of the system that is told of a responder.
pub fn place(machine: &Machine) -> ResolverPlace {
    match machine.system {
        System::MacOs => return ResolverPlace::MacOs,
        System::Windows => return ResolverPlace::Windows,
        System::Linux => {}
    }
    let servers = name_servers(machine);
    let sources = caches::surroundings(machine);
    let asks_resolved =
        sources.name_sources().contains(&"resolve") || servers.iter().any(|server| STUBS.contains(&server.as_str()));
    let runs = !machine.is_real()
        || Cache::Resolved.socket().is_some_and(|socket| os::connects(Utf8Path::new(socket)).is_ok());
    if asks_resolved && runs {
        return ResolverPlace::Resolved;
    }
    let is_loopback = |server: &String| server.parse().is_ok_and(|address: IpAddr| address.is_loopback());
    if servers.first().is_some_and(is_loopback) && has_dnsmasq(machine) {
        return ResolverPlace::Dnsmasq;
    }
    ResolverPlace::ResolvConf
}

/// The address of this list's responder.
pub fn responder(machine: &Machine) -> SocketAddr {
    place(machine).responder(&machine.places.list)
}

/// The servers that programs ask, in their order (resolv.conf(5)).
pub fn name_servers(machine: &Machine) -> Vec<String> {
    let text = files::read_if_there(&machine.real_path("/etc/resolv.conf")).ok().flatten().unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let server = |line: &str| {
        let mut words = line.split_whitespace();
        words.next().filter(|word| *word == "nameserver").and_then(|_| words.next()).map(str::to_owned)
    };
    text.lines().filter_map(server).collect()
}

/// Whether `NetworkManager` runs a dnsmasq: `dns=dnsmasq` below `[main]`, the last such line counts.
fn has_dnsmasq(machine: &Machine) -> bool {
    let mut files: Vec<Utf8PathBuf> = Vec::new();
    for place in NETWORK_MANAGER {
        let path = machine.path(place);
        match path.read_dir_utf8() {
            Ok(entries) => {
                let mut own: Vec<_> = entries.flatten().map(camino::Utf8DirEntry::into_path).collect();
                own.retain(|path| path.extension() == Some("conf"));
                own.sort();
                files.extend(own);
            }
            Err(_) => files.push(path),
        }
    }
    // The first file counts less than the folders.
    files.sort_by_key(|path| path.file_name() != Some("NetworkManager.conf"));
    let text = |path: &Utf8PathBuf| {
        String::from_utf8_lossy(&files::read_if_there(path).ok().flatten().unwrap_or_default()).into_owned()
    };
    let mut last = None;
    for text in files.iter().map(text) {
        let mut is_main = false;
        for line in text.lines().map(str::trim) {
            if line.starts_with('[') {
                is_main = line.eq_ignore_ascii_case("[main]");
            } else if let Some((key, value)) = line.split_once('=').filter(|_| is_main)
                && key.trim() == "dns"
            {
                last = Some(value.trim().to_owned());
            }
        }
    }
    last.as_deref() == Some("dnsmasq")
}

/// How names below sites are resolved here, as a check asks for them.
#[derive(Clone, Debug)]
pub(crate) struct Tenants {
    place: ResolverPlace,
    responder: SocketAddr,
    is_up: bool,
    is_told: bool,
    is_offline: bool,
    others: Option<Place>,
}

/// How long a responder on this machine has to take a connection.
const ANSWERS: Duration = Duration::from_secs(2);

impl Tenants {
    /// The way of names below these sites; looked at only if one has tenants, and on no sysroot, whose resolver nobody
    /// asks.
    pub(crate) fn of(machine: &Machine, sites: &[Site]) -> Option<Self> {
        if !machine.is_real() || !sites.iter().any(|site| site.serving.tenants) {
            return None;
        }
        let place = place(machine);
        let list = &machine.places.list;
        let responder = place.responder(list);
        let names: Vec<_> = answered_tenants(sites).map(|site| &site.name).collect();
        let is_told = place.file(list).is_some_and(|file| {
            let path = machine.real_path(&file);
            let now = |path: &Utf8Path| files::read_if_there(path).ok().flatten();
            place
                .wanted(list, &names, &path, now)
                .iter()
                .all(|(path, content)| says(&now(path).unwrap_or_default(), content))
        });
        let is_up = TcpStream::connect_timeout(&responder, ANSWERS).is_ok();
        let others = if place == ResolverPlace::Resolved { other_servers(machine) } else { None };
        let is_offline = place == ResolverPlace::Resolved && !has_network(machine);
        Some(Self { place, responder, is_up, is_told, is_offline, others })
    }

    /// The way of a site's, with a name that nobody asked for before.
    pub(crate) fn setup(this: Option<&Self>, site: &Site) -> Option<TenantsSetup> {
        let own = this.filter(|_| site.serving.tenants)?;
        let number = SystemTime::now().duration_since(UNIX_EPOCH).map(|since| since.subsec_nanos()).unwrap_or_default();
        let name = HostName::parse(&format!("tenant-{:05x}.{}", number & 0xf_ffff, site.name)).ok()?;
        let is_known = site.is_known_by_itself(&name, ServerId::BuiltIn);
        Some(TenantsSetup {
            name,
            place: (!is_known).then_some(own.place),
            responder: own.responder,
            is_up: own.is_up,
            is_told: own.is_told,
            is_offline: own.is_offline,
            others: own.others.clone(),
        })
    }
}

/// Whether an interface beyond loopback is up (sysfs-class-net, `operstate`) and has an address.
fn has_network(machine: &Machine) -> bool {
    let is_up = |interface: &str| {
        let state = machine.path("/sys/class/net").join(interface).join("operstate");
        matches!(std::fs::read_to_string(state).unwrap_or_default().trim(), "up" | "unknown")
    };
    network::addresses().iter().any(|own| !own.address.is_loopback() && is_up(&own.interface))
}

/// A line of systemd-resolved's settings that names servers for all links and isn't yandro's (resolved.conf(5)).
fn other_servers(machine: &Machine) -> Option<Place> {
    let folders = ["/usr/lib/systemd/resolved.conf.d", "/run/systemd/resolved.conf.d", "/etc/systemd/resolved.conf.d"];
    let entries =
        folders.iter().flat_map(|folder| machine.path(folder).read_dir_utf8().into_iter().flatten().flatten());
    let mut paths: Vec<Utf8PathBuf> = entries.map(camino::Utf8DirEntry::into_path).collect();
    paths.retain(|path| {
        path.extension() == Some("conf") && path.file_name().is_some_and(|name| !name.starts_with("yandro-"))
    });
    paths.insert(0, machine.path("/etc/systemd/resolved.conf"));
    paths.into_iter().find_map(|path| {
        let text = files::read_if_there(&path).ok().flatten()?;
        let names = |line: &str| line.trim().strip_prefix("DNS=").is_some_and(|servers| !servers.trim().is_empty());
        let line = String::from_utf8_lossy(&text).lines().position(names)? + 1;
        Some(Place { file: path.into_string(), line })
    })
}

/// Whether a file has all words of another.
fn says(now: &[u8], wanted: &[u8]) -> bool {
    let words = |text| <[u8]>::split(text, u8::is_ascii_whitespace);
    words(wanted).all(|word| words(now).any(|own| own == word))
}

/// What planning needs to know of it.
///
/// # Errors
/// When one of its files can't be read.
pub fn observe(machine: &Machine) -> Result<Option<Resolver>, FileError> {
    let (mut paths, mut files) = (BTreeMap::new(), BTreeMap::new());
    let of_system = ResolverPlace::ALL
        .into_iter()
        .filter(|place| (*place == ResolverPlace::MacOs) == (machine.system == System::MacOs));
    for place in of_system {
        let Some(file) = place.file(&machine.places.list) else { continue };
        let path = machine.real_path(&file);
        let own: Vec<Utf8PathBuf> = match path.read_dir_utf8() {
            Ok(entries) => entries.flatten().map(camino::Utf8DirEntry::into_path).collect(),
            Err(_) => vec![path.clone()],
        };
        for own in own {
            match files::read_if_there(&own) {
                Ok(Some(content)) => _ = files.insert(own, content.into()),
                // A folder that only root may enter.
                Err(error) if !error.is_permission() => return Err(error),
                Ok(None) | Err(_) => {}
            }
        }
        paths.insert(place, path);
    }
    Ok(Some(Resolver { place: place(machine), paths, files }))
}

/// Makes the folder of a file by which the resolver is told, if that isn't there; its package may bring none.
///
/// # Errors
/// The system's words.
pub(crate) fn make_folder_for(path: &Utf8Path) -> std::io::Result<()> {
    let Some(folder) = path.parent().filter(|folder| is_made(path) && !folder.exists()) else { return Ok(()) };
    os::make_folder(folder, yandro_core::Access::Public)
}

/// Removes that folder if it is empty now.
pub(crate) fn remove_folder_of(path: &Utf8Path) {
    if let Some(folder) = path.parent().filter(|_| is_made(path)) {
        _ = os::remove_folder(folder);
    }
}

/// Whether it is such a file, on the machine itself or below a sysroot.
fn is_made(path: &Utf8Path) -> bool {
    let mut tails = path.ancestors().filter_map(|folder| path.strip_prefix(folder).ok());
    tails.any(|tail| ResolverPlace::makes_folder(&Utf8Path::new("/").join(tail)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_resolvers_own_folders_are_made() {
        for (path, is_made_for) in [
            ("/etc/systemd/resolved.conf.d/yandro-00001.conf", true),
            ("/srv/root/etc/systemd/resolved.conf.d/yandro-00001.conf", true),
            ("/private/etc/resolver/saltmarsh.test", true),
            ("/etc/systemd/resolved.conf", false),
            ("/etc/NetworkManager/dnsmasq.d/yandro-00001.conf", false),
        ] {
            assert_eq!(is_made(Utf8Path::new(path)), is_made_for, "{path}");
        }
    }
}
