//! Processes.

use std::io;
use std::os::windows::io::{AsRawHandle as _, FromRawHandle as _, OwnedHandle};
use std::ptr;

use windows_sys::Wdk::System::Threading::{NtQueryInformationProcess, PROCESSINFOCLASS};
use windows_sys::Win32::Foundation::{
    FILETIME, HANDLE_FLAG_INHERIT, INVALID_HANDLE_VALUE, SetHandleInformation, UNICODE_STRING,
};
use windows_sys::Win32::System::Console::{
    FreeConsole, GetStdHandle, STD_ERROR_HANDLE, STD_INPUT_HANDLE, STD_OUTPUT_HANDLE,
};
use windows_sys::Win32::System::Diagnostics::ToolHelp::{
    CreateToolhelp32Snapshot, PROCESSENTRY32W, Process32FirstW, Process32NextW, TH32CS_SNAPPROCESS,
};
use windows_sys::Win32::System::Threading::{
    GetProcessTimes, OpenProcess, PROCESS_QUERY_LIMITED_INFORMATION, PROCESS_TERMINATE, QueryFullProcessImageNameW,
    TerminateProcess,
};

use super::{Sid, checked, length, text, users};

/// A process.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Its number.
    pub pid: u32,
    /// The number of the process that started it, which may have ended.
    pub parent: u32,
    /// The name of its program's file.
    pub name: String,
}

/// All processes.
pub fn all() -> Vec<Entry> {
    // SAFETY: the call has no conditions.
    let snapshot = unsafe { CreateToolhelp32Snapshot(TH32CS_SNAPPROCESS, 0) };
    if snapshot == INVALID_HANDLE_VALUE {
        return Vec::new();
    }
    // SAFETY: the call has succeeded, so that this is a handle of ours.
    let snapshot = unsafe { OwnedHandle::from_raw_handle(snapshot) };
    // SAFETY: the structure is of numbers only, for which zeros are values.
    let mut entry: PROCESSENTRY32W = unsafe { std::mem::zeroed() };
    entry.dwSize = size_of::<PROCESSENTRY32W>() as u32;
    let mut found = Vec::new();
    // SAFETY: the structure says how large it is, and lives until the call returns.
    let mut is_there = unsafe { Process32FirstW(snapshot.as_raw_handle(), &raw mut entry) } != 0;
    while is_there {
        found.push(Entry { pid: entry.th32ProcessID, parent: entry.th32ParentProcessID, name: text(&entry.szExeFile) });
        // SAFETY: as above.
        is_there = unsafe { Process32NextW(snapshot.as_raw_handle(), &raw mut entry) } != 0;
    }
    found
}

fn open(pid: u32, access: u32) -> io::Result<OwnedHandle> {
    // SAFETY: the call has no conditions.
    let handle = unsafe { OpenProcess(access, 0, pid) };
    if handle.is_null() {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: the call has succeeded, so that this is a handle of ours.
    Ok(unsafe { OwnedHandle::from_raw_handle(handle) })
}

/// The user of a process.
///
/// # Errors
/// When there is none, or it may not be looked at.
pub fn user(pid: u32) -> io::Result<Sid> {
    users::of_process(open(pid, PROCESS_QUERY_LIMITED_INFORMATION)?.as_raw_handle())
}

/// When a process began: in units of 100 nanoseconds since 1601.
///
/// # Errors
/// As [`user`].
pub fn began(pid: u32) -> io::Result<u64> {
    let process = open(pid, PROCESS_QUERY_LIMITED_INFORMATION)?;
    let zero = FILETIME { dwLowDateTime: 0, dwHighDateTime: 0 };
    let [mut created, mut exited, mut kernel, mut user] = [zero; 4];
    let handle = process.as_raw_handle();
    // SAFETY: all four are variables of the right type and live until the call returns.
    checked(unsafe { GetProcessTimes(handle, &raw mut created, &raw mut exited, &raw mut kernel, &raw mut user) })?;
    Ok(u64::from(created.dwHighDateTime) << 32 | u64::from(created.dwLowDateTime))
}

/// The path of a process's program.
///
/// # Errors
/// As [`user`].
pub fn program(pid: u32) -> io::Result<String> {
    let process = open(pid, PROCESS_QUERY_LIMITED_INFORMATION)?;
    let mut path = vec![0_u16; 32768];
    let mut size = length(&path);
    // SAFETY: the buffer has the length that is passed, and lives until it returns.
    checked(unsafe { QueryFullProcessImageNameW(process.as_raw_handle(), 0, path.as_mut_ptr(), &raw mut size) })?;
    Ok(text(&path))
}

/// `ProcessCommandLineInformation`.
const COMMAND_LINE: PROCESSINFOCLASS = 60;

/// The command line of a process.
///
/// # Errors
/// As [`user`].
pub fn command_line(pid: u32) -> io::Result<String> {
    let process = open(pid, PROCESS_QUERY_LIMITED_INFORMATION)?;
    // The longest command line (32767 units), and the structure before it; aligned for that.
    let mut buffer = vec![0_u64; 8196];
    let (size, mut needed) = (u32::try_from(buffer.len() * 8).unwrap_or(0), 0);
    let out = buffer.as_mut_ptr().cast();
    // SAFETY: the buffer has the length that is passed, and lives until it returns.
    let status =
        unsafe { NtQueryInformationProcess(process.as_raw_handle(), COMMAND_LINE, out, size, &raw mut needed) };
    if status != 0 {
        return Err(io::Error::other("the system does not tell"));
    }
    // SAFETY: the call has succeeded and wrote this structure, for which the buffer is aligned and large enough.
    let line = unsafe { ptr::read(buffer.as_ptr().cast::<UNICODE_STRING>()) };
    let units: Vec<u16> = buffer
        .iter()
        .flat_map(|word| word.to_ne_bytes())
        .collect::<Vec<u8>>()
        .chunks_exact(2)
        .map(|pair| u16::from_ne_bytes([pair[0], pair[1]]))
        .collect();
    // The text follows the structure, which points to it.
    let start = (line.Buffer as usize).wrapping_sub(buffer.as_ptr() as usize) / 2;
    let end = start.saturating_add(usize::from(line.Length) / 2);
    units.get(start..end).map(String::from_utf16_lossy).ok_or_else(|| io::ErrorKind::InvalidData.into())
}

/// Keeps the standard streams of this process from programs that it starts and that are given others.
pub fn keep_streams() {
    for which in [STD_INPUT_HANDLE, STD_OUTPUT_HANDLE, STD_ERROR_HANDLE] {
        // SAFETY: the call has no conditions.
        let stream = unsafe { GetStdHandle(which) };
        if !stream.is_null() && stream != INVALID_HANDLE_VALUE {
            // SAFETY: the handle is this process's; whoever inherits a stream gets a copy of it.
            unsafe { SetHandleInformation(stream, HANDLE_FLAG_INHERIT, 0) };
        }
    }
}

/// Leaves the console, whose window is closed if no other process has it.
pub fn leave_console() {
    // SAFETY: the call has no conditions. Without a console it fails, which is as well.
    unsafe { FreeConsole() };
}

/// Ends a process.
///
/// # Errors
/// When there is none, or this user may not.
pub fn end(pid: u32) -> io::Result<()> {
    let process = open(pid, PROCESS_TERMINATE)?;
    // SAFETY: the handle allows it; the process is not this one's concern afterwards.
    checked(unsafe { TerminateProcess(process.as_raw_handle(), 1) })
}
