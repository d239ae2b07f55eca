//! Testing, starting, reloading and stopping a server of any kind.

use super::{Commands, Found};
use crate::apache::Apache;
use crate::changes::{BroughtUp, ServerControl};
use crate::machine::Machine;
use crate::nginx::Nginx;
use yandro_core::site::ServerKind;

/// The control of a server.
#[derive(Clone, Debug)]
pub enum Control {
    /// An Apache httpd of this machine.
    Apache(Apache),
    /// An nginx of this machine.
    Nginx(Nginx),
    /// A server elsewhere.
    Commands(Commands),
}

impl Control {
    /// The control of a server of the real machine; `None` if it has no program and no commands
    /// were named.
    pub fn of(machine: &Machine, found: &Found) -> Option<Self> {
        match (&found.named, found.kind) {
            (Some(named), _) if named.is_elsewhere() => Some(Self::Commands(Commands::new(named))),
            (_, ServerKind::Apache) => Apache::of(machine, found).map(Self::Apache),
            (_, ServerKind::Nginx) => Nginx::of(found).map(Self::Nginx),
        }
    }

    /// The number of the main process, if it runs on this machine.
    pub fn process(&self) -> Option<i32> {
        let pid = match self {
            Self::Apache(own) => own.running(),
            Self::Nginx(own) => own.running(),
            Self::Commands(_) => None,
        };
        pid.map(|pid| pid.as_raw_nonzero().get())
    }

    /// Starts it, if it doesn't run.
    ///
    /// # Errors
    /// The words of the program that failed.
    pub fn start(&self) -> Result<(), String> {
        match self {
            Self::Commands(own) => own.start(),
            _ if self.is_running() => Ok(()),
            Self::Apache(own) => own.start(),
            Self::Nginx(own) => own.start(),
        }
    }

    /// Stops it, if it runs, and waits until it is gone.
    ///
    /// # Errors
    /// The words of the program that failed.
    pub fn stop(&self) -> Result<(), String> {
        match self {
            Self::Apache(own) => own.stop(),
            Self::Nginx(own) => own.stop(),
            Self::Commands(own) => own.stop(),
        }
    }

    /// Has it take its configuration up without cutting connections, and waits until it has.
    ///
    /// # Errors
    /// When it doesn't run, and the words of the program that failed.
    pub fn reload(&self) -> Result<(), String> {
        match self {
            Self::Apache(own) => own.reload_and_wait(),
            Self::Nginx(own) => own.reload_and_wait(),
            Self::Commands(own) => own.reload(),
        }
    }

    fn own(&self) -> &dyn ServerControl {
        match self {
            Self::Apache(own) => own,
            Self::Nginx(own) => own,
            Self::Commands(own) => own,
        }
    }
}

impl ServerControl for Control {
    fn test(&self) -> Result<(), String> {
        self.own().test()
    }

    fn bring_up(&self) -> Result<BroughtUp, String> {
        self.own().bring_up()
    }

    fn is_running(&self) -> bool {
        self.own().is_running()
    }

    fn needs_root(&self) -> bool {
        self.own().needs_root()
    }
}
