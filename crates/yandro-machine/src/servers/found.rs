//! A server that was found, or that a person named.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    FileOwner, KnownLayout, Layout, LayoutDisk, PathView, Published, Seen, ServerId, ServerKind, ServerPath,
};

use super::disk::Disk;
use crate::machine::Machine;
use crate::settings::NamedServer;

/// A server that was found, or that a person named.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// How commands and the site list name it.
    pub id: ServerId,
    /// Which software it is.
    pub kind: ServerKind,
    /// Its files, by the paths of this machine.
    pub layout: Layout,
    /// How it sees this machine's files.
    pub view: PathView,
    /// Its settings, if the user added it.
    pub named: Option<NamedServer>,
}

impl Found {
    pub(crate) fn known(id: ServerId, kind: ServerKind, layout: Layout, machine: &Machine) -> Self {
        Self { id, kind, layout, view: machine.places.view(), named: None }
    }

    pub(super) fn named(machine: &Machine, server: &NamedServer) -> Option<Self> {
        let main = machine.path(server.config.as_str());
        let real = machine.real_path(server.config.as_str());
        let view = server.view(machine);
        let software = server.kind.software();
        let at = |path: &str| view.here(&path.into()).unwrap_or_else(|| "/nonexistent".into());
        let layout = if real.is_dir() {
            Layout::of_folder(&main)
        } else if real.is_file() {
            let disk = LayoutDisk { is_folder: &Utf8Path::is_dir, exists: &|path| at(path).exists(), at: &at };
            Layout::named(software.layouts(), &main, software.site_folders(), &disk)
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
    pub(crate) fn main(&self) -> ServerPath {
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

    /// Owner of a file that the server reads, by the server's own path.
    pub fn owner_of(&self, path: &ServerPath) -> FileOwner {
        self.view.here(path).map_or(FileOwner::Other, |here| self.layout.owner_of(&here))
    }

    /// Whether such a file is one of yandro's.
    pub fn is_own(&self, path: &ServerPath) -> bool {
        self.owner_of(path).is_yandro()
    }
}

/// A known layout that is there; where none is, that of the main file which the program names. Within
/// a sysroot no program is asked.
pub(super) fn find_or_ask(
    machine: &Machine,
    known: &'static [KnownLayout],
    folders: &[&str],
    ask: impl FnOnce() -> Option<Utf8PathBuf>,
) -> Option<Layout> {
    let at = |path: &str| machine.path(path);
    let exists = |path: &str| machine.real_path(path).exists();
    Layout::find(known, exists, at).or_else(|| {
        let main = if machine.is_real() { ask() } else { None }.filter(|main| main.is_file())?;
        Some(Layout::named(
            known,
            &main,
            folders,
            &LayoutDisk { is_folder: &Utf8Path::is_dir, exists: &exists, at: &at },
        ))
    })
}
