//! The files of this machine, as a server's configuration is read from them.

use camino::Utf8Path;
use yandro_core::Files;

use crate::files;

/// The files of this machine.
#[derive(Clone, Copy, Debug)]
pub struct Disk;

impl Files for Disk {
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>> {
        files::read(path).ok()
    }

    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>> {
        let entries = files::follow(folder).ok()?.read_dir_utf8().ok()?;
        Some(entries.filter_map(|entry| Some(entry.ok()?.file_name().to_owned())).collect())
    }

    fn exists(&self, path: &Utf8Path) -> bool {
        files::follow(path).is_ok_and(|path| path.exists())
    }
}
