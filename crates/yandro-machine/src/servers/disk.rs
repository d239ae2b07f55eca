//! The files of this machine, as a server's configuration is read from them.

use yandro_core::{Files, ServerPath};

use crate::files;

/// The files of this machine.
#[derive(Clone, Copy, Debug)]
pub struct Disk;

impl Files for Disk {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        files::read(&path.to_native()).ok()
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let entries = files::follow(&folder.to_native()).ok()?.read_dir_utf8().ok()?;
        Some(entries.filter_map(|entry| Some(entry.ok()?.file_name().to_owned())).collect())
    }

    fn exists(&self, path: &ServerPath) -> bool {
        files::follow(&path.to_native()).is_ok_and(|path| path.exists())
    }
}
