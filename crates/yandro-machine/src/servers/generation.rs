//! Generations of a server's processes.

/// A generation of a running server: the processes that share one reading of the configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Generation {
    pub(super) pid: i32,
    /// Inode and time of change of the pid file, where each generation writes it.
    pub(super) written: Option<(u64, i64, i64)>,
    pub(super) children: Vec<i32>,
}

impl Generation {
    /// Whether another one has processes that this one had not.
    pub(super) fn is_followed_by(&self, now: &Self) -> bool {
        now.children.iter().any(|child| !self.children.contains(child))
    }
}
