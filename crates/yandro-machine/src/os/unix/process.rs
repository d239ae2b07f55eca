//! Signals, sockets of the file system, and becoming another program.

use std::convert::Infallible;
use std::io;
use std::os::unix::fs::FileTypeExt as _;
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt as _;
use std::process::Command;

use camino::Utf8Path;
use rustix::process::{Pid, kill_process};

use super::Signal;

/// The sockets that systemd opened for this process, which listen already.
///
/// # Errors
/// When one of them isn't for TCP.
pub(crate) fn opened_by_systemd() -> std::io::Result<Vec<std::net::TcpListener>> {
    let mut given = listenfd::ListenFd::from_env();
    (0..given.len()).filter_map(|at| given.take_tcp_listener(at).transpose()).collect()
}

/// Stays with the terminal: a service has none.
pub(crate) fn leave_console() {}

/// Makes a session of its own (`setsid(2)`); one that leads a group has its own already.
pub(crate) fn leave_session() {
    _ = rustix::process::setsid();
}

/// Keeps the standard streams of this process from programs that get others: so it is here.
pub(crate) fn keep_streams_to_itself() {}

/// The service of Windows's that runs a program: there is none.
pub(crate) fn service_of(_: &Utf8Path) -> Option<String> {
    None
}

/// The processes whose programs have one of these names.
pub(crate) fn processes_named(names: &[&str]) -> Vec<i32> {
    let has_name = |pid: &i32| super::process(*pid).is_some_and(|found| names.contains(&found.name.as_str()));
    super::processes().into_iter().filter(has_name).collect()
}

/// Sends a signal to a process.
///
/// # Errors
/// As kill(2).
pub(crate) fn send(pid: i32, signal: Signal) -> io::Result<()> {
    use rustix::process::Signal as System;
    let pid = Pid::from_raw(pid).ok_or(io::ErrorKind::InvalidInput)?;
    let signal = match signal {
        Signal::Hup => System::HUP,
        Signal::Quit => System::QUIT,
        Signal::Term => System::TERM,
        Signal::Usr1 => System::USR1,
        Signal::Usr2 => System::USR2,
    };
    Ok(kill_process(pid, signal)?)
}

/// Whether a path is a socket.
pub(crate) fn is_socket(path: &Utf8Path) -> bool {
    path.metadata().is_ok_and(|meta| meta.file_type().is_socket())
}

/// Connects to a socket of the file system, and closes the connection.
///
/// # Errors
/// As connect(2).
pub(crate) fn connects(path: &Utf8Path) -> io::Result<()> {
    UnixStream::connect(path).map(|_| ())
}

/// Has the system's own cache forget the addresses of names: there is none here without a program.
///
/// # Errors
/// Always.
pub(crate) fn flush_names() -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Becomes another program; gives back only why that can't be.
///
/// # Errors
/// As execve(2).
pub(crate) fn become_program(mut command: Command) -> io::Result<Infallible> {
    Err(command.exec())
}
