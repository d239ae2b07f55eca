//! Requests to end this process: Ctrl-C, Ctrl-Break, a closed console, the end of the session.

use std::ffi::c_int;
use std::io;

use signal_hook::consts::{SIGINT, SIGTERM};
use tokio::signal::windows::{self, CtrlBreak, CtrlC, CtrlClose, CtrlShutdown};

/// The C library's signals for them. The third is Ctrl-Break (`SIGBREAK`).
pub(crate) const ENDING: [c_int; 3] = [SIGINT, SIGTERM, 21];

/// Waits for one of them.
#[derive(Debug)]
pub(crate) struct Ending(CtrlC, CtrlBreak, CtrlClose, CtrlShutdown);

impl Ending {
    /// Listens from now on.
    ///
    /// # Errors
    /// When the system takes no handlers.
    pub(crate) fn listen() -> io::Result<Self> {
        Ok(Self(windows::ctrl_c()?, windows::ctrl_break()?, windows::ctrl_close()?, windows::ctrl_shutdown()?))
    }

    /// Waits until one comes.
    pub(crate) async fn came(&mut self) {
        let Self(c, pause, close, shutdown) = self;
        tokio::select! {
            _ = c.recv() => {}
            _ = pause.recv() => {}
            _ = close.recv() => {}
            _ = shutdown.recv() => {}
        }
    }
}
