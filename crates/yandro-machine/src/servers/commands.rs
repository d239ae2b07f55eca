//! Control by nothing but the commands that a person named: of a server in a container or a
//! virtual machine, whose processes are not this machine's.

use std::time::Duration;

use camino::Utf8Path;

use crate::changes::{ControlError, OnWait, ServerAction, ServerControl};
use crate::process;
use crate::process::{ProgramError, RunAs};
use crate::settings::NamedServer;

/// The commands of a remote or containerised server.
#[derive(Clone, Debug)]
pub struct Commands {
    named: NamedServer,
}

impl Commands {
    pub(super) fn new(named: &NamedServer) -> Self {
        Self { named: named.clone() }
    }
}

/// Time for such a server to reload: nginx's old and new processes
/// answer side by side for a tenth of a second.
const SETTLING: Duration = Duration::from_millis(250);

/// Runs a command that a person named, with their environment: it may have to find a container's
/// engine or an agent with keys. Under sudo it runs as the user who called, unless root named it for everybody.
///
/// # Errors
/// When none was named, and the words of one that failed.
pub(crate) fn run(named: &NamedServer, command: &[String]) -> Result<(), ControlError> {
    let (program, arguments) = command.split_first().ok_or(ControlError::NoCommand)?;
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let ran = process::run_with_environment(Utf8Path::new(program), &arguments, RunAs::unless(named.is_systems));
    Ok(ProgramError::check(program, ran)?)
}

impl ServerControl for Commands {
    fn test(&self) -> Result<(), ControlError> {
        if self.named.test.is_empty() { Ok(()) } else { run(&self.named, &self.named.test) }
    }

    /// Whether it runs can't be seen from here.
    fn is_running(&self) -> bool {
        true
    }

    fn needs_root(&self) -> bool {
        false
    }

    fn wait_until_idle(&self, _: OnWait<'_>) {}

    fn reload(&self, _: OnWait<'_>) -> Result<(), ControlError> {
        run(&self.named, &self.named.reload)?;
        // When its old processes are gone can't be seen from here.
        std::thread::sleep(SETTLING);
        Ok(())
    }

    fn start_or_reload(&self, on_wait: OnWait<'_>) -> Result<ServerAction, ControlError> {
        if self.named.reload.is_empty() {
            return Ok(ServerAction::NoCommand);
        }
        self.reload(on_wait).map(|()| ServerAction::Reloaded)
    }

    fn start(&self, _: OnWait<'_>) -> Result<(), ControlError> {
        run(&self.named, &self.named.start)
    }

    fn stop(&self, _: OnWait<'_>) -> Result<(), ControlError> {
        run(&self.named, &self.named.stop)
    }
}
