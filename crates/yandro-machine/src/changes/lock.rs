//! A lock: changes happen one at a time.

use std::fs::{File, Metadata, OpenOptions, TryLockError};
use std::io::{Error, ErrorKind};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use rustix::fs::{Gid, Mode, OFlags, Uid, fchmod, fchown};

use crate::caller;
use crate::files::FileError;
use crate::machine::Machine;
use crate::os;

/// The lock of the whole machine, in addition to each user's: several may edit its hosts file.
const MACHINE: &str = "/run/lock/yandro";
/// How long another user may hold the machine's lock: anybody who can read the file can.
const PATIENCE: Duration = Duration::from_secs(300);
/// Between two tries to take it.
const PAUSE: Duration = Duration::from_millis(50);
/// Other users may write in the folder: their links are not followed, and their FIFOs don't block.
const CAREFUL: OFlags = OFlags::NOFOLLOW.union(OFlags::NONBLOCK);

/// Held by the one command that changes something; given back when dropped.
#[derive(Debug)]
pub struct Lock {
    // The locks live as long as the open files.
    _files: Vec<File>,
    missing: Option<FileError>,
}

/// Why the lock was not to be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LockError {
    /// Another command holds it.
    #[error("another yandro is changing this machine (its lock is {0})")]
    Busy(Utf8PathBuf),
    /// Somebody has held the machine's lock for longer than a change takes.
    #[error("another user's program has held {0} for {mins} minutes", mins = PATIENCE.as_secs() / 60)]
    Held(Utf8PathBuf),
    /// The lock's file can't be made or opened.
    #[error(transparent)]
    File(#[from] FileError),
}

impl Lock {
    /// Takes the lock. If another command holds it, calls `on_wait` once and waits,
    /// or fails when `on_wait` says `false`.
    ///
    /// # Errors
    /// [`LockError::Busy`] when waiting is not wanted, [`LockError::Held`] when it lasts for minutes.
    pub fn take(machine: &Machine, on_wait: impl FnOnce() -> bool) -> Result<Self, LockError> {
        let own = own(machine)?;
        let (shared, missing) = match machine.is_real().then(of_the_machine) {
            Some(Ok(file)) => (Some(file), None),
            Some(Err(error)) => (None, Some(FileError::at(Utf8Path::new(MACHINE))(error))),
            None => (None, None),
        };
        // Asked once, whichever of the two is held.
        let mut on_wait = Some(on_wait);
        let mut may_wait = || on_wait.take().is_none_or(|on_wait| on_wait());
        if !is_taken(&own.0, &own.1)? {
            if !may_wait() {
                return Err(LockError::Busy(own.1));
            }
            own.0.lock().map_err(FileError::at(&own.1))?;
        }
        if let Some(file) = &shared {
            let since = Instant::now();
            while !is_taken(file, MACHINE.into())? {
                if !may_wait() {
                    return Err(LockError::Busy(MACHINE.into()));
                }
                if since.elapsed() > PATIENCE {
                    return Err(LockError::Held(MACHINE.into()));
                }
                std::thread::sleep(PAUSE);
            }
        }
        Ok(Self { _files: [Some(own.0), shared].into_iter().flatten().collect(), missing })
    }

    /// Reason why the users of this machine share no lock, if so.
    pub fn missing(&self) -> Option<&FileError> {
        self.missing.as_ref()
    }
}

/// Takes a lock unless another holds it.
fn is_taken(file: &File, path: &Utf8Path) -> Result<bool, FileError> {
    match file.try_lock() {
        Ok(()) => Ok(true),
        Err(TryLockError::WouldBlock) => Ok(false),
        Err(TryLockError::Error(error)) => Err(FileError::at(path)(error)),
    }
}

/// The user's own lock.
fn own(machine: &Machine) -> Result<(File, Utf8PathBuf), FileError> {
    let data = &machine.places.data;
    machine.make_own_folder(data)?;
    let path = data.join("lock");
    let _rights = caller::rights_for(&path);
    let mut options = careful();
    let open = options.write(true).create(true).truncate(false).mode(0o600).open(&path);
    let file = open.and_then(regular).map_err(FileError::at(&path))?;
    machine.give_to_keeper(&path)?;
    Ok((file, path))
}

/// Opened only for reading, which is enough to lock it, since it may belong to another user. Root
/// makes it root's, so that nobody can replace it while others wait for it.
fn of_the_machine() -> Result<File, Error> {
    let create = || careful().write(true).create_new(true).mode(0o644).open(MACHINE);
    let open = || careful().open(MACHINE);
    let file = open().or_else(|error| if error.kind() == ErrorKind::NotFound { create() } else { Err(error) });
    // Another command may have made it in between.
    let file = file.or_else(|error| if error.kind() == ErrorKind::AlreadyExists { open() } else { Err(error) });
    let file = file.and_then(regular)?;
    if os::is_root() && file.metadata()?.uid() != 0 {
        // If that fails, the file still locks.
        _ = fchown(&file, Some(Uid::ROOT), Some(Gid::ROOT)).and_then(|()| fchmod(&file, Mode::from_raw_mode(0o644)));
    }
    Ok(file)
}

/// Makes the machine's lock, as root, where ordinary users may not: they can take it from then on.
pub(super) fn make() {
    _ = of_the_machine();
}

fn careful() -> OpenOptions {
    let mut options = OpenOptions::new();
    options.read(true).custom_flags(CAREFUL.bits().cast_signed());
    options
}

fn regular(file: File) -> Result<File, Error> {
    if is_plain(&file.metadata()?) {
        Ok(file)
    } else {
        Err(Error::other("it is not a regular file, or it has a second name"))
    }
}

/// A regular file under one name: another's file, linked here, must not be made root's.
fn is_plain(meta: &Metadata) -> bool {
    meta.is_file() && meta.nlink() == 1
}
