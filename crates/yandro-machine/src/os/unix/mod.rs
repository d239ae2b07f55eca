//! Linux and macOS.

mod attributes;
mod folder;
mod identity;
#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "macos")]
mod macos;
mod output;

#[cfg(target_os = "linux")]
use linux as own;
#[cfg(target_os = "macos")]
use macos as own;

pub use attributes::Attributes;
pub(crate) use attributes::{circle_of_links, fewer_files, may_write, most_open_files};
pub(crate) use folder::Folder;
pub(crate) use identity::{
    Account, account, account_named, addresses, become_user, host_name, is_root, this_group, this_user,
};
pub(crate) use output::{Output, end_group, own_group};
pub(crate) use own::{
    FileRights, IMMUTABLE_BY, SEARCH, began, changeable_again, children, command_line, first_of_users, groups_of,
    init_groups, is_idle, is_immutable, keep_memory_to_itself, listening, named_sockets, process, processes, program,
};

use core::net::IpAddr;

/// Facts about a process.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Process {
    /// Its name, which the system may have cut off.
    pub(crate) name: String,
    /// The process that started it.
    pub(crate) parent: i32,
    /// The number of its user.
    pub(crate) user: u32,
    /// Whether a signal has stopped it, which takes another one to go on.
    pub(crate) is_stopped: bool,
    /// Whether it hasn't ended. One that has keeps its number until its parent waits for it.
    pub(crate) is_alive: bool,
}

/// A socket that listens for TCP connections.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ListeningSocket {
    /// The address that it listens on.
    pub(crate) address: IpAddr,
    /// Its port.
    pub(crate) port: u16,
    /// How many connections wait to be taken; 0 where the system doesn't tell.
    pub(crate) waiting: usize,
    /// The number of the user that opened it.
    pub(crate) user: u32,
    /// The oldest process that has it; `None` for one of another user's.
    pub(crate) pid: Option<u32>,
}

/// A socket of the file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct NamedSocket {
    /// Its path.
    pub(crate) path: String,
    /// Whether it listens.
    pub(crate) is_listening: bool,
    /// Whether it is a connection that nobody has taken yet.
    pub(crate) is_waiting: bool,
}
