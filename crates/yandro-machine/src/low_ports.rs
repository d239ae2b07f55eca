//! The right to listen on ports below 1024 for this program, whoever runs it: a capability of its file
//! (capabilities(7), `CAP_NET_BIND_SERVICE`). Linux alone has that.

use std::io;

use camino::Utf8PathBuf;

use crate::os;

/// The program whose file has the right.
///
/// # Errors
/// When its path can't be seen, or is not UTF-8.
pub fn program() -> io::Result<Utf8PathBuf> {
    Utf8PathBuf::from_path_buf(std::env::current_exe()?).map_err(|_| io::ErrorKind::InvalidData.into())
}

/// Whether this program has the right.
pub fn are_allowed() -> bool {
    program().is_ok_and(|program| os::has_low_ports(&program))
}

/// The first port on which an ordinary user may listen without it.
pub fn first_of_users() -> u16 {
    os::first_of_users()
}

/// Gives this program the right, or takes it away. Root's.
///
/// # Errors
/// When this is not root, the file system keeps no capabilities, or the system has none.
pub fn allow(allowed: bool) -> io::Result<()> {
    os::set_low_ports(&program()?, allowed)
}
