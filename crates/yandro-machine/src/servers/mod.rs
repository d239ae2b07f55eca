//! The servers of this machine, and those that the person named: in a bundle's folder, a container
//! or a virtual machine.

mod commands;
mod control;
mod daemon;
mod files;

pub(crate) use commands::run as run_command;
pub use commands::{Commands, NO_COMMAND};
pub use control::Control;
pub use daemon::Daemon;
pub(crate) use daemon::{APACHE, NGINX};
pub use files::{Disk, sites};
pub(crate) use files::{WithoutOwn, list, own_files};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::{FileOwner, KnownLayout, Layout, PathView, Place, Published, Seen};
use yandro_core::name::HostName;
use yandro_core::plan::ObservedServer;
use yandro_core::site::{ServerId, ServerKind};

use crate::files::FileError;
use crate::machine::Machine;
use crate::permissions::User;
use crate::settings::NamedServer;
use crate::{apache, nginx};

/// A server that was found, or that a person named.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Which server it is.
    pub id: ServerId,
    /// What kind of server it is.
    pub kind: ServerKind,
    /// Where its files are, by the paths of this machine.
    pub layout: Layout,
    /// How it sees this machine's files.
    pub view: PathView,
    /// What the person said of it.
    pub named: Option<NamedServer>,
}

impl Found {
    pub(crate) fn known(id: ServerId, kind: ServerKind, layout: Layout, machine: &Machine) -> Self {
        Self { id, kind, layout, view: machine.places.view(), named: None }
    }

    fn named(machine: &Machine, server: &NamedServer) -> Option<Self> {
        let main = machine.path(server.config.as_str());
        let real = machine.real_path(server.config.as_str());
        let view = server.view(machine);
        let known = match server.kind {
            ServerKind::Apache => (yandro_core::httpd::KNOWN, yandro_core::httpd::USUAL_FOLDERS),
            ServerKind::Nginx => (yandro_core::nginx::KNOWN, yandro_core::nginx::USUAL_FOLDERS),
        };
        let at = |path: &str| view.here(Utf8Path::new(path)).unwrap_or_else(|| "/nonexistent".into());
        let layout = if real.is_dir() {
            Layout::of_folder(&main)
        } else if real.is_file() {
            Layout::named(known.0, &main, known.1, Utf8Path::is_dir, |path| at(path).exists(), at)
        } else {
            return None;
        };
        Some(Self { id: ServerId::Named(server.name), kind: server.kind, layout, view, named: Some(server.clone()) })
    }

    /// Whether it is on another machine, or in a container.
    pub fn is_elsewhere(&self) -> bool {
        self.named.as_ref().is_some_and(NamedServer::is_elsewhere)
    }

    /// Under which ports it is reached.
    pub fn published(&self) -> Published {
        self.named.as_ref().map(NamedServer::published).unwrap_or_default()
    }

    /// The main file, as the server sees it.
    pub(crate) fn main(&self) -> Utf8PathBuf {
        self.view.there_or_same(&self.layout.main)
    }

    /// Its files as it sees them.
    pub(crate) fn files(&self) -> Seen<'_> {
        let assumed = self.layout.is_folder().then(|| {
            let folder = self.main();
            let text = self.kind.dialect().assumed_main(&folder);
            (folder, text.into_bytes())
        });
        Seen { view: &self.view, files: &Disk, assumed }
    }

    /// Whose a file is that the server reads, by the server's own path.
    pub fn owner_of(&self, path: &Utf8Path) -> FileOwner {
        self.view.here(path).map_or(FileOwner::Other, |here| self.layout.owner_of(&here))
    }

    /// Whether such a file is one of yandro's.
    pub fn is_own(&self, path: &Utf8Path) -> bool {
        self.owner_of(path).is_yandro()
    }
}

/// A known layout that is there; where none is, that of the main file which the program names. Within
/// a sysroot no program is asked.
pub(crate) fn find_or_ask(
    machine: &Machine,
    known: &'static [KnownLayout],
    folders: &[&str],
    ask: impl FnOnce() -> Option<Utf8PathBuf>,
) -> Option<Layout> {
    let at = |path: &str| machine.path(path);
    let exists = |path: &str| machine.real_path(path).exists();
    Layout::find(known, exists, at).or_else(|| {
        let main = if machine.is_real() { ask() } else { None }.filter(|main| main.is_file())?;
        Some(Layout::named(known, &main, folders, Utf8Path::is_dir, exists, at))
    })
}

/// Every server: those that the person named, then what is found.
pub fn find_all(machine: &Machine) -> Vec<Found> {
    let mut found: Vec<Found> = machine.servers.iter().filter_map(|server| Found::named(machine, server)).collect();
    let is_new = |found: &[Found], layout: &Layout| found.iter().all(|other| other.layout.main != layout.main);
    let known = [
        (ServerId::Apache, ServerKind::Apache, apache::find_layout(machine)),
        (ServerId::Nginx, ServerKind::Nginx, nginx::find_layout(machine)),
    ];
    for (id, kind, layout) in known {
        if let Some(layout) = layout.filter(|layout| is_new(&found, layout)) {
            found.push(Found::known(id, kind, layout, machine));
        }
    }
    found
}

/// One of them.
pub fn find(machine: &Machine, id: ServerId) -> Option<Found> {
    if !id.is_configured() {
        return None;
    }
    find_all(machine).into_iter().find(|found| found.id == id)
}

/// The servers that the person named and that are not there.
pub fn missing<'m>(machine: &'m Machine, found: &[Found]) -> Vec<&'m NamedServer> {
    let is_missing = |server: &&NamedServer| found.iter().all(|own| own.id != ServerId::Named(server.name));
    machine.servers.iter().filter(is_missing).collect()
}

/// Reads what planning needs of a server, for the sites of these names. `is_asked` has its program
/// asked for its version: some things are written in the way that it knows.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub fn observe(
    machine: &Machine,
    found: &Found,
    names: &[HostName],
    is_asked: bool,
) -> Result<ObservedServer, FileError> {
    Ok(match found.kind {
        ServerKind::Apache => ObservedServer::Apache(Box::new(apache::observe(machine, found, names, is_asked)?)),
        ServerKind::Nginx => ObservedServer::Nginx(Box::new(nginx::observe(machine, found, names, is_asked)?)),
    })
}

/// The ports that a server's configuration names, each with the place of the line.
pub fn configured_ports(machine: &Machine, found: &Found) -> Vec<(u16, Place)> {
    match found.kind {
        ServerKind::Apache => {
            let listens = apache::configuration(machine, found).listens();
            listens.into_iter().map(|listen| (listen.port, listen.place)).collect()
        }
        ServerKind::Nginx => {
            let ports = nginx::configuration(found).servers.into_iter().flat_map(|server| {
                let place = server.host.place;
                let port = |address: &str| address.rsplit(':').next()?.parse().ok();
                server.listens.into_iter().filter_map(move |own| Some((port(&own.address)?, place.clone())))
            });
            ports.collect()
        }
    }
}

/// Whom a server of this machine runs as; nothing is known of one elsewhere.
pub fn user(machine: &Machine, found: &Found) -> Option<User> {
    match found.kind {
        _ if found.is_elsewhere() => None,
        ServerKind::Apache => apache::server_user(machine, found),
        ServerKind::Nginx => nginx::server_user(found),
    }
}
