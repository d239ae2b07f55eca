//! Signals that ask this process to end.

use std::ffi::c_int;
use std::io;

use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use tokio::signal::unix::{Signal, SignalKind, signal};

/// Their numbers.
pub(crate) const ENDING: [c_int; 4] = [SIGINT, SIGTERM, SIGHUP, SIGQUIT];

/// Waits for one of those signals.
#[derive(Debug)]
pub(crate) struct Ending([Signal; 4]);

impl Ending {
    /// Listens from now on.
    ///
    /// # Errors
    /// When the system takes no handlers.
    pub(crate) fn listen() -> io::Result<Self> {
        let [a, b, c, d] = ENDING.map(|number| signal(SignalKind::from_raw(number)));
        Ok(Self([a?, b?, c?, d?]))
    }

    /// Waits until one comes.
    pub(crate) async fn came(&mut self) {
        let [a, b, c, d] = &mut self.0;
        tokio::select! {
            _ = a.recv() => {}
            _ = b.recv() => {}
            _ = c.recv() => {}
            _ = d.recv() => {}
        }
    }
}
