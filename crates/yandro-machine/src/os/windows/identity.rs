//! This process's user, other users, and the name and addresses of the machine.

use std::fmt;
use std::io;
use std::str::FromStr;
use std::sync::OnceLock;

use camino::Utf8PathBuf;
use core::net::IpAddr;
use serde::{Deserialize, Serialize};
use yandro_sys::windows::{Sid, network, users};

use super::Owner;

/// A user's security identifier.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct UserId(pub(super) Sid);

impl fmt::Display for UserId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl FromStr for UserId {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        text.parse().map(Self)
    }
}

impl Serialize for UserId {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for UserId {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// A user of the machine or of its domain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Account {
    /// The login name.
    pub(crate) name: String,
    /// The security identifier.
    pub(crate) number: UserId,
    /// The home folder, which is known of this process's user.
    pub(crate) home: Option<Utf8PathBuf>,
}

/// The user with a security identifier.
pub(crate) fn account(number: UserId) -> Option<Account> {
    let home = (number == this_user()).then(|| std::env::home_dir().and_then(|home| home.try_into().ok())).flatten();
    // The system didn't say whose it is.
    let name = if number.0 == Sid::NOBODY { Some("unknown".to_owned()) } else { users::name(&number.0) };
    name.map(|name| Account { name, number, home })
}

/// The user with a name.
pub(crate) fn account_named(name: &str) -> Option<Account> {
    account(UserId(users::named(name)?))
}

/// The user whose rights this process has.
pub(crate) fn this_user() -> UserId {
    static OWN: OnceLock<UserId> = OnceLock::new();
    *OWN.get_or_init(|| UserId(users::this_user().unwrap_or(Sid::NOBODY)))
}

/// Whether this process has an administrator's full rights.
pub(crate) fn is_root() -> bool {
    static OWN: OnceLock<bool> = OnceLock::new();
    *OWN.get_or_init(users::is_elevated)
}

/// Whether a user is the system itself.
pub(crate) fn is_roots(user: UserId) -> bool {
    user.0 == Sid::SYSTEM
}

/// Makes this process another user's: that can't be.
///
/// # Errors
/// Always.
pub(crate) fn become_user(_: Owner) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Another user's rights on files: this system knows no sudo, and nobody takes them.
#[derive(Debug)]
pub(crate) struct FileRights;

impl FileRights {
    /// Whether they are one thread's, and not the whole process's.
    pub(crate) const ARE_OF_THREAD: bool = true;

    /// Takes a user's rights on files: none.
    pub(crate) fn take(_: Owner) -> Option<Self> {
        None
    }

    /// Whether this thread has another user's rights just now.
    pub(crate) fn are_taken() -> bool {
        false
    }
}

/// The name of the machine.
pub(crate) fn host_name() -> String {
    users::host_name().unwrap_or_else(|| "localhost".to_owned())
}

/// The addresses of the interfaces, each with the name of its interface; none where the system doesn't tell.
pub(crate) fn addresses() -> Vec<(String, IpAddr)> {
    network::addresses()
}

/// Does something as this user: servers of databases have no sockets that ask the system who somebody is.
///
/// # Errors
/// Those of the work.
pub(crate) fn as_account<T: Send>(_: &str, work: impl FnOnce() -> io::Result<T> + Send) -> io::Result<T> {
    work()
}
