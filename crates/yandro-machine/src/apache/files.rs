//! The files of a configuration, as a server sees them.

use std::fs;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::{Layout, OTHERS};
use yandro_core::httpd::run::{Configuration, Files, Start};

use crate::machine::Machine;

/// Files below a sysroot, as a server in it sees them.
#[derive(Debug)]
pub(crate) struct FilesBelow<'m>(pub(crate) &'m Utf8Path);

impl FilesBelow<'_> {
    fn real(&self, path: &Utf8Path) -> Utf8PathBuf {
        let text = path.as_str();
        // A drive, as paths have it on Windows.
        let below = match text.as_bytes() {
            [drive, b':', ..] if drive.is_ascii_alphabetic() => &text[2..],
            _ => text,
        };
        self.0.join(below.trim_start_matches('/'))
    }
}

impl Files for FilesBelow<'_> {
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>> {
        fs::read(self.real(path)).ok()
    }

    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>> {
        let entries = self.real(folder).read_dir_utf8().ok()?;
        Some(entries.filter_map(|entry| Some(entry.ok()?.file_name().to_owned())).collect())
    }

    fn exists(&self, path: &Utf8Path) -> bool {
        self.real(path).exists()
    }
}

/// The same as if yandro's own site files, of which there may be a thousand, were not there, but
/// for the one for other names.
pub(crate) struct WithoutOwn<'m> {
    pub(crate) machine: &'m Machine,
    pub(crate) layout: &'m Layout,
}

impl WithoutOwn<'_> {
    fn is_own(&self, path: &Utf8Path) -> bool {
        self.layout.is_own(&self.machine.path(path.as_str())) && !path.as_str().contains(OTHERS)
    }
}

impl Files for WithoutOwn<'_> {
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>> {
        if self.is_own(path) { None } else { FilesBelow(&self.machine.places.sysroot).read(path) }
    }

    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>> {
        let mut names = FilesBelow(&self.machine.places.sysroot).list(folder)?;
        if self.machine.path(folder.as_str()) == self.layout.read_folder() {
            names.retain(|name| !self.is_own(&folder.join(name)));
        }
        Some(names)
    }

    fn exists(&self, path: &Utf8Path) -> bool {
        !self.is_own(path) && FilesBelow(&self.machine.places.sysroot).exists(path)
    }
}

/// Runs through a configuration below `sysroot`.
pub fn run_through(sysroot: &Utf8Path, start: &Start) -> Configuration {
    Configuration::run(start, &FilesBelow(sysroot))
}
