//! macOS: groups and processes.

use std::ffi::{CStr, c_int, c_void};
use std::io;
use std::mem::MaybeUninit;

/// The most groups of a process that are read. The system's own limit is 16 (`NGROUPS_MAX`).
const MOST_GROUPS: usize = 64;

fn length<T>(list: &[T]) -> c_int {
    c_int::try_from(list.len()).unwrap_or(c_int::MAX)
}

fn checked(result: c_int) -> io::Result<c_int> {
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(result) }
}

/// The groups of this process (getgroups(2)).
///
/// # Errors
/// When the system doesn't tell.
pub fn groups() -> io::Result<Vec<u32>> {
    let mut list = vec![0; MOST_GROUPS];
    // SAFETY: the list has as many elements as the call is told, and lives until it returns.
    let count = checked(unsafe { libc::getgroups(length(&list), list.as_mut_ptr()) })?;
    list.truncate(usize::try_from(count).unwrap_or(0));
    Ok(list)
}

/// Gives this process other groups (setgroups(2)).
///
/// # Errors
/// When this process isn't root's.
pub fn set_groups(list: &[u32]) -> io::Result<()> {
    // SAFETY: the list has as many elements as the call is told, and lives until it returns.
    checked(unsafe { libc::setgroups(length(list), list.as_ptr()) }).map(|_| ())
}

/// Gives this process the groups of a user, `group` among them (initgroups(3)).
///
/// # Errors
/// When this process isn't root's.
pub fn init_groups(user: &CStr, group: u32) -> io::Result<()> {
    let group = c_int::try_from(group).map_err(|_| io::ErrorKind::InvalidInput)?;
    // SAFETY: the name ends with a zero byte and lives until the call returns.
    checked(unsafe { libc::initgroups(user.as_ptr(), group) }).map(|_| ())
}

/// The groups of a user, `group` among them (getgrouplist(3)); of more than 64 the first ones.
pub fn groups_of(user: &CStr, group: u32) -> Vec<u32> {
    let mut list: Vec<c_int> = vec![0; MOST_GROUPS];
    let mut count = length(&list);
    let Ok(group) = c_int::try_from(group) else { return Vec::new() };
    // SAFETY: the list has `count` elements, and the name ends with a zero byte; both live until the call returns.
    // With too many groups it returns -1 and has filled the list.
    unsafe { libc::getgrouplist(user.as_ptr(), group, list.as_mut_ptr(), &raw mut count) };
    list.truncate(usize::try_from(count).unwrap_or(0));
    list.into_iter().filter_map(|group| u32::try_from(group).ok()).collect()
}

/// Facts about a process.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Process {
    /// The process that started it.
    pub parent: i32,
    /// The number of its user.
    pub user: u32,
    /// Its name, of at most 32 bytes.
    pub name: String,
    /// When it began: seconds since 1970, and microseconds.
    pub began: (u64, u64),
    /// Whether it has ended, and its parent has not waited for it yet.
    pub is_zombie: bool,
    /// Whether a signal has stopped it.
    pub is_stopped: bool,
}

/// `SSTOP` and `SZOMB` of `sys/proc.h`.
const STOPPED: u32 = 4;
const ZOMBIE: u32 = 5;

/// Facts about a process (`proc_pidinfo` with `PROC_PIDTBSDINFO`); `None` for one that isn't there, and for another
/// user's that may not be looked at.
pub fn process(pid: i32) -> Option<Process> {
    let mut info = MaybeUninit::<libc::proc_bsdinfo>::zeroed();
    let size = c_int::try_from(size_of::<libc::proc_bsdinfo>()).ok()?;
    // SAFETY: the buffer has `size` bytes and lives until the call returns.
    let filled =
        unsafe { libc::proc_pidinfo(pid, libc::PROC_PIDTBSDINFO, 0, info.as_mut_ptr().cast::<c_void>(), size) };
    if filled != size {
        return None;
    }
    // SAFETY: all of it is filled, and every bit pattern is a value of this structure of numbers.
    let info = unsafe { info.assume_init() };
    let text = |bytes: &[libc::c_char]| {
        let bytes: Vec<u8> = bytes.iter().map(|byte| byte.cast_unsigned()).take_while(|byte| *byte != 0).collect();
        String::from_utf8_lossy(&bytes).into_owned()
    };
    let long = text(&info.pbi_name);
    Some(Process {
        parent: i32::try_from(info.pbi_ppid).ok()?,
        user: info.pbi_uid,
        name: if long.is_empty() { text(&info.pbi_comm) } else { long },
        began: (info.pbi_start_tvsec, info.pbi_start_tvusec),
        is_zombie: info.pbi_status == ZOMBIE,
        is_stopped: info.pbi_status == STOPPED,
    })
}

/// The numbers of all processes (`proc_listallpids`).
pub fn processes() -> Vec<i32> {
    // SAFETY: without a buffer the call gives the number of processes.
    let count = unsafe { libc::proc_listallpids(std::ptr::null_mut(), 0) };
    // Some more may begin in between.
    let mut list: Vec<c_int> = vec![0; usize::try_from(count).unwrap_or(0) + 64];
    let Ok(size) = c_int::try_from(size_of_val(list.as_slice())) else { return Vec::new() };
    // SAFETY: the buffer has `size` bytes and lives until the call returns.
    let count = unsafe { libc::proc_listallpids(list.as_mut_ptr().cast::<c_void>(), size) };
    list.truncate(usize::try_from(count).unwrap_or(0));
    list
}

/// The program of a process (`proc_pidpath`).
pub fn program(pid: i32) -> Option<String> {
    let mut path = vec![0_u8; 4096];
    let size = u32::try_from(path.len()).ok()?;
    // SAFETY: the buffer has `size` bytes and lives until the call returns.
    let length = unsafe { libc::proc_pidpath(pid, path.as_mut_ptr().cast::<c_void>(), size) };
    path.truncate(usize::try_from(length).ok().filter(|length| *length > 0)?);
    String::from_utf8(path).ok()
}

/// The words of a process's command line (`sysctl` with `KERN_PROCARGS2`); only its own user and root may ask.
pub fn command_line(pid: i32) -> Option<Vec<String>> {
    let mut name = [libc::CTL_KERN, libc::KERN_PROCARGS2, pid];
    let mut bytes = vec![0_u8; 1 << 20];
    let mut size = bytes.len();
    // SAFETY: the name has three numbers, the buffer `size` bytes, nothing is set; all live until the call returns.
    let result = unsafe {
        libc::sysctl(name.as_mut_ptr(), 3, bytes.as_mut_ptr().cast::<c_void>(), &raw mut size, std::ptr::null_mut(), 0)
    };
    if result != 0 {
        return None;
    }
    bytes.truncate(size);
    words(&bytes)
}

/// The arguments in what the system gives: their number, the program's path, zeros, and then each with a zero behind it.
fn words(bytes: &[u8]) -> Option<Vec<String>> {
    let (count, rest) = bytes.split_first_chunk::<4>()?;
    let count = usize::try_from(i32::from_ne_bytes(*count)).ok()?;
    let path = rest.iter().position(|byte| *byte == 0)?;
    let first = path + rest[path..].iter().position(|byte| *byte != 0)?;
    let words = rest[first..].split(|byte| *byte == 0).take(count);
    Some(words.map(|word| String::from_utf8_lossy(word).into_owned()).collect())
}
