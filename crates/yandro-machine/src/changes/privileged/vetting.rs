//! What root does not write on an ordinary user's word, although the user's list says so.

use std::os::unix::fs::FileTypeExt as _;

use camino::Utf8Path;
use yandro_core::hosts::OwnLine;
use yandro_core::httpd;
use yandro_core::name::HostName;
use yandro_core::site::{FastCgi, ServerId, ServerKind, Site};

use super::way::check_way;
use crate::machine::Machine;
use crate::servers::{self, Found};
use crate::{apache, files};

/// Below which folder servers have their logs.
const LOGS: &str = "/var/log";

/// Why root doesn't write the file of this site; `None` if it does.
pub(super) fn of_site(site: &Site) -> Option<String> {
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
            "the site `{name}` has its logs in {folder}; the server opens them as root, so that folder has to exist below {LOGS} and only root may be able to change it"
        ));
    }
    if let Some(FastCgi::Socket(socket)) = &serving.php
        && !socket.metadata().is_ok_and(|meta| meta.file_type().is_socket())
    {
        return Some(format!("the site `{name}` sends PHP to {socket}, which is not a socket"));
    }
    None
}

fn is_log_folder(folder: &Utf8Path) -> bool {
    let is_below = folder.starts_with(LOGS) && folder != LOGS;
    is_below && folder.is_dir() && check_way(&folder.join("x")).is_ok()
}

/// Why root doesn't write these lines into the hosts file; `None` if it does.
pub(super) fn of_lines(lines: &[OwnLine]) -> Option<String> {
    let is_real = |name: &&String| HostName::parse(name).is_ok_and(|name| name.can_be_real());
    let away = lines.iter().filter(|line| !line.address.is_loopback());
    let found = away.flat_map(|line| line.names.iter().map(move |name| (name, line.address)));
    let (name, address) = found.into_iter().find(|(name, _)| is_real(name))?;
    Some(format!("`{name}` can be a real site, and all users of this computer would be sent to {address} for it"))
}

/// Why root doesn't change a file that the sites of a server share; `None` if it does, and for yandro's own files. It
/// may switch on nothing that somebody else than root could change: modules, and the folder of sites' files.
pub(super) fn of_shared(
    machine: &Machine,
    server: Option<ServerId>,
    path: &Utf8Path,
    content: &[u8],
) -> Option<String> {
    let found = servers::find(machine, server?)?;
    if found.layout.site_of_file(path).is_some() {
        return None;
    }
    let folder = found.layout.read_folder();
    if check_way(&folder.join("x")).is_err() {
        return Some(format!("{} would read {folder}, which others than root can change", found.id));
    }
    let is_sound = found.kind != ServerKind::Apache || is_switching(machine, &found, path, content);
    (!is_sound).then(|| format!("{path} would change by more than switches, or load what others than root can change"))
}

fn is_switching(machine: &Machine, found: &Found, path: &Utf8Path, content: &[u8]) -> bool {
    let root = apache::unasked_configuration(machine, found).server_root;
    let is_roots = |file: &str| {
        let file = root.join(file).canonicalize_utf8();
        file.is_ok_and(|file| check_way(&file).is_ok())
    };
    let before = files::read_if_there(path).ok().flatten().unwrap_or_default();
    httpd::is_switching(&before, content, is_roots)
}
