//! The logs of a site, and what is added to them.

use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Site, TookField};

use super::configuration;
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::os::{self, FileId};
use crate::servers::{self, Found};

/// How much of a log is read at once, in bytes.
const AT_ONCE: u64 = 1 << 20;

/// The kind of a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogKind {
    /// Requests.
    Access,
    /// Errors.
    Error,
}

/// A log of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteLog {
    /// The file on this machine.
    pub path: Utf8PathBuf,
    /// The kind of its lines.
    pub kind: LogKind,
    /// Whether other sites write into it, too.
    pub is_shared: bool,
    /// Where its lines have the time that a request took.
    pub took: Option<TookField>,
}

/// The logs of a site, as its server's configuration names them.
pub fn site_logs(machine: &Machine, found: &Found, site: &Site) -> Vec<SiteLog> {
    let read = servers::configuration(machine, found);
    let shared = configuration::main_error_logs(&*read, found);
    let access = configuration::access_logs(&*read, found, site).into_iter();
    let access = access.map(|log| {
        let path = found.view.here_or_same(&log.path);
        SiteLog { path, kind: LogKind::Access, is_shared: log.is_shared, took: log.took }
    });
    let own = configuration::error_logs(&*read, found, site);
    // The server's own log has lines of all sites.
    let own = if own.len() > 1 { own.into_iter().filter(|path| !shared.contains(path)).collect() } else { own };
    let errors = own.into_iter().map(|path| {
        let is_shared = shared.contains(&path);
        SiteLog { path, kind: LogKind::Error, is_shared, took: None }
    });
    let is_file = |log: &SiteLog| log.path != "/dev/null" && !log.path.as_str().contains(['|', '$']);
    access.chain(errors).filter(is_file).collect()
}

/// A log that is followed, also when it is rotated: moved away and begun again, or emptied.
#[derive(Debug)]
pub struct Followed {
    path: Utf8PathBuf,
    open: Option<(File, FileId)>,
    /// Up to where it was read.
    read: u64,
    /// A line whose end was not written yet.
    begun: Vec<u8>,
}

impl Followed {
    /// Opens a log, and gives the lines of its last megabyte. A log that isn't there yet has none.
    ///
    /// # Errors
    /// When it can't be read.
    pub fn open(path: &Utf8Path) -> Result<(Self, Vec<String>), FileError> {
        let mut log = Self { path: path.to_owned(), open: None, read: 0, begun: Vec::new() };
        if !log.opens()? {
            return Ok((log, Vec::new()));
        }
        let from = log.length().saturating_sub(AT_ONCE);
        log.read = from;
        let mut lines = log.added()?;
        if from > 0 && !lines.is_empty() {
            // It was begun before.
            lines.remove(0);
        }
        Ok((log, lines))
    }

    /// Opens the file that is there now. `false` if there is none.
    fn opens(&mut self) -> Result<bool, FileError> {
        match files::open_regular(&self.path) {
            Ok(file) => {
                let id = os::file_id(&self.path);
                self.open = id.map(|id| (file, id));
                (self.read, self.begun) = (0, Vec::new());
                Ok(self.open.is_some())
            }
            Err(error) if error.source.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error),
        }
    }

    fn length(&self) -> u64 {
        self.open.as_ref().and_then(|(file, _)| file.metadata().ok()).map_or(0, |meta| meta.len())
    }

    /// The lines that were added since, the rest of a file that was moved away included.
    ///
    /// # Errors
    /// When it can't be read.
    pub fn added(&mut self) -> Result<Vec<String>, FileError> {
        let mut lines = self.rest()?;
        let now = os::file_id(&self.path);
        let is_other = now.is_some() && now != self.open.as_ref().map(|(_, id)| *id);
        if is_other && self.opens()? {
            lines.extend(self.rest()?);
        }
        Ok(lines)
    }

    /// Reads the rest of the open file.
    fn rest(&mut self) -> Result<Vec<String>, FileError> {
        let length = self.length();
        if length < self.read {
            (self.read, self.begun) = (0, Vec::new());
        }
        let Some((file, _)) = &mut self.open else { return Ok(Vec::new()) };
        if length == self.read {
            return Ok(Vec::new());
        }
        let mut read = || -> io::Result<()> {
            file.seek(SeekFrom::Start(self.read))?;
            self.read += file.take(length - self.read).read_to_end(&mut self.begun)? as u64;
            Ok(())
        };
        read().map_err(FileError::at(&self.path))?;
        let end = self.begun.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let text: Vec<u8> = self.begun.drain(..end).collect();
        Ok(String::from_utf8_lossy(&text).lines().map(str::to_owned).collect())
    }
}

#[cfg(test)]
mod tests {
    use std::fs::{self, OpenOptions};
    use std::io::Write as _;

    use super::*;

    #[test]
    fn a_log_is_followed_through_its_rotation() {
        let folder = tempfile::tempdir().unwrap();
        let path = Utf8PathBuf::from_path_buf(folder.path().join("access.log")).unwrap();
        let (mut early, lines) = Followed::open(&path).unwrap();
        assert!(lines.is_empty());
        let add = |path: &Utf8Path, text: &str| {
            let mut file = OpenOptions::new().append(true).create(true).open(path).unwrap();
            file.write_all(text.as_bytes()).unwrap();
        };
        add(&path, "one\ntwo\nhalf");
        assert_eq!(early.added().unwrap(), ["one", "two"], "it wasn't there before");
        let (mut log, lines) = Followed::open(&path).unwrap();
        assert_eq!(lines, ["one", "two"]);
        assert!(log.added().unwrap().is_empty());
        add(&path, " done\n");
        assert_eq!(log.added().unwrap(), ["half done"]);
        // Moved away, and still written to for a moment.
        let old = path.with_extension("log.1");
        fs::rename(&path, &old).unwrap();
        add(&old, "late\n");
        add(&path, "new\n");
        assert_eq!(log.added().unwrap(), ["late", "new"]);
        // Emptied in place.
        fs::write(&path, "").unwrap();
        assert!(log.added().unwrap().is_empty());
        add(&path, "x\n");
        assert_eq!(log.added().unwrap(), ["x"]);
        // A long one: only its end, from a whole line on.
        fs::write(&path, "line\n".repeat(300_000)).unwrap();
        let (_, lines) = Followed::open(&path).unwrap();
        assert!(lines.len() > 200_000 && lines.len() < 210_000 && lines.iter().all(|line| line == "line"));
    }
}
