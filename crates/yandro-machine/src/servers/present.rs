//! The servers as they were found, once for a command.

use std::ffi::OsStr;

use yandro_core::{Published, ServerId, Site};

use super::control::Control;
use super::found::Found;
use super::program::configured_ports;
use super::registry::Registry;
use crate::machine::Machine;
use crate::ports::Holder;
use crate::process;
use crate::settings::BuiltInSettings;

/// The servers of a machine, and where they listen.
#[derive(Clone, Debug)]
pub struct Present {
    found: Vec<Found>,
    built_in: BuiltInSettings,
}

impl Present {
    /// Looks for every server.
    pub fn look(machine: &Machine, registry: &Registry, built_in: &BuiltInSettings) -> Self {
        Self { found: registry.all(machine), built_in: built_in.clone() }
    }

    /// All of them.
    pub fn all(&self) -> &[Found] {
        &self.found
    }

    /// A server.
    pub fn get(&self, id: ServerId) -> Option<&Found> {
        self.found.iter().find(|found| found.id == id)
    }

    /// Whether a server is on this machine, as far as yandro knows.
    pub fn is_here(&self, id: ServerId) -> bool {
        id != ServerId::Elsewhere && !self.get(id).is_some_and(Found::is_elsewhere)
    }

    /// Under which ports a server is reached.
    pub fn published(&self, id: ServerId) -> Published {
        self.get(id).map(Found::published).unwrap_or_default()
    }

    /// The ports of a site, the first of each: HTTP, HTTPS.
    pub fn ports_of(&self, site: &Site, id: ServerId) -> (u16, u16) {
        let (http, https) = self.usual_ports(id);
        let published = self.published(id);
        let first = |ports: Vec<u16>, usual| published.here_or_same(ports.first().copied().unwrap_or(usual));
        (first(site.http_ports(http), http), first(site.https_ports(https), https))
    }

    /// All ports of a site in pairs of HTTP and HTTPS, so that each is in one; the first pair first.
    pub fn all_ports_of(&self, site: &Site, id: ServerId) -> Vec<(u16, u16)> {
        let (usual_http, usual_https) = self.usual_ports(id);
        let published = self.published(id);
        let here = |ports: Vec<u16>| ports.into_iter().map(|port| published.here_or_same(port)).collect::<Vec<_>>();
        let (http, https) = (here(site.http_ports(usual_http)), here(site.https_ports(usual_https)));
        let at = |ports: &[u16], turn: usize, usual| *ports.get(turn).or(ports.first()).unwrap_or(&usual);
        let turns = 0..http.len().max(https.len());
        turns.map(|turn| (at(&http, turn, usual_http), at(&https, turn, usual_https))).collect()
    }

    /// The ports of a server: HTTP, HTTPS.
    fn usual_ports(&self, id: ServerId) -> (u16, u16) {
        match id {
            ServerId::BuiltIn => (self.built_in.http_port, self.built_in.https_port),
            _ => (80, 443),
        }
    }

    /// The server whose main process this is, or a child of it.
    pub fn of_process(&self, machine: &Machine, pid: Option<u32>) -> Option<ServerId> {
        let pid = i32::try_from(pid?).ok()?;
        let is_its = |found: &&Found| {
            let main = Control::of(machine, found).and_then(|control| control.process());
            main.is_some_and(|main| main == pid || process::parent(pid) == Some(main))
        };
        self.found.iter().find(is_its).map(|found| found.id)
    }

    /// The server that has a socket. If the user can't see its process, this is the only running server that runs as
    /// the socket's user and has the port in its configuration.
    pub fn of_holder(&self, machine: &Machine, holder: &Holder) -> Option<ServerId> {
        if holder.pid.is_some() {
            return self
                .of_process(machine, holder.pid)
                .or_else(|| self.is_built_in(holder).then_some(ServerId::BuiltIn));
        }
        let runs_as = |found: &Found| {
            let pid = Control::of(machine, found)?.process()?;
            process::owner_name(pid)
        };
        let is_likely = |found: &&Found| {
            !found.is_elsewhere()
                && runs_as(found).as_deref() == Some(&holder.user)
                && configured_ports(machine, found).iter().any(|(port, _)| *port == holder.port)
        };
        let mut likely = self.found.iter().filter(is_likely);
        match (likely.next(), likely.next()) {
            (Some(only), None) => Some(only.id),
            _ => self.is_built_in(holder).then_some(ServerId::BuiltIn),
        }
    }

    /// Whether it is the built-in server: this very program, another copy of it that this user runs, or on its ports a process of this user that the system doesn't
    /// show, since it keeps its memory to itself or has a right of root's.
    fn is_built_in(&self, holder: &Holder) -> bool {
        let Some(pid) = holder.pid else {
            let is_port = [self.built_in.http_port, self.built_in.https_port].contains(&holder.port);
            return holder.is_own && is_port;
        };
        let Ok(own) = std::env::current_exe() else { return false };
        // An update replaces the file of a server that runs.
        let is_copy = holder.is_own && holder.program.as_deref() == own.file_name().and_then(OsStr::to_str);
        is_copy || pid.try_into().ok().and_then(process::program).is_some_and(|program| program == own)
    }
}
