//! Linux: processes and sockets by proc(5), rights on files by setfsuid(2).

use std::ffi::{CStr, CString};
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::time::{Duration, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use nix::unistd::{Gid, Uid, getgrouplist, getgroups, initgroups, setfsgid, setfsuid, setgroups};
use rustix::fs::OFlags;
use rustix::thread::{set_thread_groups, set_thread_res_gid, set_thread_res_uid};
use yandro_core::shell_word;

use super::{NamedSocket, Owner, Process, account, account_named, is_root, is_roots};

/// What opens a folder for nothing but the way through it.
pub(crate) const SEARCH: OFlags = OFlags::PATH;

/// Keeps the memory of this process, which may hold a key, out of core dumps and other users'
/// debuggers (prctl(2), `PR_SET_DUMPABLE`). Programs that it starts are as they always were.
pub(crate) fn keep_memory_to_itself() {
    // A system that refuses makes no dumps of ours any worse.
    _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
}

/// Whether an attribute keeps even root from changing a file or folder.
pub(crate) fn is_immutable(path: &Utf8Path) -> bool {
    use rustix::fs::{AtFlags, CWD, StatxAttributes, StatxFlags, statx};
    let attributes = statx(CWD, path.as_std_path(), AtFlags::empty(), StatxFlags::BASIC_STATS);
    attributes.is_ok_and(|found| found.stx_attributes.contains(StatxAttributes::IMMUTABLE))
}

/// Name and version of the system, of the kernel, and of what started everything.
pub(crate) fn description() -> String {
    let text = |path: &str| fs::read_to_string(path).unwrap_or_default();
    let release = text("/etc/os-release");
    let name =
        release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME=")).unwrap_or("unknown").trim_matches('"');
    let kernel = text("/proc/sys/kernel/osrelease");
    let init = text("/proc/1/comm");
    format!("{name}, kernel {}, process 1 is {}", kernel.trim(), init.trim())
}

/// What gives a file or folder that attribute.
pub(crate) const IMMUTABLE_BY: &str = "chattr +i";

/// The command that takes that attribute off.
pub(crate) fn changeable_again(path: &Utf8Path) -> String {
    format!("sudo chattr -i {}", shell_word(path.as_str()))
}

/// The groups of a user, `group` among them.
pub(crate) fn groups_of(user: &CStr, group: u32) -> Vec<u32> {
    let groups = getgrouplist(user, Gid::from_raw(group)).unwrap_or_default();
    groups.into_iter().map(Gid::as_raw).collect()
}

/// Gives this process the groups of a user; of one without a name `group` alone.
///
/// # Errors
/// When this process isn't root's.
pub(crate) fn init_groups(user: Option<&CStr>, group: u32) -> io::Result<()> {
    let group = Gid::from_raw(group);
    Ok(user.map_or_else(|| setgroups(&[group]), |user| initgroups(user, group))?)
}

/// A user's rights on files for this thread, given back when dropped.
#[derive(Debug)]
pub(crate) struct FileRights {
    groups: Vec<u32>,
}

impl FileRights {
    /// Whether they are one thread's, and not the whole process's.
    pub(crate) const ARE_OF_THREAD: bool = true;

    /// Takes a user's rights on files; `None` where the groups of this process can't be read.
    pub(crate) fn take(owner: Owner) -> Option<Self> {
        let Owner { user: uid, group: gid } = owner;
        let user = account(uid).and_then(|user| CString::new(user.name).ok());
        let groups = getgroups().ok()?.into_iter().map(Gid::as_raw).collect();
        // The C library's setgroups(3) changes all threads.
        set_groups_of_thread(&user.map_or_else(|| vec![gid], |user| groups_of(&user, gid)));
        setfsgid(Gid::from_raw(gid));
        setfsuid(Uid::from_raw(uid));
        Some(Self { groups })
    }

    /// Whether this thread has another user's rights just now.
    pub(crate) fn are_taken() -> bool {
        setfsuid(Uid::from_raw(u32::MAX)) != nix::unistd::geteuid()
    }
}

impl Drop for FileRights {
    fn drop(&mut self) {
        setfsuid(Uid::from_raw(0));
        setfsgid(Gid::from_raw(0));
        set_groups_of_thread(&self.groups);
    }
}

/// Gives this thread these groups besides its own, as far as the system lets it.
fn set_groups_of_thread(groups: &[u32]) {
    let groups: Vec<_> = groups.iter().copied().map(rustix::fs::Gid::from_raw).collect();
    _ = set_thread_groups(&groups);
}

/// The name of a process and the fields after it in its line of facts.
fn stat(pid: i32) -> Option<(String, Vec<String>)> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name is in parentheses and may hold anything.
    let (name, rest) = text.rsplit_once(')')?;
    Some((name.split_once('(')?.1.to_owned(), rest.split_whitespace().map(str::to_owned).collect()))
}

/// The numbers of all processes that this user can see.
pub(crate) fn processes() -> Vec<i32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect()
}

/// Facts about a process; `None` if there is none.
pub(crate) fn process(pid: i32) -> Option<Process> {
    let (name, fields) = stat(pid)?;
    let state = fields.first()?;
    Some(Process {
        name,
        parent: fields.get(1)?.parse().ok()?,
        user: fs::metadata(format!("/proc/{pid}")).ok()?.uid(),
        is_stopped: state.starts_with('T'),
        is_alive: !state.starts_with(['Z', 'X']),
    })
}

/// When a process began.
pub(crate) fn began(pid: i32) -> Option<SystemTime> {
    // The twenty-second field, in ticks since the machine was started.
    let ticks: u64 = stat(pid)?.1.get(19)?.parse().ok()?;
    // Told to the hundredth of a second, unlike the moment of the start itself.
    let uptime = fs::read_to_string("/proc/uptime").ok()?;
    let uptime: f64 = uptime.split(' ').next()?.parse().ok()?;
    let since = Duration::from_millis(ticks * 1000 / rustix::param::clock_ticks_per_second());
    SystemTime::now().checked_sub(Duration::try_from_secs_f64(uptime).ok()?)?.checked_add(since)
}

/// The processes that a process has started.
pub(crate) fn children(pid: i32) -> Vec<i32> {
    let text = fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
    text.split_whitespace().filter_map(|child| child.parse().ok()).collect()
}

/// Whether a process is of this system, and not of a container: it sees the same processes (`pid_namespaces(7)`). Where
/// that can't be seen, it is.
pub(crate) fn shares_processes(pid: i32) -> bool {
    let of = |pid: &str| fs::read_link(format!("/proc/{pid}/ns/pid")).ok();
    of(&pid.to_string()).is_none_or(|other| of("self") == Some(other))
}

/// The words of a process's command line, or the title that it gave itself. Every user may read it.
pub(crate) fn command_line(pid: i32) -> Option<Vec<String>> {
    let bytes = fs::read(format!("/proc/{pid}/cmdline")).ok()?;
    let text = String::from_utf8_lossy(&bytes);
    Some(text.trim_end_matches('\0').split('\0').map(str::to_owned).collect())
}

/// The program of a process, by a link that only its user and root may read.
pub(crate) fn program(pid: i32) -> Option<Utf8PathBuf> {
    Utf8PathBuf::from_path_buf(fs::read_link(format!("/proc/{pid}/exe")).ok()?).ok()
}

/// Whether a process sleeps and no signal waits for it, so that it isn't at work on one.
/// `None` where that can't be seen.
pub(crate) fn is_idle(pid: i32) -> Option<bool> {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    let field = |name: &str| status.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
    let is_none = |name| field(name).is_none_or(|mask| mask.bytes().all(|digit| digit == b'0'));
    // S is sleeping, I idle, T stopped.
    Some(field("State:")?.starts_with(['S', 'I', 'T']) && is_none("SigPnd:") && is_none("ShdPnd:"))
}

/// The attribute with the capabilities of a program's file.
const CAPABILITIES: &str = "security.capability";
/// `CAP_NET_BIND_SERVICE` in the second version of that attribute (`linux/capability.h`): version and the flag that the
/// program has it from its start, then the permitted and the inheritable ones, in two halves; little-endian.
const NET_BIND_SERVICE: [u8; 20] = [1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// Whether a program's file has just the right to listen on low ports.
pub(crate) fn has_low_ports(program: &Utf8Path) -> bool {
    let mut now = [0; 24];
    let read = rustix::fs::getxattr(program.as_std_path(), CAPABILITIES, &mut now);
    read.is_ok_and(|length| now.get(..length) == Some(&NET_BIND_SERVICE[..]))
}

/// Gives a program's file the right to listen on low ports, or takes it away.
///
/// # Errors
/// When this process may not, or the file system keeps no capabilities.
pub(crate) fn set_low_ports(program: &Utf8Path, allowed: bool) -> io::Result<()> {
    if allowed {
        let flags = rustix::fs::XattrFlags::empty();
        return Ok(rustix::fs::setxattr(program.as_std_path(), CAPABILITIES, &NET_BIND_SERVICE, flags)?);
    }
    match rustix::fs::removexattr(program.as_std_path(), CAPABILITIES) {
        Err(error) if error != rustix::io::Errno::NODATA => Err(error.into()),
        _ => Ok(()),
    }
}

/// The first port on which an ordinary user may listen (ip(7), `ip_unprivileged_port_start`).
pub(crate) fn first_of_users() -> u16 {
    let set = fs::read_to_string("/proc/sys/net/ipv4/ip_unprivileged_port_start");
    set.ok().and_then(|text| text.trim().parse().ok()).unwrap_or(1024)
}

/// The sockets of the file system that are in use (`net/unix`, which every user may read).
pub(crate) fn named_sockets() -> Vec<NamedSocket> {
    let text = fs::read_to_string("/proc/net/unix").unwrap_or_default();
    let of_line = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let [_, _, _, flags, _, state, _, path] = fields[..] else { return None };
        let is_listening = flags == "00010000";
        Some(NamedSocket { path: path.to_owned(), is_listening, is_waiting: !is_listening && state == "02" })
    };
    text.lines().filter_map(of_line).collect()
}

/// Does something with all the rights of an account of the system, in a thread of its own that never gets root's back;
/// as this user where it is no root, or there is no such account.
///
/// # Errors
/// When the system refuses.
pub(crate) fn as_account<T: Send>(name: &str, work: impl FnOnce() -> io::Result<T> + Send) -> io::Result<T> {
    let account = account_named(name).filter(|account| is_root() && !is_roots(account.number));
    let Some(account) = account else { return work() };
    let become_it = move || {
        let (user, group) = (rustix::fs::Uid::from_raw(account.number), rustix::fs::Gid::from_raw(account.group));
        set_thread_groups(&[group])?;
        set_thread_res_gid(group, group, group)?;
        set_thread_res_uid(user, user, user)?;
        io::Result::Ok(())
    };
    std::thread::scope(|scope| {
        let thread = scope.spawn(|| become_it().and_then(|()| work()));
        thread.join().unwrap_or_else(|_| Err(io::Error::other("the work ended unexpectedly")))
    })
}

#[cfg(test)]
mod tests {
    use std::sync::Barrier;

    use super::*;

    #[test]
    fn the_rights_of_one_thread_are_no_others() {
        if !is_root() {
            return;
        }
        let groups = || getgroups().unwrap();
        let (before, both) = (groups(), Barrier::new(2));
        let nobody = Owner { user: 65534, group: 65534 };
        std::thread::scope(|scope| {
            let other = scope.spawn(|| {
                let rights = FileRights::take(nobody).unwrap();
                both.wait();
                both.wait();
                let with_rights = groups();
                drop(rights);
                (with_rights, groups())
            });
            let rights = FileRights::take(nobody).unwrap();
            both.wait();
            drop(rights);
            let after = groups();
            both.wait();
            assert_eq!(after, before);
            assert_eq!(other.join().unwrap(), (vec![Gid::from_raw(65534)], before.clone()));
        });
        assert_eq!(groups(), before);
    }
}
