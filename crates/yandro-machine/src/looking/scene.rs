//! Machine and time of a look.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use time::OffsetDateTime;
use yandro_core::HostName;

use crate::machine::Machine;
use crate::servers::Present;

/// Machine and time of a look.
#[derive(Clone, Copy, Debug)]
pub struct Scene<'s> {
    /// Where it is looked.
    pub machine: &'s Machine,
    /// Its servers.
    pub present: &'s Present,
    /// The present time.
    pub now: OffsetDateTime,
    /// The names of all sites of the list.
    pub listed: &'s Arc<BTreeSet<HostName>>,
    /// How far it has come, for whoever waits.
    pub progress: &'s Progress,
}

/// How far a look has come: how many of all questions are answered.
#[derive(Debug, Default)]
pub struct Progress {
    pub(super) done: AtomicUsize,
    pub(super) all: AtomicUsize,
}

impl Progress {
    /// How many are answered, and how many there are.
    pub fn get(&self) -> (usize, usize) {
        (self.done.load(Ordering::Relaxed), self.all.load(Ordering::Relaxed))
    }
}
