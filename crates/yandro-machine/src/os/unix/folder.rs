//! Folders that are kept open: what is done in them follows no link, wherever their paths lead by then.

use std::io;
use std::time::{Duration, SystemTime};

use camino::Utf8Path;
use rustix::fd::OwnedFd;
use rustix::fs::{AtFlags, Mode, OFlags, fchmod, fstat, mkdirat, openat, statat, unlinkat};
use rustix::io::Errno;

const DIRECTORY: OFlags = OFlags::DIRECTORY.union(OFlags::CLOEXEC);
/// A new file, never one that a link leads to.
const CREATE: OFlags =
    OFlags::CREATE.union(OFlags::EXCL).union(OFlags::NOFOLLOW).union(OFlags::WRONLY).union(OFlags::CLOEXEC);
/// The mark of a folder that yandro made and that goes with the last file in it, also when the process that made it
/// was killed: the sticky bit. It comes and goes with the folder in one call, which a file in it wouldn't.
const MARK: Mode = Mode::SVTX;

/// An open folder.
#[derive(Debug)]
pub(crate) struct Folder(OwnedFd);

impl Folder {
    /// Opens a folder.
    ///
    /// # Errors
    /// `NotFound` and `NotADirectory` for what is none.
    pub(crate) fn open(path: &Utf8Path) -> io::Result<Self> {
        Ok(Self(rustix::fs::open(path.as_std_path(), DIRECTORY, Mode::empty())?))
    }

    /// Opens a folder in it that is no link.
    ///
    /// # Errors
    /// `NotFound` for what isn't there.
    pub(crate) fn enter(&self, name: &str) -> io::Result<Self> {
        Ok(Self(openat(&self.0, name, DIRECTORY | OFlags::NOFOLLOW, Mode::empty())?))
    }

    /// Opens a folder in it, and makes it if it isn't there: with a mark, and for everybody to enter. Gives the folder and
    /// whether it was made.
    ///
    /// # Errors
    /// `NotFound` where another process took it away in between.
    pub(crate) fn enter_or_make(&self, name: &str) -> io::Result<(Self, bool)> {
        let mode = MARK | Mode::from_raw_mode(0o755);
        let made = match mkdirat(&self.0, name, mode) {
            Ok(()) => true,
            Err(Errno::EXIST) => false,
            Err(error) => return Err(error.into()),
        };
        let folder = self.enter(name)?;
        if made {
            // Whatever the umask: the server's user has to enter it.
            fchmod(&folder.0, mode)?;
        }
        Ok((folder, made))
    }

    /// Writes a new file that everybody may read.
    ///
    /// # Errors
    /// When there is something of that name, or the folder may not be written.
    pub(crate) fn write_new(&self, name: &str, content: &[u8]) -> io::Result<()> {
        let readable = Mode::from_raw_mode(0o644);
        let file = openat(&self.0, name, CREATE, readable)?;
        fchmod(&file, readable)?;
        rustix::io::write(&file, content)?;
        Ok(())
    }

    /// Removes a file.
    ///
    /// # Errors
    /// When there is none, or it may not be removed.
    pub(crate) fn remove(&self, name: &str) -> io::Result<()> {
        Ok(unlinkat(&self.0, name, AtFlags::empty())?)
    }

    /// Removes a folder in it that was made by [`Self::enter_or_make`], if nothing is left in it.
    pub(crate) fn remove_marked(&self, name: &str, folder: &Self) {
        if fstat(&folder.0).is_ok_and(|stat| Mode::from_raw_mode(stat.st_mode).contains(MARK)) {
            // Another file may still be there; the last one takes the folder along.
            _ = unlinkat(&self.0, name, AtFlags::REMOVEDIR);
        }
    }

    /// The names in it.
    pub(crate) fn names(&self) -> Vec<String> {
        let entries = rustix::fs::Dir::read_from(&self.0).into_iter().flatten().flatten();
        entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
    }

    /// How long ago a file in it was changed.
    pub(crate) fn age(&self, name: &str) -> Option<Duration> {
        let stat = statat(&self.0, name, AtFlags::SYMLINK_NOFOLLOW).ok()?;
        let changed = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(stat.st_mtime).unwrap_or(0));
        changed.elapsed().ok()
    }
}
