//! Who runs this, other users, and the name and addresses of the machine.

use std::io;

use camino::Utf8PathBuf;
use core::net::IpAddr;
use nix::ifaddrs::{InterfaceAddress, getifaddrs};
use nix::unistd::{Gid, Uid, User, geteuid, getuid, setgid, setuid};

use super::{Owner, UserId, init_groups};

/// A user of the machine, wherever the system has its users from (getpwuid(3)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Account {
    /// The login name.
    pub(crate) name: String,
    /// The number.
    pub(crate) number: UserId,
    /// The number of the main group.
    pub(crate) group: u32,
    /// The home folder; `None` for one that is not UTF-8.
    pub(crate) home: Option<Utf8PathBuf>,
}

impl From<User> for Account {
    fn from(user: User) -> Self {
        Self {
            name: user.name,
            number: user.uid.as_raw(),
            group: user.gid.as_raw(),
            home: Utf8PathBuf::from_path_buf(user.dir).ok(),
        }
    }
}

/// The user with a number.
pub(crate) fn account(number: UserId) -> Option<Account> {
    User::from_uid(number.into()).ok().flatten().map(Account::from)
}

/// The user with a name.
pub(crate) fn account_named(name: &str) -> Option<Account> {
    User::from_name(name).ok().flatten().map(Account::from)
}

/// The number of the user whose rights this process has.
pub(crate) fn this_user() -> UserId {
    geteuid().as_raw()
}

/// The number of the group whose rights this process has.
pub(crate) fn this_group() -> u32 {
    rustix::process::getegid().as_raw()
}

/// Whether this process has root's rights.
pub(crate) fn is_root() -> bool {
    geteuid().is_root()
}

/// Makes root's process a user's: all threads, all user and group ids, for good.
///
/// # Errors
/// When the system refuses, or root's rights could be had back.
pub(crate) fn become_user(owner: Owner) -> io::Result<()> {
    let Owner { user: number, group } = owner;
    let user = Uid::from_raw(number);
    let name = account(number).and_then(|user| std::ffi::CString::new(user.name).ok());
    init_groups(name.as_deref(), group)?;
    setgid(Gid::from_raw(group))?;
    // Called by root, it sets the real and the saved one as well (setuid(2)).
    setuid(user)?;
    if getuid() != user || geteuid() != user || !user.is_root() && setuid(Uid::from_raw(0)).is_ok() {
        return Err(io::Error::other("root's rights could not be given up"));
    }
    Ok(())
}

/// The name of the machine (uname(2)).
pub(crate) fn host_name() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

/// The addresses of the interfaces, each with the name of its interface; none where the system doesn't tell.
pub(crate) fn addresses() -> Vec<(String, IpAddr)> {
    let of = |found: InterfaceAddress| {
        let socket = found.address?;
        let v4 = socket.as_sockaddr_in().map(|own| IpAddr::V4(own.ip()));
        let address = v4.or_else(|| socket.as_sockaddr_in6().map(|own| IpAddr::V6(own.ip())))?;
        Some((found.interface_name, address))
    };
    getifaddrs().map(|found| found.filter_map(of).collect()).unwrap_or_default()
}

/// Whether a user is root.
pub(crate) fn is_roots(user: UserId) -> bool {
    user == 0
}
