//! Processes and sockets.

use std::convert::Infallible;
use std::io;
use std::process::Command;
use std::time::{Duration, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::windows_words;
use yandro_sys::windows::{Sid, network, processes as system, services};

use super::{ListeningSocket, NamedSocket, Process, Signal, UserId};

/// From 1601, at which the system's times begin, to 1970.
const BEFORE_1970: Duration = Duration::from_secs(11_644_473_600);

/// Keeps the memory of this process out of dumps: the system makes none unless an administrator asks for it.
pub(crate) fn keep_memory_to_itself() {}

/// The sockets that systemd opened for this process: there is none.
pub(crate) fn opened_by_systemd() -> std::io::Result<Vec<std::net::TcpListener>> {
    Ok(Vec::new())
}

/// Leaves the console, whose window is closed if nobody else has it.
pub(crate) fn leave_console() {
    system::leave_console();
}

/// Leaves the console: there are no sessions of terminals here.
pub(crate) fn leave_session() {
    system::leave_console();
}

/// Keeps the standard streams of this process from programs that get others: who reads them would wait for a server that
/// was started, too.
pub(crate) fn keep_streams_to_itself() {
    system::keep_streams();
}

/// Whether an attribute keeps even an administrator from changing a file: there is no such thing.
pub(crate) fn is_immutable(_: &Utf8Path) -> bool {
    false
}

/// Name and version of the system.
pub(crate) fn description() -> String {
    let [major, minor, build] = yandro_sys::windows::users::version();
    format!("Windows {major}.{minor}.{build}")
}

/// The command that sets that attribute.
pub(crate) const IMMUTABLE_BY: &str = "attrib +r";

/// The command that takes that attribute off.
pub(crate) fn changeable_again(path: &Utf8Path) -> String {
    format!("attrib -r \"{path}\"")
}

/// The processes whose programs have one of these names.
pub(crate) fn processes_named(names: &[&str]) -> Vec<i32> {
    let has_name = |entry: &system::Entry| names.contains(&entry.name.as_str());
    system::all().into_iter().filter(has_name).map(|entry| entry.pid.cast_signed()).collect()
}

/// Facts about a process; `None` if there is none.
pub(crate) fn process(pid: i32) -> Option<Process> {
    let entry = system::all().into_iter().find(|entry| entry.pid == pid.cast_unsigned())?;
    let user = UserId(system::user(entry.pid).unwrap_or(Sid::NOBODY));
    Some(Process { name: entry.name, parent: entry.parent.cast_signed(), user, is_stopped: false, is_alive: true })
}

/// When a process began.
pub(crate) fn began(pid: i32) -> Option<SystemTime> {
    let since = Duration::from_nanos(system::began(pid.cast_unsigned()).ok()?.checked_mul(100)?);
    SystemTime::UNIX_EPOCH.checked_add(since.checked_sub(BEFORE_1970)?)
}

/// The processes that a process has started. A number is used again: only younger ones are its own.
pub(crate) fn children(pid: i32) -> Vec<i32> {
    let began = |pid: i32| system::began(pid.cast_unsigned()).unwrap_or(0);
    let parent = began(pid);
    let all =
        system::all().into_iter().filter(|entry| entry.parent == pid.cast_unsigned() && entry.pid != entry.parent);
    all.map(|entry| entry.pid.cast_signed()).filter(|child| began(*child) >= parent).collect()
}

/// The words of a process's command line. Only its user and administrators may read it.
pub(crate) fn command_line(pid: i32) -> Option<Vec<String>> {
    system::command_line(pid.cast_unsigned()).ok().map(|line| windows_words(&line))
}

/// The service that runs a program, by the system's list of services.
pub(crate) fn service_of(program: &Utf8Path) -> Option<String> {
    let is_it = |line: &str| windows_words(line).first().is_some_and(|own| own.eq_ignore_ascii_case(program.as_str()));
    services::all().into_iter().find(|(_, line)| is_it(&line.replace('/', "\\"))).map(|(name, _)| name)
}

/// The program of a process.
pub(crate) fn program(pid: i32) -> Option<Utf8PathBuf> {
    system::program(pid.cast_unsigned()).ok().map(Utf8PathBuf::from)
}

/// Whether a process is at work on a signal: there are none.
pub(crate) fn is_idle(_: i32) -> Option<bool> {
    None
}

/// The first port on which an ordinary user may listen: all of them.
pub(crate) fn first_of_users() -> u16 {
    1
}

/// Every socket that listens for TCP connections.
pub(crate) fn listening(with_processes: bool) -> Vec<ListeningSocket> {
    let socket = |own: network::Listening| {
        let pid = Some(own.pid).filter(|pid| *pid != 0);
        let user = pid.filter(|_| with_processes).and_then(|pid| system::user(pid).ok());
        let user = UserId(user.unwrap_or(Sid::NOBODY));
        ListeningSocket { address: own.address, port: own.port, waiting: 0, user, pid }
    };
    network::listening().into_iter().map(socket).collect()
}

/// The sockets of the file system that are in use: servers use none here.
pub(crate) fn named_sockets() -> Vec<NamedSocket> {
    Vec::new()
}

/// Sends a signal to a process: Windows has none. Servers are controlled through their own programs.
///
/// # Errors
/// Always.
pub(crate) fn send(_: i32, _: Signal) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Whether a path is a socket: servers use none here.
pub(crate) fn is_socket(_: &Utf8Path) -> bool {
    false
}

/// Connects to a socket of the file system.
///
/// # Errors
/// Always.
pub(crate) fn connects(_: &Utf8Path) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Has the system's own cache forget the addresses of names.
///
/// # Errors
/// When the system refuses.
pub(crate) fn flush_names() -> io::Result<()> {
    network::flush_names()
}

/// Becomes another program: it is run, and this one ends as it did.
///
/// # Errors
/// When it can't be started.
pub(crate) fn become_program(mut command: Command) -> io::Result<Infallible> {
    let status = command.status()?;
    std::process::exit(status.code().unwrap_or(1))
}
