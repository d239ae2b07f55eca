//! What asks this process to end: the keys of a console, its being closed, the end of the session.

use std::ffi::c_int;
use std::io;

use signal_hook::consts::{SIGINT, SIGTERM};
use tokio::signal::windows::{self, CtrlBreak, CtrlC, CtrlClose, CtrlShutdown};

/// The signals of the C library that stand for them; the third is that of Ctrl-Break (`SIGBREAK`).
pub(crate) const ENDING: [c_int; 3] = [SIGINT, SIGTERM, 21];

/// All of them, waited for.
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
