//! Root stores that a system keeps behind an interface: none here.

use std::io;

fn none() -> io::Error {
    io::ErrorKind::Unsupported.into()
}

/// The roots of the user's store or of the machine's, in DER.
///
/// # Errors
/// Always.
pub(crate) fn system_roots(_: bool) -> io::Result<Vec<Vec<u8>>> {
    Err(none())
}

/// Puts a root in, in DER.
///
/// # Errors
/// Always.
pub(crate) fn add_system_root(_: bool, _: &[u8]) -> io::Result<()> {
    Err(none())
}

/// Takes a root out, in DER.
///
/// # Errors
/// Always.
pub(crate) fn remove_system_root(_: bool, _: &[u8]) -> io::Result<()> {
    Err(none())
}
