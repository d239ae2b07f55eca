//! Windows: users and rights, files, processes, sockets and interfaces, certificate stores.

pub mod certificates;
pub mod descriptor;
pub mod elevation;
pub mod files;
pub mod network;
pub mod processes;
pub mod services;
mod sid;
pub mod users;

pub use sid::Sid;

use std::io;

/// A text as the system takes it: UTF-16, with a zero at its end.
fn wide(text: &str) -> Vec<u16> {
    text.encode_utf16().chain([0]).collect()
}

/// The text of a buffer up to its first zero.
fn text(buffer: &[u16]) -> String {
    let end = buffer.iter().position(|unit| *unit == 0).unwrap_or(buffer.len());
    String::from_utf16_lossy(&buffer[..end])
}

/// The result of a call that returns 0 on failure.
fn checked(result: i32) -> io::Result<()> {
    if result == 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// The result of a call that returns an error number.
fn checked_code(code: u32) -> io::Result<()> {
    if code == 0 { Ok(()) } else { Err(io::Error::from_raw_os_error(code.cast_signed())) }
}

/// The length of a list or text, for a call that takes it as 32 bits.
fn length<T>(list: &[T]) -> u32 {
    u32::try_from(list.len()).unwrap_or(u32::MAX)
}
