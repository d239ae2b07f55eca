//! Desired against observed: what a command is going to change.
//!
//! Everything is computed here and nothing is done: the machine crate carries a
//! [`ChangeSet`] out, whole or not at all.

mod adopt;
mod applied;
mod authority;
mod authority_files;
mod certificate;
mod change;
mod content;
mod diff;
mod error;
mod fresh;
mod merge;
mod model;
mod note;
mod observed;
mod others;
mod patch;
mod places;
mod pool;
mod rename;
mod replace;
mod replan;
mod resolver;
mod role;
mod settle;
mod site;
mod undo;
mod undoing;
mod unrecorded;
mod wish;
mod wishes;

pub use adopt::{Adoption, adopt_site};
pub use applied::Applied;
pub use authority::{issued_paths, note_issued};
pub use authority_files::{AuthorityFiles, AuthorityTexts, Issued};
pub use change::{
    Access, Change, ChangeSet, FileChange, LinkChange, Opened, Phase, Rights, RightsChange, RowsChange, SiteChange,
    Step, TrustChange,
};
pub use content::FileContent;
pub use diff::unified_diff;
pub use error::{PlanError, PlanFailure};
pub use fresh::Fresh;
pub(crate) use model::{is_on_port, not_taken, others_go, tell_after, write_site};
pub use observed::{HostsByName, Observed, OwnFiles, ServerModel};
pub use patch::{ChangedLines, changed_lines, reversed, with_removed_lines};
pub use places::Places;
pub use pool::{Pools, is_own_pool, pool_of_file};
pub use rename::rename_site;
pub use replace::replace_authority;
pub use resolver::{Resolver, answered_tenants};
pub use role::Role;
pub use settle::{Orphans, Settlement, renew, settle};
pub use site::{map_site, map_sites, unmap_sites};
pub use undo::{UndoError, undo};
pub use undoing::{DoneStep, Undoing};
pub use wish::{Reading, Wish, WishLists};
pub use wishes::Wishes;

#[cfg(test)]
mod tests;
