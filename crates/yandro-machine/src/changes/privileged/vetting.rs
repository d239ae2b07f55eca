//! Changes that need root's decision, although they follow from the user's site list.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use camino::Utf8Path;
use yandro_core::{
    DEFAULT_ADDRESS, FastCgi, HostName, OwnLine, ServerId, ServerKind, Site, SiteList, answered_tenants,
};

use super::way::check_way;
use crate::files;
use crate::machine::Machine;
use crate::os::{self, UserId};
use crate::php;
use crate::servers::{self, Found, Registry};

/// The folders in which servers have their logs. They open them as root.
const LOGS: [&str; 3] = ["/var/log/apache2", "/var/log/httpd", "/var/log/nginx"];

/// Why root doesn't write the file of this site of a user's; `None` if it does.
pub(super) fn of_site(site: &Site, user: UserId) -> Option<String> {
    let (name, serving) = (&site.name, &site.serving);
    if let Some(extra) = &serving.extra {
        return Some(format!(
            "the site `{name}` includes {extra}, and directives can have the server run any program as root"
        ));
    }
    if let Some(folder) = serving.logs.folder()
        && !is_log_folder(folder)
    {
        return Some(format!(
            "the site `{name}` has its logs in {folder}. The server opens logs as root, so they must be in a folder such as {} that only root can change",
            LOGS[0]
        ));
    }
    if serving.by_address && [IpAddr::from(Ipv4Addr::LOCALHOST), Ipv6Addr::LOCALHOST.into()].contains(&site.address) {
        return Some(format!(
            "the site `{name}` would answer for all names at {}, also for other users' sites",
            site.address
        ));
    }
    if let Some(php) = &serving.php
        && php::is_of_other_person(&Machine::bare(), php, user)
    {
        return Some(format!("the site `{name}` sends PHP to {php}, where it would run as another user"));
    }
    if let Some(FastCgi::Socket(socket)) = &serving.php
        && serving.php_as_owner.is_none()
        && !os::is_socket(&socket.to_native())
    {
        return Some(format!("the site `{name}` sends PHP to {socket}, which is not a socket"));
    }
    None
}

fn is_log_folder(folder: &Utf8Path) -> bool {
    let is_below = LOGS.iter().any(|logs| folder.starts_with(logs));
    is_below && folder.is_dir() && check_way(&folder.join("x")).is_ok()
}

/// Why root doesn't write these lines into the hosts file, for the sites of this list; `None` if it does. `present`
/// are the lines that the user's block has now: those may stay.
pub(super) fn of_lines(lines: &[OwnLine], present: &[OwnLine], list: &SiteList) -> Option<String> {
    let new = lines.iter().filter(|line| !present.contains(line));
    let all = new.flat_map(|line| line.names.iter().map(move |name| (name, line.address)));
    let is_sites = |name: &str, address| {
        let owner = HostName::parse(name).ok().and_then(|name| list.owner(&name));
        owner.is_some_and(|site| is_at(site, address))
    };
    if let Some((name, address)) = all.clone().find(|(name, address)| !is_sites(name, *address)) {
        return Some(format!("your site list has no site `{name}` at {address}"));
    }
    let is_real = |name: &&String| HostName::parse(name).is_ok_and(|name| name.can_be_real());
    let mut away = all.filter(|(_, address)| !address.is_loopback());
    let (name, address) = away.find(|(name, _)| is_real(name))?;
    Some(format!("`{name}` can be a real site, and all users of this computer would be sent to {address} for it"))
}

/// Why root doesn't have the system ask a user's own responder for names below the sites of this list; `None` if it
/// does.
pub(super) fn of_tenants(list: &SiteList) -> Option<String> {
    let real = answered_tenants(&list.sites).find(|site| site.name.can_be_real())?;
    Some(format!(
        "names below `{}` can be real sites, and a program of yours would answer for them to all users of this computer",
        real.name
    ))
}

fn is_at(site: &Site, address: IpAddr) -> bool {
    site.address == address || site.address == DEFAULT_ADDRESS && address == Ipv6Addr::LOCALHOST
}

/// Whether a site's file would get directives that yandro never writes, that it doesn't have now, and that it doesn't
/// bring along from the files that go.
pub(super) fn adds_foreign(kind: ServerKind, path: &Utf8Path, content: &[u8], going: &[Vec<u8>]) -> bool {
    let present = files::read_if_there(path).ok().flatten();
    let present = present.iter().chain(going).filter_map(|present| kind.foreign_directives(present));
    let present: Vec<String> = present.flatten().collect();
    kind.foreign_directives(content).is_none_or(|foreign| foreign.iter().any(|own| !present.contains(own)))
}

/// Why root doesn't write a file of a server; `None` if it does. Sites' files get yandro's own directives only. In
/// shared files nothing is switched on that others than root can change: modules, and the folder of sites' files.
/// `going` are the contents of the list's own files that the same plan takes away: a site that is renamed, or that
/// comes back into use, brings along what root wrote there.
pub(super) fn of_shared(
    machine: &Machine,
    server: Option<ServerId>,
    path: &Utf8Path,
    content: &[u8],
    going: &[Vec<u8>],
) -> Option<String> {
    let found = Registry::of_system(machine).find(machine, server?)?;
    if found.layout.site_of_disabled(path).is_some() {
        let is_comment = |line: &[u8]| line.trim_ascii().is_empty() || line.starts_with(b"#");
        let is_sound = content.split(|byte| *byte == b'\n').all(is_comment);
        return (!is_sound).then(|| format!("{path} would hold more than comments"));
    }
    if found.layout.site_of_file(path).is_some() {
        let is_foreign = adds_foreign(found.kind, path, content, going);
        return is_foreign.then(|| format!("{path} would get directives that are not yandro's"));
    }
    let folder = found.layout.read_folder();
    if check_way(&folder.join("x")).is_err() {
        return Some(format!("{} would read {folder}, which others than root can change", found.id));
    }
    let is_sound = is_switching(machine, &found, path, content);
    (!is_sound).then(|| format!("{path} would change by more than switches, or load what others than root can change"))
}

fn is_switching(machine: &Machine, found: &Found, path: &Utf8Path, content: &[u8]) -> bool {
    let root = servers::unasked_configuration(machine, found).root().to_owned();
    let is_roots = |file: &str| {
        let file = os::real_path(&root.join(file).to_native());
        file.is_ok_and(|file| check_way(&file).is_ok())
    };
    let before = files::read_if_there(path).ok().flatten().unwrap_or_default();
    found.kind.software().is_switching(&before, content, &is_roots)
}
