//! Folders that are worked in. Windows has no calls that begin at an open folder; a link is looked for at each step.

use std::fs::{self, File};
use std::io::{self, Write as _};
use std::time::Duration;

use camino::{Utf8Path, Utf8PathBuf};

/// The ending of the file that marks a folder which yandro made and that goes with the last file in it.
const MARK: &str = ".yandro-made";

/// A folder.
#[derive(Debug)]
pub(crate) struct Folder(Utf8PathBuf);

impl Folder {
    /// Opens a folder.
    ///
    /// # Errors
    /// `NotFound` and `NotADirectory` for what is none.
    pub(crate) fn open(path: &Utf8Path) -> io::Result<Self> {
        if path.metadata()?.is_dir() { Ok(Self(path.to_owned())) } else { Err(io::ErrorKind::NotADirectory.into()) }
    }

    /// Opens a folder in it, unless it is a link.
    ///
    /// # Errors
    /// `NotFound` for what isn't there.
    pub(crate) fn enter(&self, name: &str) -> io::Result<Self> {
        let path = self.0.join(name);
        if path.symlink_metadata()?.is_dir() { Ok(Self(path)) } else { Err(io::ErrorKind::NotADirectory.into()) }
    }

    /// Opens a folder in it, and makes it if it isn't there, with a mark. Gives the folder and whether it was made.
    ///
    /// # Errors
    /// `NotFound` where another process took it away in between.
    pub(crate) fn enter_or_make(&self, name: &str) -> io::Result<(Self, bool)> {
        let path = self.0.join(name);
        let made = match fs::create_dir(&path) {
            Ok(()) => true,
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => false,
            Err(error) => return Err(error),
        };
        if made {
            File::create_new(path.join(MARK))?;
        }
        Ok((self.enter(name)?, made))
    }

    /// Writes a new file, with the rights that the folder hands down.
    ///
    /// # Errors
    /// When there is something of that name, or the folder may not be written.
    pub(crate) fn write_new(&self, name: &str, content: &[u8]) -> io::Result<()> {
        File::create_new(self.0.join(name))?.write_all(content)
    }

    /// Removes a file.
    ///
    /// # Errors
    /// When there is none, or it may not be removed.
    pub(crate) fn remove(&self, name: &str) -> io::Result<()> {
        fs::remove_file(self.0.join(name))
    }

    /// Removes a folder in it that was made by [`Self::enter_or_make`], if nothing but the mark is left in it.
    pub(crate) fn remove_marked(&self, name: &str, folder: &Self) {
        let mark = folder.0.join(MARK);
        let is_last = folder.names().is_empty();
        if is_last && mark.is_file() && fs::remove_file(&mark).is_ok() {
            let path = self.0.join(name);
            if fs::remove_dir(&path).is_err() && path.is_dir() {
                // Another file came in between: it takes the folder along.
                _ = File::create_new(&mark);
            }
        }
    }

    /// The names in it.
    pub(crate) fn names(&self) -> Vec<String> {
        let entries = self.0.read_dir_utf8().into_iter().flatten().flatten();
        entries.map(|entry| entry.file_name().to_owned()).filter(|name| name != MARK).collect()
    }

    /// How long ago a file in it was changed.
    pub(crate) fn age(&self, name: &str) -> Option<Duration> {
        self.0.join(name).symlink_metadata().ok()?.modified().ok()?.elapsed().ok()
    }
}
