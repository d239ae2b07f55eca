//! Desired against observed: what a command is going to change.
//!
//! Everything is computed here and nothing is done: the machine crate carries a
//! [`ChangeSet`] out, whole or not at all.

mod change;
mod diff;
mod observed;
mod site;

pub use change::{Access, ChangeSet, FileChange, LinkChange, Step};
pub use diff::unified_diff;
pub use observed::{AuthorityFiles, Fresh, Observed, ObservedApache, Places};
pub use site::{PlanError, map_site, unmap_sites};
