//! Becoming the user who called sudo, for good.

use std::ffi::OsString;
use std::io;
use std::process::Command;

use crate::machine::Machine;
use crate::os;
use crate::permissions::user_name;

/// Becomes the user who called sudo for good, then the program.
///
/// # Errors
/// When nobody called sudo, root's rights can't be given up, or the program can't be started.
pub fn run_as_caller(machine: &Machine, program: &[OsString]) -> io::Result<std::convert::Infallible> {
    let user = machine.become_caller()?.ok_or(io::ErrorKind::PermissionDenied)?;
    let (program, arguments) = program.split_first().ok_or(io::ErrorKind::InvalidInput)?;
    let mut command = Command::new(program);
    command.args(arguments).env("HOME", machine.home()).env("USER", &user).env("LOGNAME", &user);
    os::become_program(command)
}

impl Machine {
    /// Under sudo, becomes the user who called it: all threads, all user and group ids, for good.
    /// The name of that user; `None` where nobody called it by sudo, and nothing changes.
    ///
    /// # Errors
    /// When the system refuses, or root's rights could be had back.
    pub fn become_caller(&self) -> io::Result<Option<String>> {
        let Some(keeper) = self.keeper.filter(|_| os::is_root()) else { return Ok(None) };
        let name = user_name(keeper.user);
        os::become_user(keeper)?;
        Ok(Some(name))
    }
}
