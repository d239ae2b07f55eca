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

/// Runs `work` unless SIGINT, SIGTERM, SIGHUP or SIGQUIT comes first: `None` then, and `work` is
/// dropped, with all that it cleans up in doing so.
pub(crate) async fn unless_interrupted<T>(work: impl Future<Output = T>) -> Option<T> {
    use tokio::signal::unix::{SignalKind, signal};
    let _held = interrupt::HeldSignals::new();
    let kinds = [SignalKind::interrupt(), SignalKind::terminate(), SignalKind::hangup(), SignalKind::quit()];
    let Ok(mut signals) = kinds.into_iter().map(signal).collect::<Result<Vec<_>, _>>() else {
        return Some(work.await);
    };
    // A signal may have come before these handlers were installed, while a change was applied.
    if interrupt::came() {
        return None;
    }
    let [a, b, c, d] = &mut signals[..] else { return Some(work.await) };
    tokio::select! {
        done = work => Some(done),
        _ = a.recv() => None,
        _ = b.recv() => None,
        _ = c.recv() => None,
        _ = d.recv() => None,
    }
}
