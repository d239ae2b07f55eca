//! What differs between operating systems: each of its modules offers the same items, and everything else of yandro is
//! the same code.

mod facts;
#[cfg(not(target_os = "linux"))]
mod not_linux;
#[cfg(unix)]
mod unix;
#[cfg(windows)]
mod windows;

#[cfg(unix)]
use unix as own;
#[cfg(windows)]
use windows as own;

pub(crate) use facts::{FileId, HelperStreams, ListeningSocket, NamedSocket, Process, Signal, WayFault};
#[cfg(not(target_os = "linux"))]
pub(crate) use not_linux::*;
pub(crate) use own::*;
pub use own::{Attributes, User, UserId};
