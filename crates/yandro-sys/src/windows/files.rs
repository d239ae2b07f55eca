//! Files and folders, with the rights on them.

use std::fs::File;
use std::io;
use std::os::windows::io::{AsRawHandle as _, FromRawHandle as _, RawHandle};
use std::ptr;

use windows_sys::Win32::Foundation::{GENERIC_READ, GENERIC_WRITE, INVALID_HANDLE_VALUE};
use windows_sys::Win32::Security::{
    DACL_SECURITY_INFORMATION, GROUP_SECURITY_INFORMATION, GetFileSecurityW, OWNER_SECURITY_INFORMATION,
    PROTECTED_DACL_SECURITY_INFORMATION, SECURITY_ATTRIBUTES, SetFileSecurityW, SetKernelObjectSecurity,
};
use windows_sys::Win32::Storage::FileSystem::{
    BY_HANDLE_FILE_INFORMATION, CREATE_NEW, CreateDirectoryW, CreateFileW, FILE_ATTRIBUTE_NORMAL, FILE_SHARE_DELETE,
    FILE_SHARE_READ, GetFileInformationByHandle, WRITE_DAC,
};
use windows_sys::Win32::System::RestartManager::{
    RM_PROCESS_INFO, RmEndSession, RmGetList, RmRegisterResources, RmStartSession,
};

use super::descriptor::Descriptor;
use super::{checked, checked_code, length, text, wide};

const ASKED: u32 = OWNER_SECURITY_INFORMATION | GROUP_SECURITY_INFORMATION | DACL_SECURITY_INFORMATION;

/// The attributes by which something new gets a descriptor. The descriptor has to outlive them.
fn with(descriptor: &Descriptor) -> SECURITY_ATTRIBUTES {
    SECURITY_ATTRIBUTES {
        nLength: size_of::<SECURITY_ATTRIBUTES>() as u32,
        // The call reads it only.
        lpSecurityDescriptor: descriptor.bytes().as_ptr().cast_mut().cast(),
        bInheritHandle: 0,
    }
}

/// Opens a new file that has these rights from its beginning, to write it and to change its rights.
///
/// # Errors
/// When there is something already, or the folder may not be written.
pub fn create(path: &str, descriptor: &Descriptor) -> io::Result<File> {
    let (path, attributes) = (wide(path), with(descriptor));
    let access = GENERIC_READ | GENERIC_WRITE | WRITE_DAC;
    let share = FILE_SHARE_READ | FILE_SHARE_DELETE;
    // SAFETY: the path ends with a zero; both it and the attributes live until the call returns.
    let handle = unsafe {
        CreateFileW(
            path.as_ptr(),
            access,
            share,
            &raw const attributes,
            CREATE_NEW,
            FILE_ATTRIBUTE_NORMAL,
            ptr::null_mut(),
        )
    };
    if handle == INVALID_HANDLE_VALUE {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: the call has succeeded, so that this is a handle of ours.
    Ok(unsafe { File::from_raw_handle(handle) })
}

/// Makes a folder that has these rights from its beginning.
///
/// # Errors
/// When there is something already, or the folder above may not be written.
pub fn create_folder(path: &str, descriptor: &Descriptor) -> io::Result<()> {
    let (path, attributes) = (wide(path), with(descriptor));
    // SAFETY: the path ends with a zero; both it and the attributes live until the call returns.
    checked(unsafe { CreateDirectoryW(path.as_ptr(), &raw const attributes) })
}

/// Owner, group and list of rights of a file or folder.
///
/// # Errors
/// When it can't be looked at.
pub fn descriptor(path: &str) -> io::Result<Descriptor> {
    let path = wide(path);
    let mut bytes: Vec<u8> = vec![0; 1024];
    for _ in 0..3 {
        let mut needed = 0;
        let out = bytes.as_mut_ptr().cast();
        // SAFETY: the path ends with a zero; the buffer has the length that is passed; both live long enough.
        let got = unsafe { GetFileSecurityW(path.as_ptr(), ASKED, out, length(&bytes), &raw mut needed) };
        match (got, needed as usize) {
            (0, needed) if needed > bytes.len() => bytes = vec![0; needed],
            (0, _) => return Err(io::Error::last_os_error()),
            _ => return Ok(Descriptor::from_bytes(bytes)),
        }
    }
    Err(io::ErrorKind::InvalidData.into())
}

/// Gives an open file another list of rights.
///
/// # Errors
/// When the file wasn't opened for that.
pub fn set_rights(file: &File, descriptor: &Descriptor) -> io::Result<()> {
    let bytes = descriptor.bytes().as_ptr().cast_mut().cast();
    // SAFETY: the handle is open; the descriptor lives until the call returns, which only reads it.
    checked(unsafe { SetKernelObjectSecurity(file.as_raw_handle(), DACL_SECURITY_INFORMATION, bytes) })
}

/// Gives a file or folder another list of rights; what the folder above hands down counts no more.
///
/// # Errors
/// When only another user may.
pub fn set_rights_at(path: &str, descriptor: &Descriptor) -> io::Result<()> {
    let (path, bytes) = (wide(path), descriptor.bytes().as_ptr().cast_mut().cast());
    let what = DACL_SECURITY_INFORMATION | PROTECTED_DACL_SECURITY_INFORMATION;
    // SAFETY: the path ends with a zero; the descriptor lives until the call returns, which only reads it.
    checked(unsafe { SetFileSecurityW(path.as_ptr(), what, bytes) })
}

/// The number of the volume that an open file or folder is on, and its own number there.
///
/// # Errors
/// When the system doesn't tell.
pub fn id(file: &File) -> io::Result<(u64, u64)> {
    let handle: RawHandle = file.as_raw_handle();
    // SAFETY: the structure is of numbers only, for which zeros are values.
    let mut facts: BY_HANDLE_FILE_INFORMATION = unsafe { std::mem::zeroed() };
    // SAFETY: the handle is open; the structure is a variable of the right type.
    checked(unsafe { GetFileInformationByHandle(handle, &raw mut facts) })?;
    let number = u64::from(facts.nFileIndexHigh) << 32 | u64::from(facts.nFileIndexLow);
    Ok((facts.dwVolumeSerialNumber.into(), number))
}

/// The programs that have a file open, by the system's Restart Manager: name and number of each.
///
/// # Errors
/// When it doesn't tell.
pub fn holders(path: &str) -> io::Result<Vec<(String, u32)>> {
    let path = wide(path);
    let (mut session, mut key) = (0, [0_u16; 33]);
    // SAFETY: the key has the room that the call wants (CCH_RM_SESSION_KEY + 1).
    checked_code(unsafe { RmStartSession(&raw mut session, 0, key.as_mut_ptr()) })?;
    let files = [path.as_ptr()];
    // SAFETY: one path, with a zero at its end, that lives until the call returns; no programs and services.
    let registered =
        checked_code(unsafe { RmRegisterResources(session, 1, files.as_ptr(), 0, ptr::null(), 0, ptr::null()) });
    let (mut needed, mut count, mut reasons) = (0, 16, 0);
    // SAFETY: the structures are of numbers only, for which zeros are values.
    let mut found: [RM_PROCESS_INFO; 16] = unsafe { std::mem::zeroed() };
    let listed = registered.and_then(|()| {
        // SAFETY: the array has the length that is passed; all live until it returns.
        checked_code(unsafe {
            RmGetList(session, &raw mut needed, &raw mut count, found.as_mut_ptr(), &raw mut reasons)
        })
    });
    // SAFETY: the session is ours.
    unsafe { RmEndSession(session) };
    listed?;
    let name = |own: &RM_PROCESS_INFO| (text(&own.strAppName), own.Process.dwProcessId);
    Ok(found.iter().take(count as usize).map(name).collect())
}
