//! The control of a server, as applying a change needs it.

use yandro_core::ServerId;

use crate::files::FileError;
use crate::ports::Holder;
use crate::process::ProgramError;

/// Why a server was not tested, reloaded, started or stopped.
#[derive(Debug, thiserror::Error)]
pub enum ControlError {
    /// No command is set for it.
    #[error("no command was named for it")]
    NoCommand,
    /// Only a running server can be reloaded.
    #[error("it isn't running")]
    NotRunning,
    /// It ended instead.
    #[error("the server ended while it reloaded; its error log says why")]
    Ended,
    /// It goes on with what it had.
    #[error("the server still runs on its old configuration: it didn't accept the new one; its error log says why")]
    KeptOld,
    /// The same, with what it wrote into its log.
    #[error(
        "the server still runs on its old configuration: it didn't accept the new one, and wrote into its log:\n{0}"
    )]
    KeptOldSaying(String),
    /// Its program ended well, and no server is there.
    #[error("it was started and doesn't run; its error log says why")]
    NotUp,
    /// It got the signal to end.
    #[error("process {0} still runs")]
    StillRuns(i32),
    /// The system refused a signal.
    #[error("process {pid} could not be signalled to {what}: {source}")]
    Signal {
        /// The process.
        pid: i32,
        /// The purpose of the signal.
        what: &'static str,
        /// The system's words.
        source: std::io::Error,
    },
    /// Another process has a port of its.
    #[error("port {port} is held by {holder}")]
    PortHeld {
        /// The port that the server needs.
        port: u16,
        /// Who has it.
        holder: Box<Holder>,
    },
    /// A program that was run for it.
    #[error(transparent)]
    Program(#[from] ProgramError),
    /// Message of the server, or of the helper under sudo.
    #[error("{0}")]
    Said(String),
    /// The helper under sudo could not be asked.
    #[error(transparent)]
    Helper(#[from] FileError),
}

impl ControlError {
    /// Whether no command is set for it, seen here or reported by the helper.
    pub fn is_no_command(&self) -> bool {
        self.to_string() == Self::NoCommand.to_string()
    }
}

/// Called once with what is waited for, when a wait takes longer than half a second.
pub type OnWait<'w> = &'w dyn Fn(&str);

/// A server's own test of its configuration, its reload, start and stop. Each of the last three
/// returns when the server has done it, or has failed.
pub trait ServerControl {
    /// Lets the server test its configuration.
    ///
    /// # Errors
    /// The server's own words.
    fn test(&self) -> Result<(), ControlError>;

    /// Whether it runs.
    fn is_running(&self) -> bool;

    /// Whether this user may not control it.
    fn needs_root(&self) -> bool;

    /// Waits until a reload that somebody began earlier is over.
    fn wait_until_idle(&self, on_wait: OnWait<'_>);

    /// Reloads it without dropping connections, and waits until it runs on the new configuration.
    ///
    /// # Errors
    /// When it doesn't run, ended, or kept its old configuration; the words of a command that failed.
    fn reload(&self, on_wait: OnWait<'_>) -> Result<(), ControlError>;

    /// Reloads it, or starts it if it isn't running.
    ///
    /// # Errors
    /// As [`Self::reload`] and [`Self::start`].
    fn start_or_reload(&self, on_wait: OnWait<'_>) -> Result<ServerAction, ControlError>;

    /// Starts it, unless it runs.
    ///
    /// # Errors
    /// The words of the program that failed.
    fn start(&self, on_wait: OnWait<'_>) -> Result<(), ControlError>;

    /// Stops it, if it runs.
    ///
    /// # Errors
    /// The words of the program that failed.
    fn stop(&self, on_wait: OnWait<'_>) -> Result<(), ControlError>;
}

/// The control of servers by their identity.
pub type Controls<'c> = [(ServerId, &'c dyn ServerControl)];

/// The action that had a server use its new configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case", tag = "how")]
pub enum ServerAction {
    /// It ran, and was reloaded.
    Reloaded,
    /// It ran, and was stopped and started: by a reload it can't have an address that it has in another width.
    Restarted,
    /// It didn't run, and was started.
    Started,
    /// Nothing: no reload command is set for it.
    NoCommand,
}
