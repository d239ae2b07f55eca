//! The servers of this machine, and those that the person named: in a bundle's folder, a container
//! or a virtual machine.

mod commands;
mod control;
mod daemon;
mod files;
mod kinds;
mod program;

pub(crate) use commands::run as run_command;
pub use commands::{Commands, NO_COMMAND};
pub use control::Control;
pub use daemon::Daemon;
pub(crate) use files::list;
pub use files::{Disk, sites};
use files::{WithoutOwn, own_files};
pub(crate) use kinds::DaemonKind;
pub(crate) use program::unasked_configuration;
pub use program::{configuration, report, user};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::{FileOwner, KnownLayout, Layout, PathView, Place, Published, Seen, VirtualHost};
use yandro_core::name::HostName;
use yandro_core::plan::ServerModel;
use yandro_core::servers::{Loopback6, Seeing, ServerKind};
use yandro_core::site::ServerId;

use crate::files::FileError;
use crate::machine::Machine;
use crate::network;
use crate::settings::NamedServer;

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
        let software = server.kind.software();
        let at = |path: &str| view.here(Utf8Path::new(path)).unwrap_or_else(|| "/nonexistent".into());
        let layout = if real.is_dir() {
            Layout::of_folder(&main)
        } else if real.is_file() {
            Layout::named(
                software.layouts(),
                &main,
                software.site_folders(),
                Utf8Path::is_dir,
                |path| at(path).exists(),
                at,
            )
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
            let text = self.kind.software().dialect().assumed_main(&folder);
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
    for kind in ServerKind::ALL {
        if let Some(layout) = program::find_layout(machine, *kind).filter(|layout| is_new(&found, layout)) {
            found.push(Found::known(ServerId::Found(*kind), *kind, layout, machine));
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
/// When a file or folder of yandro's own is there and can't be read.
pub fn observe(
    machine: &Machine,
    found: &Found,
    names: &[HostName],
    is_asked: bool,
) -> Result<Box<dyn ServerModel>, FileError> {
    let is_known = found.kind.software().knows_built_in(&found.layout);
    let start = program::start(machine, found, is_asked || !is_known);
    let loopback6 = || Loopback6 {
        is_there: !machine.is_real() || network::has_v6_loopback(),
        listens: if machine.is_real() { network::listens_on_v6(80) } else { None },
        would_listen: !machine.is_real() || network::would_listen_on_v6(),
    };
    Ok(found.kind.software().observe(Seeing {
        own: own_files(found, names)?,
        start,
        files: &WithoutOwn(found),
        owner_of: &|file| found.owner_of(file),
        loopback6: (!found.is_elsewhere()).then(loopback6),
    }))
}

/// The virtual hosts of other people that answered for names without a site, and whose place a
/// site of yandro's has taken, since its file comes first: place and address.
pub fn displaced(machine: &Machine, found: &Found) -> Vec<(Place, String)> {
    let configuration = unasked_configuration(machine, found);
    let owner = |host: &VirtualHost| found.owner_of(host.place.file.as_str().into());
    let displaced = configuration.answering().into_iter().filter_map(|at| {
        let default = at.hosts.get(at.default).filter(|default| matches!(owner(default), FileOwner::Site(_)));
        let other = at.hosts.iter().find(|host| !owner(host).is_yandro())?;
        default.map(|_| (other.place.clone(), at.address.clone()))
    });
    displaced.collect()
}

/// The ports that a server's configuration names, each with the place of the line.
pub fn configured_ports(machine: &Machine, found: &Found) -> Vec<(u16, Place)> {
    let listeners = configuration(machine, found).listeners();
    listeners.into_iter().map(|listener| (listener.port, listener.place)).collect()
}
