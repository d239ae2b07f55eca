//! A program with an administrator's full rights, and a pipe between it and the one that asked for it.

use std::fs::{File, OpenOptions};
use std::io;
use std::os::windows::fs::OpenOptionsExt as _;
use std::os::windows::io::{AsRawHandle as _, FromRawHandle as _, OwnedHandle};
use std::ptr;
use std::time::Duration;

use windows_sys::Win32::Foundation::{ERROR_CANCELLED, ERROR_PIPE_CONNECTED, INVALID_HANDLE_VALUE, WAIT_OBJECT_0};
use windows_sys::Win32::Security::SECURITY_ATTRIBUTES;
use windows_sys::Win32::Storage::FileSystem::{FILE_FLAG_FIRST_PIPE_INSTANCE, PIPE_ACCESS_DUPLEX};
use windows_sys::Win32::System::Pipes::{
    ConnectNamedPipe, CreateNamedPipeW, GetNamedPipeClientProcessId, GetNamedPipeServerProcessId, PIPE_NOWAIT,
    PIPE_READMODE_BYTE, PIPE_REJECT_REMOTE_CLIENTS, PIPE_TYPE_BYTE, PIPE_WAIT, SetNamedPipeHandleState,
};
use windows_sys::Win32::System::Threading::{GetProcessId, TerminateProcess, WaitForSingleObject};
use windows_sys::Win32::UI::Shell::{SEE_MASK_NOASYNC, SEE_MASK_NOCLOSEPROCESS, SHELLEXECUTEINFOW, ShellExecuteExW};
use windows_sys::Win32::UI::WindowsAndMessaging::SW_HIDE;

use super::descriptor::Descriptor;
use super::{Sid, checked, processes, wide};

/// Between two looks whether somebody has connected.
const PAUSE: Duration = Duration::from_millis(10);
/// How much the system keeps of what was written and not read yet, in bytes.
const BUFFER: u32 = 1 << 16;
/// `SECURITY_SQOS_PRESENT | SECURITY_IDENTIFICATION`: whoever has the other end learns who this is, and can't act so.
const ONLY_IDENTIFY: u32 = 0x0010_0000 | 0x0001_0000;

/// A pipe that nobody has connected to yet.
#[derive(Debug)]
pub struct Pipe(File);

/// A program that was started.
#[derive(Debug)]
pub struct Started(OwnedHandle);

fn path(name: &str) -> String {
    format!(r"\\.\pipe\{name}")
}

impl Pipe {
    /// Makes a pipe of this machine's that only those of a descriptor can connect to, once.
    ///
    /// # Errors
    /// When there is one of that name.
    pub fn new(name: &str, descriptor: &Descriptor) -> io::Result<Self> {
        let path = wide(&path(name));
        let attributes = SECURITY_ATTRIBUTES {
            nLength: u32::try_from(size_of::<SECURITY_ATTRIBUTES>()).unwrap_or(0),
            lpSecurityDescriptor: descriptor.bytes().as_ptr().cast_mut().cast(),
            bInheritHandle: 0,
        };
        let mode = PIPE_TYPE_BYTE | PIPE_READMODE_BYTE | PIPE_NOWAIT | PIPE_REJECT_REMOTE_CLIENTS;
        let access = PIPE_ACCESS_DUPLEX | FILE_FLAG_FIRST_PIPE_INSTANCE;
        // SAFETY: the path ends with a zero; it, the attributes and the descriptor live until the call returns.
        let pipe =
            unsafe { CreateNamedPipeW(path.as_ptr(), access, mode, 1, BUFFER, BUFFER, 0, &raw const attributes) };
        if pipe == INVALID_HANDLE_VALUE {
            return Err(io::Error::last_os_error());
        }
        // SAFETY: the call has succeeded, so that this is a handle of ours.
        Ok(Self(unsafe { File::from_raw_handle(pipe) }))
    }

    /// Waits until a program that was started has connected, and nobody else.
    ///
    /// # Errors
    /// When it ends before, or somebody else connected.
    pub fn connected(self, to: &Started) -> io::Result<File> {
        let pipe = self.0.as_raw_handle();
        loop {
            // SAFETY: the pipe is open; without a structure the call doesn't go on after it has returned.
            let is_connected = unsafe { ConnectNamedPipe(pipe, ptr::null_mut()) } != 0;
            let error = io::Error::last_os_error();
            if is_connected || error.raw_os_error() == Some(ERROR_PIPE_CONNECTED.cast_signed()) {
                break;
            }
            if to.has_ended() {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            std::thread::sleep(PAUSE);
        }
        let mut client = 0;
        // SAFETY: the pipe is open and connected; the number is written to a variable of the right type.
        checked(unsafe { GetNamedPipeClientProcessId(pipe, &raw mut client) })?;
        if client != to.pid() {
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, "another program has connected"));
        }
        let mode = PIPE_READMODE_BYTE | PIPE_WAIT;
        // SAFETY: the pipe is open; the mode lives until the call returns, and the other two are left as they are.
        checked(unsafe { SetNamedPipeHandleState(pipe, &raw const mode, ptr::null(), ptr::null()) })?;
        Ok(self.0)
    }
}

impl Started {
    fn pid(&self) -> u32 {
        // SAFETY: the handle is open.
        unsafe { GetProcessId(self.0.as_raw_handle()) }
    }

    fn has_ended(&self) -> bool {
        // SAFETY: the handle is open.
        unsafe { WaitForSingleObject(self.0.as_raw_handle(), 0) == WAIT_OBJECT_0 }
    }

    /// Waits until it ends, at most so long; ends it then, as far as this user may.
    pub fn end(&self, patience: Duration) {
        let millis = u32::try_from(patience.as_millis()).unwrap_or(u32::MAX);
        // SAFETY: the handle is open.
        if unsafe { WaitForSingleObject(self.0.as_raw_handle(), millis) } != WAIT_OBJECT_0 {
            // SAFETY: the handle is open; a program that may not be ended stays.
            unsafe { TerminateProcess(self.0.as_raw_handle(), 1) };
        }
    }
}

/// Starts a program with an administrator's rights, without a window: Windows asks the person.
///
/// # Errors
/// `PermissionDenied` when they said no.
pub fn start(program: &str, parameters: &str) -> io::Result<Started> {
    let (verb, program, parameters) = (wide("runas"), wide(program), wide(parameters));
    // SAFETY: the structure is of numbers and pointers, for which zeros are values.
    let mut about: SHELLEXECUTEINFOW = unsafe { std::mem::zeroed() };
    about.cbSize = u32::try_from(size_of::<SHELLEXECUTEINFOW>()).unwrap_or(0);
    about.fMask = SEE_MASK_NOCLOSEPROCESS | SEE_MASK_NOASYNC;
    about.lpVerb = verb.as_ptr();
    about.lpFile = program.as_ptr();
    about.lpParameters = parameters.as_ptr();
    about.nShow = SW_HIDE;
    // SAFETY: the structure says how large it is; its texts end with zeros, and all live until the call returns.
    if unsafe { ShellExecuteExW(&raw mut about) } == 0 {
        let error = io::Error::last_os_error();
        let is_refused = error.raw_os_error() == Some(ERROR_CANCELLED.cast_signed());
        return Err(if is_refused { io::ErrorKind::PermissionDenied.into() } else { error });
    }
    if about.hProcess.is_null() {
        return Err(io::ErrorKind::NotFound.into());
    }
    // SAFETY: the call has succeeded and was asked for the handle, which is ours.
    Ok(Started(unsafe { OwnedHandle::from_raw_handle(about.hProcess) }))
}

/// Connects to a pipe of this machine's. Gives it, and the user whose program made it.
///
/// # Errors
/// When there is none, or its maker can't be looked at.
pub fn connect(name: &str) -> io::Result<(File, Sid)> {
    let is_plain = name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
    if !is_plain {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let pipe = OpenOptions::new().read(true).write(true).custom_flags(ONLY_IDENTIFY).open(path(name))?;
    let mut server = 0;
    // SAFETY: the pipe is open; the number is written to a variable of the right type.
    checked(unsafe { GetNamedPipeServerProcessId(pipe.as_raw_handle(), &raw mut server) })?;
    Ok((pipe, processes::user(server)?))
}
