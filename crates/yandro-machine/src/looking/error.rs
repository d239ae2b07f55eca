//! Why sites can't be looked at.

use yandro_core::PkiError;

use crate::files::FileError;
use crate::observe::ObserveError;

/// Why sites can't be looked at.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LookError {
    /// A file can't be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// The authority's files are not whole.
    #[error(transparent)]
    Observe(#[from] ObserveError),
    /// The authority's certificates are not what they ought to be.
    #[error("{0}")]
    Authority(PkiError),
    /// A probe ended before its answer: a fault of yandro's own.
    #[error("a probe broke off: {0}")]
    BrokenOff(String),
}

impl LookError {
    #[allow(clippy::needless_pass_by_value, reason = "it stands in map_err")]
    pub(super) fn broken_off(error: tokio::task::JoinError) -> Self {
        Self::BrokenOff(error.to_string())
    }
}
