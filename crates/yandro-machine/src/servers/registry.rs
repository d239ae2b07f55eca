//! The servers that the user or root added, and those that were found.

use yandro_core::{Layout, ServerId, ServerKind};

use super::found::Found;
use super::program;
use crate::machine::Machine;
use crate::settings::{self, NamedServer};

/// The servers that somebody named.
#[derive(Clone, Debug, Default)]
pub struct Registry {
    named: Vec<NamedServer>,
}

impl Registry {
    /// These servers, and those that root named for everybody under other names.
    pub fn new(mut own: Vec<NamedServer>, of_system: Vec<NamedServer>) -> Self {
        let is_new = |server: &NamedServer| own.iter().all(|known| known.name != server.name);
        let new: Vec<NamedServer> = of_system.into_iter().filter(is_new).collect();
        own.extend(new);
        Self { named: own }
    }

    /// Servers that root added. A file that others can change, or that has a fault, doesn't
    /// count.
    pub(crate) fn of_system(machine: &Machine) -> Self {
        Self { named: settings::system_servers(machine).unwrap_or_default() }
    }

    /// The servers that were named, the user's own first.
    pub fn named(&self) -> &[NamedServer] {
        &self.named
    }

    /// Every server: those that were named, then what is found.
    pub fn all(&self, machine: &Machine) -> Vec<Found> {
        let mut found: Vec<Found> = self.named.iter().filter_map(|server| Found::named(machine, server)).collect();
        let is_new = |found: &[Found], layout: &Layout| found.iter().all(|other| other.layout.main != layout.main);
        for kind in ServerKind::ALL {
            if let Some(layout) = program::find_layout(machine, *kind).filter(|layout| is_new(&found, layout)) {
                found.push(Found::known(ServerId::Found(*kind), *kind, layout, machine));
            }
        }
        found
    }

    /// A server.
    pub fn find(&self, machine: &Machine, id: ServerId) -> Option<Found> {
        if !id.is_configured() {
            return None;
        }
        self.all(machine).into_iter().find(|found| found.id == id)
    }

    /// The servers that were named and that are not among those that were found.
    pub fn missing(&self, found: &[Found]) -> Vec<&NamedServer> {
        let is_missing = |server: &&NamedServer| found.iter().all(|own| own.id != ServerId::Named(server.name));
        self.named.iter().filter(is_missing).collect()
    }
}
