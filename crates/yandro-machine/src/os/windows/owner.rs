//! Giving files and folders to a user.

use std::io;

use camino::Utf8Path;

use super::{Account, UserId};

/// A user who is to own files. Nobody works for another user here as root does under sudo.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Owner {
    /// The user.
    pub(crate) user: UserId,
}

impl From<&Account> for Owner {
    fn from(account: &Account) -> Self {
        Self { user: account.number }
    }
}

impl Owner {
    /// Gives a file or folder to this user.
    ///
    /// # Errors
    /// Always: only its own user makes it.
    #[expect(clippy::unused_self, reason = "as on other systems")]
    pub(crate) fn give(self, _: &Utf8Path) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

/// Gives a new folder of a project what its own folder hands down: the system has done that.
///
/// # Errors
/// None.
#[expect(clippy::unnecessary_wraps, reason = "as on other systems")]
pub(crate) fn give_project(_: &Utf8Path, _: Option<Owner>) -> io::Result<()> {
    Ok(())
}
