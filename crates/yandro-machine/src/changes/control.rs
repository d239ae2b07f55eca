//! The control of a server, as applying a change needs it.

use yandro_core::site::ServerId;

/// Called once with what is waited for, when a wait takes longer than half a second.
pub type OnWait<'w> = &'w dyn Fn(&str);

/// A server's own test of its configuration, its reload, start and stop. Each of the last three
/// returns when the server has done it, or has failed.
pub trait ServerControl {
    /// Lets the server test its configuration.
    ///
    /// # Errors
    /// The server's own words.
    fn test(&self) -> Result<(), String>;

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
    fn reload(&self, on_wait: OnWait<'_>) -> Result<(), String>;

    /// Reloads it, or starts it if it isn't running.
    ///
    /// # Errors
    /// As [`Self::reload`] and [`Self::start`].
    fn start_or_reload(&self, on_wait: OnWait<'_>) -> Result<ServerAction, String>;

    /// Starts it, unless it runs.
    ///
    /// # Errors
    /// The words of the program that failed.
    fn start(&self, on_wait: OnWait<'_>) -> Result<(), String>;

    /// Stops it, if it runs.
    ///
    /// # Errors
    /// The words of the program that failed.
    fn stop(&self, on_wait: OnWait<'_>) -> Result<(), String>;
}

/// The control of servers by their identity.
pub type Controls<'c> = [(ServerId, &'c dyn ServerControl)];

/// The action that had a server use its new configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case", tag = "how")]
pub enum ServerAction {
    /// It ran, and was reloaded.
    Reloaded,
    /// It didn't run, and was started.
    Started,
    /// Nothing: no reload command is set for it.
    NoCommand,
}
