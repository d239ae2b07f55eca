//! The system's root stores.

use std::io;

use yandro_sys::windows::certificates::{Location, Roots};

fn location(is_machines: bool) -> Location {
    if is_machines { Location::LocalMachine } else { Location::CurrentUser }
}

/// The roots of the user's store or of the machine's, in DER.
///
/// # Errors
/// When it can't be read.
pub(crate) fn system_roots(is_machines: bool) -> io::Result<Vec<Vec<u8>>> {
    match Roots::open(location(is_machines)) {
        // Nothing was ever put into it.
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        roots => Ok(roots?.all()),
    }
}

/// Puts a root in, in DER. Windows asks the user whether they trust it, unless an administrator puts it into the
/// machine's.
///
/// # Errors
/// When this user may not, or they said no.
pub(crate) fn add_system_root(is_machines: bool, der: &[u8]) -> io::Result<()> {
    Roots::open_to_change(location(is_machines))?.add(der)
}

/// Takes a root out, in DER.
///
/// # Errors
/// When this user may not, or they said no.
pub(crate) fn remove_system_root(is_machines: bool, der: &[u8]) -> io::Result<()> {
    Roots::open_to_change(location(is_machines))?.remove(der)
}
