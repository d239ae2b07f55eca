//! Interrupts, so that nothing is left behind.

use yandro_machine::interrupt;

use crate::error::CommandError;

/// Builds the runtime that probes and servers run on.
pub(crate) fn runtime() -> Result<tokio::runtime::Runtime, CommandError> {
    tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .max_blocking_threads(64)
        .build()
        .map_err(|error| CommandError::not_made(format!("no threads are to be had: {error}")))
}

/// Runs `work` unless something asks this process to end first (SIGINT, SIGTERM, SIGHUP, SIGQUIT, the end of a console):
/// `None` then, and `work` is dropped, with all that it cleans up in doing so.
pub(crate) async fn unless_interrupted<T>(work: impl Future<Output = T>) -> Option<T> {
    let _held = interrupt::HeldSignals::new();
    let Ok(mut ending) = interrupt::Ending::listen() else { return Some(work.await) };
    // A signal may have come before these handlers were installed, while a change was applied.
    if interrupt::came() {
        return None;
    }
    tokio::select! {
        done = work => Some(done),
        () = ending.came() => None,
    }
}
