//! Asking sudo for the steps that need root, and for nothing else.

use std::io::Write as _;
use std::process::Command;

use camino::Utf8PathBuf;
use yandro_machine::{Escalate, Machine, Reach, process};

use crate::view::plain;

/// One call of sudo for this very program's hidden command, which is told single steps.
#[derive(Debug)]
pub(crate) struct Sudo {
    is_real: bool,
    is_quiet: bool,
}

impl Sudo {
    pub(crate) fn new(machine: &Machine, is_quiet: bool) -> Self {
        Self { is_real: machine.is_real(), is_quiet }
    }
}

impl Escalate for Sudo {
    fn command(&self, paths: &[Utf8PathBuf], reach: Reach) -> Option<Command> {
        // Within a sysroot nothing of the machine is touched, and root is never needed.
        if !self.is_real {
            return None;
        }
        let sudo = process::find(&["/usr/bin/sudo", "/bin/sudo"])?;
        let own = std::env::current_exe().ok()?;
        if !self.is_quiet {
            let mut text = String::from("note: root is needed for these, and sudo is asked for them alone:\n");
            for path in paths {
                text += &format!("  write {path}\n");
            }
            if reach == Reach::Server {
                text += "  test, reload, start or stop the web server\n";
            }
            // A person who does not see it is asked by sudo all the same.
            _ = std::io::stderr().write_all(plain(&text).as_bytes());
        }
        let mut command = Command::new(sudo);
        command.arg("--").arg(own).arg("privileged");
        Some(command)
    }
}
