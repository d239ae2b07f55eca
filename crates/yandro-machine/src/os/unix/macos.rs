//! macOS. It was built and never run.

use std::ffi::{CStr, CString};
use std::io;
use std::os::macos::fs::MetadataExt as _;
use std::process::Command;
use std::time::{Duration, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use nix::unistd::{Gid, Uid, geteuid, setegid, seteuid};
use rustix::fs::OFlags;
use yandro_core::shell_word;
use yandro_sys::macos;

use super::{ListeningSocket, NamedSocket, Owner, Process, account};

/// What opens a folder for nothing but the way through it.
pub(crate) const SEARCH: OFlags = OFlags::RDONLY;

/// Keeps the memory of this process, which may hold a key, out of core dumps.
pub(crate) fn keep_memory_to_itself() {
    let none = rustix::process::Rlimit { current: Some(0), maximum: Some(0) };
    // A system that refuses makes no dumps of ours any worse.
    _ = rustix::process::setrlimit(rustix::process::Resource::Core, none);
}

/// `UF_IMMUTABLE` and `SF_IMMUTABLE` of `sys/stat.h`: the user's flag and the system's.
const IMMUTABLE: u32 = 0x0000_0002 | 0x0002_0000;

/// Whether a flag keeps even root from changing a file or folder.
pub(crate) fn is_immutable(path: &Utf8Path) -> bool {
    path.metadata().is_ok_and(|meta| meta.st_flags() & IMMUTABLE != 0)
}

/// Name and version of the kernel.
pub(crate) fn description() -> String {
    let system = rustix::system::uname();
    format!("macOS, kernel {} {}", system.sysname().to_string_lossy(), system.release().to_string_lossy())
}

/// What gives a file or folder that attribute.
pub(crate) const IMMUTABLE_BY: &str = "chflags uchg";

/// The command that takes that flag off.
pub(crate) fn changeable_again(path: &Utf8Path) -> String {
    format!("sudo chflags nouchg,noschg {}", shell_word(path.as_str()))
}

/// The groups of a user, `group` among them.
pub(crate) fn groups_of(user: &CStr, group: u32) -> Vec<u32> {
    macos::groups_of(user, group)
}

/// Gives this process the groups of a user; of one without a name `group` alone.
///
/// # Errors
/// When this process isn't root's.
pub(crate) fn init_groups(user: Option<&CStr>, group: u32) -> io::Result<()> {
    user.map_or_else(|| macos::set_groups(&[group]), |user| macos::init_groups(user, group))
}

/// A user's rights on files, given back when dropped. The system knows no such rights of a thread: all of the process
/// has them.
#[derive(Debug)]
pub(crate) struct FileRights {
    groups: Vec<u32>,
}

impl FileRights {
    /// Whether they are one thread's, and not the whole process's.
    pub(crate) const ARE_OF_THREAD: bool = false;

    /// Takes a user's rights on files; `None` where the groups of this process can't be read.
    pub(crate) fn take(owner: Owner) -> Option<Self> {
        let Owner { user: uid, group: gid } = owner;
        let user = account(uid).and_then(|user| CString::new(user.name).ok());
        let user = user.as_deref();
        let groups = macos::groups().ok()?;
        _ = init_groups(user, gid);
        _ = setegid(Gid::from_raw(gid));
        _ = seteuid(Uid::from_raw(uid));
        Some(Self { groups })
    }

    /// Whether this process has another user's rights just now.
    pub(crate) fn are_taken() -> bool {
        geteuid() != nix::unistd::getuid()
    }
}

impl Drop for FileRights {
    fn drop(&mut self) {
        _ = seteuid(Uid::from_raw(0));
        _ = setegid(Gid::from_raw(0));
        _ = macos::set_groups(&self.groups);
    }
}

/// The numbers of all processes.
pub(crate) fn processes() -> Vec<i32> {
    macos::processes()
}

/// Facts about a process; `None` if there is none, or it may not be looked at.
pub(crate) fn process(pid: i32) -> Option<Process> {
    let found = macos::process(pid)?;
    Some(Process {
        name: found.name,
        parent: found.parent,
        user: found.user,
        is_stopped: found.is_stopped,
        is_alive: !found.is_zombie,
    })
}

/// When a process began.
pub(crate) fn began(pid: i32) -> Option<SystemTime> {
    let (seconds, micros) = macos::process(pid)?.began;
    SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(seconds) + Duration::from_micros(micros))
}

/// The processes that a process has started.
pub(crate) fn children(pid: i32) -> Vec<i32> {
    let is_child = |other: &i32| macos::process(*other).is_some_and(|found| found.parent == pid);
    macos::processes().into_iter().filter(is_child).collect()
}

/// The words of a process's command line, or the title that it gave itself. Only its user and root may read it.
pub(crate) fn command_line(pid: i32) -> Option<Vec<String>> {
    macos::command_line(pid)
}

/// The program of a process.
pub(crate) fn program(pid: i32) -> Option<Utf8PathBuf> {
    macos::program(pid).map(Utf8PathBuf::from)
}

/// Whether a process is at work on a signal: the system doesn't tell.
pub(crate) fn is_idle(_: i32) -> Option<bool> {
    None
}

/// The first port on which an ordinary user may listen on an address of the loopback interface.
pub(crate) fn first_of_users() -> u16 {
    1024
}

/// Every socket that listens for TCP connections, by lsof(8), which is part of the system.
pub(crate) fn listening(_: bool) -> Vec<ListeningSocket> {
    // Without names of hosts and ports, and without calls that could wait for another machine.
    let lsof = Command::new("/usr/sbin/lsof").args(["-nPbw", "-iTCP", "-sTCP:LISTEN", "-Fpun"]).env_clear().output();
    sockets(&lsof.map(|ran| String::from_utf8_lossy(&ran.stdout).into_owned()).unwrap_or_default())
}

/// The sockets in a report of lsof's: `p` and `u` begin a process, `n` is an address of it.
fn sockets(said: &str) -> Vec<ListeningSocket> {
    let (mut pid, mut user) = (None, 0);
    let mut found = Vec::new();
    for line in said.lines() {
        match line.split_at_checked(1) {
            Some(("p", number)) => pid = number.parse().ok(),
            Some(("u", number)) => user = number.parse().unwrap_or(0),
            Some(("n", address)) => {
                let Some((host, port)) = address.rsplit_once(':') else { continue };
                let host = if host == "*" { "::" } else { host.trim_matches(['[', ']']) };
                if let (Ok(address), Ok(port)) = (host.parse(), port.parse()) {
                    found.push(ListeningSocket { address, port, waiting: 0, user, pid });
                }
            }
            _ => {}
        }
    }
    found
}

/// The sockets of the file system that are in use: the system doesn't tell.
pub(crate) fn named_sockets() -> Vec<NamedSocket> {
    Vec::new()
}

/// Does something as this user: servers of databases are a user's own programs here.
///
/// # Errors
/// Those of the work.
pub(crate) fn as_account<T: Send>(_: &str, work: impl FnOnce() -> io::Result<T> + Send) -> io::Result<T> {
    work()
}
