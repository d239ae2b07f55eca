//! One change at a time.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};

use camino::Utf8PathBuf;

use crate::files::FileError;
use crate::machine::Machine;

/// Held by the one command that changes something; given back when dropped.
#[derive(Debug)]
pub struct Lock {
    // The lock lives as long as the open file.
    _file: File,
}

/// Why the lock was not to be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LockError {
    /// Another command holds it.
    #[error("another yandro is changing this machine (its lock is {0})")]
    Busy(Utf8PathBuf),
    /// The lock's file can't be made or opened.
    #[error(transparent)]
    File(#[from] FileError),
}

impl Lock {
    /// Takes the lock. If another command holds it, calls `on_wait` once and waits,
    /// or fails when `on_wait` says `false`.
    ///
    /// # Errors
    /// [`LockError::Busy`] when waiting is not wanted.
    pub fn take(machine: &Machine, on_wait: impl FnOnce() -> bool) -> Result<Self, LockError> {
        let data = &machine.places.data;
        if !data.exists() {
            fs::DirBuilder::new().recursive(true).mode(0o700).create(data).map_err(FileError::at(data))?;
            machine.give_to_keeper(data)?;
        }
        let path = data.join("lock");
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .mode(0o600)
            .open(&path)
            .map_err(FileError::at(&path))?;
        machine.give_to_keeper(&path)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) if on_wait() => file.lock().map_err(FileError::at(&path))?,
            Err(TryLockError::WouldBlock) => return Err(LockError::Busy(path)),
            Err(TryLockError::Error(error)) => return Err(FileError::at(&path)(error).into()),
        }
        Ok(Self { _file: file })
    }
}
