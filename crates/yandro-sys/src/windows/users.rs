//! Users, their names, and what this process may do.

use std::io;
use std::os::windows::io::{AsRawHandle as _, FromRawHandle as _, OwnedHandle};
use std::ptr;

use windows_sys::Wdk::System::SystemServices::RtlGetVersion;
use windows_sys::Win32::Foundation::HANDLE;
use windows_sys::Win32::Security::{
    GetTokenInformation, LookupAccountNameW, LookupAccountSidW, TOKEN_ELEVATION, TOKEN_QUERY, TokenElevation, TokenUser,
};
use windows_sys::Win32::System::SystemInformation::{
    ComputerNamePhysicalDnsHostname, GetComputerNameExW, GetSystemWindowsDirectoryW, OSVERSIONINFOW,
};
use windows_sys::Win32::System::Threading::{GetCurrentProcess, OpenProcessToken};

use super::{Sid, checked, length, text, wide};

/// The largest SID, and the `TOKEN_USER` before it (a pointer and a number).
const TOKEN_USER_SIZE: usize = 16 + 68;

/// The token of a process.
fn token(process: HANDLE) -> io::Result<OwnedHandle> {
    let mut token: HANDLE = ptr::null_mut();
    // SAFETY: the handle is the caller's, and the result is written to a variable of the right type.
    checked(unsafe { OpenProcessToken(process, TOKEN_QUERY, &raw mut token) })?;
    // SAFETY: the call has succeeded, so that this is a handle of ours.
    Ok(unsafe { OwnedHandle::from_raw_handle(token) })
}

/// The user of a process, by a handle that allows to query it.
pub(super) fn of_process(process: HANDLE) -> io::Result<Sid> {
    let token = token(process)?;
    // As the system aligns it: the structure begins with a pointer.
    let mut buffer = [0_u64; TOKEN_USER_SIZE.div_ceil(8)];
    let (size, mut needed) = (u32::try_from(size_of_val(&buffer)).unwrap_or(0), 0);
    let out = buffer.as_mut_ptr().cast();
    // SAFETY: the buffer has the length that is passed, and lives until it returns.
    checked(unsafe { GetTokenInformation(token.as_raw_handle(), TokenUser, out, size, &raw mut needed) })?;
    let bytes: Vec<u8> = buffer.iter().flat_map(|word| word.to_ne_bytes()).collect();
    // The SID follows the structure, which points to it.
    let start = buffer.as_ptr() as u64;
    let at = usize::try_from(buffer[0].wrapping_sub(start)).ok().filter(|at| *at < bytes.len());
    at.and_then(|at| Sid::from_bytes(&bytes[at..])).ok_or_else(|| io::ErrorKind::InvalidData.into())
}

/// The user whose rights this process has.
///
/// # Errors
/// When the system doesn't tell.
pub fn this_user() -> io::Result<Sid> {
    // SAFETY: the call has no conditions; its result needs no closing.
    of_process(unsafe { GetCurrentProcess() })
}

/// Whether this process has an administrator's full rights.
pub fn is_elevated() -> bool {
    // SAFETY: the call has no conditions; its result needs no closing.
    let Ok(token) = token(unsafe { GetCurrentProcess() }) else { return false };
    let mut elevation = TOKEN_ELEVATION { TokenIsElevated: 0 };
    let (out, mut size) = ((&raw mut elevation).cast(), size_of::<TOKEN_ELEVATION>() as u32);
    // SAFETY: the structure has the length that is passed, and lives until it returns.
    let told = unsafe { GetTokenInformation(token.as_raw_handle(), TokenElevation, out, size, &raw mut size) };
    told != 0 && elevation.TokenIsElevated != 0
}

/// The name of an account, without its domain.
pub fn name(sid: &Sid) -> Option<String> {
    let mut bytes = sid.to_bytes();
    let (mut name, mut domain) = ([0_u16; 257], [0_u16; 257]);
    let (mut name_length, mut domain_length, mut kind) = (length(&name), length(&domain), 0);
    // SAFETY: the SID is well formed; both buffers have the lengths that are passed; all live until it returns.
    let found = unsafe {
        LookupAccountSidW(
            ptr::null(),
            bytes.as_mut_ptr().cast(),
            name.as_mut_ptr(),
            &raw mut name_length,
            domain.as_mut_ptr(),
            &raw mut domain_length,
            &raw mut kind,
        )
    };
    (found != 0).then(|| text(&name))
}

/// The account with a name.
pub fn named(name: &str) -> Option<Sid> {
    let name = wide(name);
    let (mut sid, mut domain) = ([0_u8; 68], [0_u16; 257]);
    let (mut sid_length, mut domain_length, mut kind) = (length(&sid), length(&domain), 0);
    // SAFETY: the name ends with a zero; both buffers have the lengths that are passed; all live until it returns.
    let found = unsafe {
        LookupAccountNameW(
            ptr::null(),
            name.as_ptr(),
            sid.as_mut_ptr().cast(),
            &raw mut sid_length,
            domain.as_mut_ptr(),
            &raw mut domain_length,
            &raw mut kind,
        )
    };
    if found == 0 { None } else { Sid::from_bytes(&sid) }
}

/// The version of the system: major, minor, build.
pub fn version() -> [u32; 3] {
    // SAFETY: the structure is of numbers only, for which zeros are values.
    let mut version: OSVERSIONINFOW = unsafe { std::mem::zeroed() };
    version.dwOSVersionInfoSize = size_of::<OSVERSIONINFOW>() as u32;
    // SAFETY: the structure says how large it is, and lives until the call returns.
    unsafe { RtlGetVersion(&raw mut version) };
    [version.dwMajorVersion, version.dwMinorVersion, version.dwBuildNumber]
}

/// The folder of Windows; empty where the system doesn't tell.
pub fn windows_folder() -> String {
    let mut path = [0_u16; 261];
    // SAFETY: the buffer has the length that is passed, and lives until it returns.
    unsafe { GetSystemWindowsDirectoryW(path.as_mut_ptr(), length(&path)) };
    text(&path)
}

/// The name of this machine.
pub fn host_name() -> Option<String> {
    let mut name = [0_u16; 256];
    let mut size = length(&name);
    // SAFETY: the buffer has the length that is passed, and lives until it returns.
    let told = unsafe { GetComputerNameExW(ComputerNamePhysicalDnsHostname, name.as_mut_ptr(), &raw mut size) };
    (told != 0).then(|| text(&name))
}
