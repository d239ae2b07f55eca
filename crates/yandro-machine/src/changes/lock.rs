//! One change at a time.

use std::fs::{File, OpenOptions, TryLockError};
use std::os::unix::fs::OpenOptionsExt as _;

use camino::Utf8PathBuf;

use crate::files::FileError;
use crate::machine::Machine;

/// The lock of the whole machine, beside each user's own: several may edit its hosts file.
const MACHINE: &str = "/run/lock/yandro";

/// Held by the one command that changes something; given back when dropped.
#[derive(Debug)]
pub struct Lock {
    // The locks live as long as the open files.
    _files: Vec<File>,
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
        machine.make_own_folder(data)?;
        let own = data.join("lock");
        let open = OpenOptions::new().read(true).write(true).create(true).truncate(false).mode(0o600).open(&own);
        let mut files = vec![(open.map_err(FileError::at(&own))?, own.clone())];
        machine.give_to_keeper(&own)?;
        if machine.is_real()
            && let Some(file) = of_the_machine()
        {
            files.push((file, MACHINE.into()));
        }
        let mut on_wait = Some(on_wait);
        for (file, path) in &files {
            match file.try_lock() {
                Ok(()) => {}
                // Asked once, whichever of the two is held.
                Err(TryLockError::WouldBlock) if on_wait.take().is_none_or(|on_wait| on_wait()) => {
                    file.lock().map_err(FileError::at(path))?;
                }
                Err(TryLockError::WouldBlock) => return Err(LockError::Busy(path.clone())),
                Err(TryLockError::Error(error)) => return Err(FileError::at(path)(error).into()),
            }
        }
        Ok(Self { _files: files.into_iter().map(|(file, _)| file).collect() })
    }
}

/// Opened for reading alone, which is enough to lock it, since it may belong to another
/// user; `None` on a machine that has no folder for such files.
fn of_the_machine() -> Option<File> {
    let create = || OpenOptions::new().write(true).create_new(true).mode(0o644).custom_flags(NOFOLLOW).open(MACHINE);
    let open = || OpenOptions::new().read(true).custom_flags(NOFOLLOW).open(MACHINE);
    open().or_else(|_| create()).or_else(|_| open()).ok()
}

/// Whoever may write the folder shall not lead us elsewhere.
const NOFOLLOW: i32 = rustix::fs::OFlags::NOFOLLOW.bits().cast_signed();
