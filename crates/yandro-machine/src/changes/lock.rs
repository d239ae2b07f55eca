//! A lock: changes happen one at a time.

use std::fs::{File, TryLockError};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::Access;

use crate::caller;
use crate::files::FileError;
use crate::machine::Machine;
use crate::os;

/// How long another user may hold the machine's lock: anybody who can read the file can.
const PATIENCE: Duration = Duration::from_secs(300);
/// Between two tries to take it.
const PAUSE: Duration = Duration::from_millis(50);

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
        // Several users may edit the machine's hosts file.
        let of_all = os::machine_lock();
        let (shared, missing) = match machine.is_real().then(|| os::lock_file(&of_all, Access::Public)) {
            Some(Ok(file)) => (Some(file), None),
            Some(Err(error)) => (None, Some(FileError::at(&of_all)(error))),
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
            while !is_taken(file, &of_all)? {
                if !may_wait() {
                    return Err(LockError::Busy(of_all));
                }
                if since.elapsed() > PATIENCE {
                    return Err(LockError::Held(of_all));
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
    let file = os::lock_file(&path, Access::Private).map_err(FileError::at(&path))?;
    machine.give_to_keeper(&path)?;
    Ok((file, path))
}

/// Makes the machine's lock, as root, where ordinary users may not: they can take it from then on.
pub(super) fn make() {
    _ = os::lock_file(&os::machine_lock(), Access::Public);
}
