//! Interrupts, so that nothing is left behind.

use crate::error::CommandError;

/// Builds the runtime that probes and servers run on.
pub(crate) fn runtime() -> Result<tokio::runtime::Runtime, CommandError> {
    tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .max_blocking_threads(64)
        .build()
        .map_err(|error| CommandError::not_made(format!("no threads are to be had: {error}")))
}

/// Runs `work` unless SIGINT or SIGTERM comes first: `None` then, and `work` is
/// dropped, with all that it cleans up in doing so.
pub(crate) async fn unless_interrupted<T>(work: impl Future<Output = T>) -> Option<T> {
    use tokio::signal::unix::{SignalKind, signal};
    let (Ok(mut interrupt), Ok(mut terminate)) = (signal(SignalKind::interrupt()), signal(SignalKind::terminate()))
    else {
        return Some(work.await);
    };
    tokio::select! {
        done = work => Some(done),
        _ = interrupt.recv() => None,
        _ = terminate.recv() => None,
    }
}
