//! Desired against observed: what a command is going to change.
//!
//! Everything is computed here and nothing is done: the machine crate carries a
//! [`ChangeSet`] out, whole or not at all.

mod authority;
mod change;
mod content;
mod diff;
mod merge;
mod model;
mod observed;
mod others;
mod patch;
mod replan;
mod role;
mod settle;
mod site;
mod undo;
mod wish;

pub use authority::{AuthorityFiles, AuthorityTexts, Issued, issued_paths, note_issued, replace_authority};
pub use change::{
    Access, Change, ChangeSet, FileChange, LinkChange, Opened, Phase, Rights, RightsChange, SiteChange, Step,
    TrustChange, is_own_nickname, nickname,
};
pub use content::Content;
pub use diff::unified_diff;
pub use model::{OwnFiles, ServerModel};
pub(crate) use model::{is_on_port, not_taken, others_go, tell_after, write_site};
pub use observed::{Fresh, Observed, Places};
pub use patch::{ChangedLines, changed_lines, reversed};
pub use role::Role;
pub use settle::{Failed, Orphans, Settlement, renew, settle};
pub use site::{PlanError, map_site, unmap_sites};
pub use undo::{DoneStep, UndoError, Undoing, undo};
pub use wish::{Reading, Wish};

#[cfg(test)]
mod tests;
