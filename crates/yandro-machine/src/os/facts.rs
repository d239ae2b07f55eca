//! Facts about processes, sockets and files, whatever system tells them.

use core::net::IpAddr;
use std::io::{self, Read, Write};

use serde::{Deserialize, Serialize};

use super::UserId;

/// Facts about a process.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Process {
    /// Its name, which the system may have cut off.
    pub(crate) name: String,
    /// The process that started it.
    pub(crate) parent: i32,
    /// The number of its user.
    pub(crate) user: UserId,
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
    pub(crate) user: UserId,
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

/// Identifies a file or folder on this machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct FileId {
    /// Its file system's.
    pub(crate) device: u64,
    /// Its own within that.
    pub(crate) number: u64,
}

/// A documented signal of a server's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Signal {
    /// SIGHUP.
    Hup,
    /// SIGQUIT.
    Quit,
    /// SIGTERM.
    Term,
    /// SIGUSR1.
    Usr1,
    /// SIGUSR2.
    Usr2,
}

/// The helper's streams.
pub(crate) struct HelperStreams {
    /// The requests.
    pub(crate) input: Box<dyn Read>,
    /// The answers.
    pub(crate) output: Box<dyn Write>,
    /// The user who asks, where the streams tell.
    pub(crate) caller: Option<UserId>,
}

/// Why others than root could change which file a path names.
#[derive(Debug)]
pub(crate) enum WayFault {
    /// It can't be looked at.
    System(io::Error),
    /// It isn't a plain absolute path.
    NotPlain,
    /// This folder on the way can be changed by others.
    Changeable(String),
    /// At its end is neither a file nor a link.
    NoFile,
}
