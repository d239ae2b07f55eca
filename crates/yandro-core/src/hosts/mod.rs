//! The hosts file: parse, look up as the system would, edit, lint, export.
//!
//! The meaning of a line follows glibc's "files" service (`hosts(5)`); its readings
//! differ from the manual in places, and where they do, glibc is right.

mod block;
mod error;
mod export;
mod index;
mod lines;
mod lint;
mod lookup;
mod own_block;
mod parse;
mod takeover;

pub use block::{Mapping, drop_names, point};
pub(crate) use block::{adopted, check_encoding, contradicted, sorted};
pub use error::{Conflict, EditError, TakeOver};
pub use export::{Pointed, as_hosts, as_zone, common_zone, names_for_others};
pub(crate) use index::{HostsIndex, with_new};
pub use lines::{remove_lines, set_line, set_lines};
pub use lint::{HostsRow, LintCode, LintContext, LintFinding, LintWeight, fixed, lint, rows};
pub use lookup::{AddressFamily, Multi, Sorting};
pub use own_block::{OwnBlockError, OwnLine, own_lines, with_own_lines};
pub use parse::{HostsEntry, HostsFile};
pub(crate) use takeover::has_taken_over;

#[cfg(test)]
mod tests;
