//! Waiting for a server.

use std::time::{Duration, Instant};

use crate::changes::OnWait;

/// How long a server has for a reload, a start or a stop.
const LIMIT: Duration = Duration::from_secs(60);
/// The wait after which the user reads what yandro waits for.
const PATIENCE: Duration = Duration::from_millis(500);
/// How far apart the looks are.
const LOOK: Duration = Duration::from_millis(4);

/// Looks again and again, with a limit, and tells the user once what takes so long.
pub(super) struct Wait<'w> {
    tell: OnWait<'w>,
    what: String,
    began: Instant,
    is_told: bool,
}

impl<'w> Wait<'w> {
    pub(super) fn new(on_wait: OnWait<'w>, what: String) -> Self {
        Self { tell: on_wait, what, began: Instant::now(), is_told: false }
    }

    /// Pauses before the next look; `false` once the limit is reached.
    pub(super) fn goes_on(&mut self) -> bool {
        let waited = self.began.elapsed();
        if waited > PATIENCE && !self.is_told {
            self.is_told = true;
            (self.tell)(&self.what);
        }
        std::thread::sleep(LOOK);
        waited < LIMIT
    }
}
