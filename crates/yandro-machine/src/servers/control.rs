//! The control of a server: of this machine, or one that only the user's commands reach.

use camino::Utf8PathBuf;
use yandro_core::ServerId;

use super::commands::Commands;
use super::daemon::Daemon;
use super::found::Found;
use super::program;
use super::registry::Registry;
use crate::changes::{ControlError, OnWait, ServerAction, ServerControl};
use crate::machine::Machine;

/// The control of a server.
#[derive(Clone, Debug)]
pub enum Control {
    /// A server of this machine.
    Daemon(Daemon),
    /// A server on another machine or in a container.
    Commands(Commands),
}

impl Control {
    /// The control of a server of the real machine; `None` if it has no program and no commands
    /// were named.
    pub fn of(machine: &Machine, found: &Found) -> Option<Self> {
        match &found.named {
            Some(named) if named.is_elsewhere() => Some(Self::Commands(Commands::new(named))),
            _ => program::daemon(machine, found).map(Self::Daemon),
        }
    }

    /// The control of a server that is found in a known layout, whatever anybody's settings say.
    pub(crate) fn of_known(id: ServerId) -> Option<Self> {
        let machine = Machine::bare();
        Self::of(&machine, &Registry::of_system(&machine).find(&machine, id)?)
    }

    /// The program or main file of a server in a known layout, if others than root can change it. What root named in the
    /// settings for everybody is root's decision.
    pub(crate) fn changed_by_others(&self) -> Option<Utf8PathBuf> {
        match self {
            Self::Daemon(daemon) if daemon.named.is_none() => daemon.changed_by_others(),
            Self::Daemon(_) | Self::Commands(_) => None,
        }
    }

    /// The number of the main process, if it runs on this machine.
    pub fn process(&self) -> Option<i32> {
        match self {
            Self::Daemon(daemon) => daemon.running(),
            Self::Commands(_) => None,
        }
    }

    fn inner(&self) -> &dyn ServerControl {
        match self {
            Self::Daemon(daemon) => daemon,
            Self::Commands(commands) => commands,
        }
    }
}

impl ServerControl for Control {
    fn test(&self) -> Result<(), ControlError> {
        self.inner().test()
    }

    fn is_running(&self) -> bool {
        self.inner().is_running()
    }

    fn needs_root(&self) -> bool {
        self.inner().needs_root()
    }

    fn wait_until_idle(&self, on_wait: OnWait<'_>) {
        self.inner().wait_until_idle(on_wait);
    }

    fn reload(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        self.inner().reload(on_wait)
    }

    fn start_or_reload(&self, on_wait: OnWait<'_>) -> Result<ServerAction, ControlError> {
        self.inner().start_or_reload(on_wait)
    }

    fn start(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        self.inner().start(on_wait)
    }

    fn stop(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        self.inner().stop(on_wait)
    }
}
