//! The hosts file: parse, look up as the system would, edit.
//!
//! What a line means follows glibc's "files" service (`hosts(5)`); its readings
//! differ from the manual in places, and where they do, glibc is right.

mod edit;
mod parse;

pub use edit::{Conflict, EditError, Mapping, drop_names, point};
pub use parse::{Entry, HostsFile};
