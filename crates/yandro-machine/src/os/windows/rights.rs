//! Access rights of other users. Servers run here as the system itself or as the person who started them, so that no
//! folder of that person's is closed to them: nothing is asked of the lists, and nothing changed in them.

use std::io;

use camino::Utf8Path;
use yandro_core::Rights;

use super::{UserId, account, account_named};

/// A user.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// The login name.
    pub name: String,
}

impl User {
    /// The user of this number.
    pub(crate) fn of_number(user: UserId) -> Option<Self> {
        account(user).map(|account| Self { name: account.name })
    }

    /// The user of this name.
    pub fn of_name(name: &str) -> Option<Self> {
        account_named(name).map(|account| Self { name: account.name })
    }
}

/// Whether a user is a person: neither the system nor a service's account.
pub(crate) fn is_person(user: UserId) -> bool {
    user.0.is_person()
}

/// The permission bits of a file or folder: Windows has none.
///
/// # Errors
/// When it isn't there.
pub(crate) fn mode(path: &Utf8Path) -> io::Result<u32> {
    path.metadata().map(|_| 0)
}

/// The command by which a user gets rights on a file or folder.
pub(crate) fn granting(path: &Utf8Path, user: &User, _: &str) -> String {
    format!("icacls \"{path}\" /grant \"{}:(RX)\"", user.name)
}

/// A user's rights on a file: they are not asked for.
pub(crate) fn rights(_: &Utf8Path, _: &User) -> Option<u32> {
    None
}

/// Rights on a file or folder by which a user also has these: they are not changed.
///
/// # Errors
/// Always.
pub(crate) fn rights_with(_: &Utf8Path, _: &User, _: u32) -> io::Result<Rights> {
    Err(io::ErrorKind::Unsupported.into())
}

/// The rights of a file or folder, in the form in which they would be recorded.
///
/// # Errors
/// Always.
pub(crate) fn rights_of(_: &Utf8Path) -> io::Result<Rights> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Gives a file or folder such rights.
///
/// # Errors
/// Always.
pub(crate) fn set_rights(_: &Utf8Path, _: &Rights) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}
