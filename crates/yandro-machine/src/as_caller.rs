//! Becoming the user who called sudo, for good.

use std::ffi::{CString, OsString};
use std::io;
use std::process::Command;

use nix::unistd::{Gid, Uid, User, geteuid, getuid, initgroups, setgid, setgroups, setuid};

use crate::machine::Machine;

/// Becomes the user who called sudo for good, then the program.
///
/// # Errors
/// When nobody called sudo, root's rights can't be given up, or the program can't be started.
pub fn run_as_caller(machine: &Machine, program: &[OsString]) -> io::Result<std::convert::Infallible> {
    use std::os::unix::process::CommandExt as _;
    let user = machine.become_caller()?.ok_or(io::ErrorKind::PermissionDenied)?;
    let (program, arguments) = program.split_first().ok_or(io::ErrorKind::InvalidInput)?;
    let mut command = Command::new(program);
    command.args(arguments).env("HOME", machine.home()).env("USER", &user).env("LOGNAME", &user);
    Err(command.exec())
}

impl Machine {
    /// Under sudo, becomes the user who called it: all threads, all user and group ids, for good.
    /// The name of that user; `None` where nobody called it by sudo, and nothing changes.
    ///
    /// # Errors
    /// When the system refuses, or root's rights could be had back.
    pub fn become_caller(&self) -> io::Result<Option<String>> {
        let Some((uid, gid)) = self.keeper else { return Ok(None) };
        if !geteuid().is_root() {
            return Ok(None);
        }
        let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
        let user = User::from_uid(uid)?;
        match user.as_ref().and_then(|user| CString::new(user.name.as_str()).ok()) {
            Some(name) => initgroups(&name, gid)?,
            None => setgroups(&[gid])?,
        }
        setgid(gid)?;
        // Called by root, it sets the real and the saved one as well (setuid(2)).
        setuid(uid)?;
        if getuid() != uid || geteuid() != uid || !uid.is_root() && setuid(Uid::from_raw(0)).is_ok() {
            return Err(io::Error::other("root's rights could not be given up"));
        }
        Ok(Some(user.map_or_else(|| uid.to_string(), |user| user.name)))
    }
}
