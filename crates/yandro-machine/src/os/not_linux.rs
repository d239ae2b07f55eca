//! What Linux alone has: rights of programs by their files, and containers that share its processes.

use std::io;

use camino::Utf8Path;

/// Whether a program's file has the right to listen on low ports: there is none here.
pub(crate) fn has_low_ports(_: &Utf8Path) -> bool {
    false
}

/// Gives a program's file the right to listen on low ports: there is none here.
///
/// # Errors
/// Always.
pub(crate) fn set_low_ports(_: &Utf8Path, _: bool) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Whether a process is of this system: containers have systems of their own here.
pub(crate) fn shares_processes(_: i32) -> bool {
    true
}
