//! The sandbox of a server's unit, and what it keeps from the server.

use std::fs;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Hidden, Sandbox, Site};

use super::found::Found;
use super::program;
use crate::machine::Machine;
use crate::os;
use crate::process;

/// The sandbox of the unit that runs a server, or would start it; `None` where no unit does.
pub fn sandbox(machine: &Machine, found: &Found) -> Option<Sandbox> {
    if !machine.is_real() || found.is_elsewhere() {
        return None;
    }
    let daemon = program::daemon(machine, found)?;
    let (systemctl, service) = daemon.service.as_ref()?;
    let unit = (*service).to_owned();
    // A server that somebody started by hand belongs to no unit.
    let is_of_unit = |pid: i32| {
        let groups = fs::read_to_string(format!("/proc/{pid}/cgroup")).unwrap_or_default();
        groups.lines().any(|line| line.ends_with(&format!("/{unit}")))
    };
    if daemon.running().is_some_and(|pid| !is_of_unit(pid)) {
        return None;
    }
    let properties = format!("--property={}", Sandbox::PROPERTIES.join(","));
    let ran = process::run(systemctl, &["show", &unit, &properties]).ok()?;
    ran.succeeded.then(|| Sandbox::read(&unit, &ran.words))
}

/// The path that a sandbox hides from the server: the site's folder, or else the folder of its certificate, with all that it
/// takes to let the server through.
pub fn hidden(machine: &Machine, sandbox: &Sandbox, site: &Site) -> Option<Hidden> {
    let real = |path: &Utf8Path| -> Utf8PathBuf {
        // A folder that is yet to be made is below one that exists.
        let there = path.ancestors().find(|path| path.exists()).unwrap_or(path);
        let rest = path.strip_prefix(there).unwrap_or(Utf8Path::new(""));
        let real = os::real_path(there).unwrap_or_else(|_| there.to_owned());
        if rest.as_str().is_empty() { real } else { real.join(rest) }
    };
    let of = |path: Utf8PathBuf| sandbox.hides(&real(&path));
    let folder = site.document_root().and_then(of);
    let certificates = if site.https.is_on() { of(machine.places.certificates()) } else { None };
    match folder {
        Some(hidden) => Some(hidden.and(certificates)),
        None => certificates,
    }
}
