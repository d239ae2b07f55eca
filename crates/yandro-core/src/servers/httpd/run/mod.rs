//! A configuration as the server reads it: includes followed, conditions evaluated,
//! variables replaced, macros used.
//!
//! The result is the directives that count, in their order, each with its place. What the
//! server would refuse ends the run, and is reported with its place.

mod condition;
mod environment;
mod listens;
mod macros;
mod report;
mod vhosts;
mod walk;

pub(crate) use crate::config::FileImage;
pub use crate::config::by_address;
pub(crate) use crate::config::{ConfigFault, Files, Place};
pub(super) use crate::config::{files_of, matches_path};
pub(crate) use crate::servers::Start;
pub use environment::environment;
pub use listens::Listen;
pub(super) use report::read_report;
pub(super) use vhosts::bare;

use std::collections::BTreeSet;

use crate::server_path::ServerPath;

/// A directive that counts, or the beginning or end of a section.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// What it is.
    pub kind: EventKind,
    /// Its name as written, variables replaced; of an end the name of what ends.
    pub name: String,
    /// Its arguments, unquoted, variables replaced.
    pub arguments: Vec<String>,
    /// File and line.
    pub place: Place,
    /// The modules on which it depends by the `<IfModule>` sections that it is in, as these name them.
    pub guards: Vec<String>,
}

/// What the server meets as it reads its files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EventKind {
    /// A directive.
    Directive,
    /// A section's opening tag.
    Open,
    /// Its closing tag.
    Close,
}

impl Event {
    /// Whether it has this name; names compare without case.
    pub fn is(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name)
    }
}

/// A configuration that was run through.
#[derive(Clone, Debug, Default)]
pub struct HttpdRun {
    /// The directives that count, in order.
    pub events: Vec<Event>,
    /// The files that were read, in the order of their first reading.
    pub files: Vec<ServerPath>,
    /// The modules that are there, by identifier (`ssl_module`) and by source (`mod_ssl.c`).
    pub modules: BTreeSet<String>,
    /// Includes, with their wildcards, absolute; in order.
    pub includes: Vec<ServerPath>,
    /// The folder that relative paths start from.
    pub server_root: ServerPath,
    /// The fault that ended the run before its end.
    pub fault: Option<ConfigFault>,
}

impl HttpdRun {
    /// Runs through the configuration of `start`.
    pub fn run(start: &Start, files: &dyn Files) -> Self {
        walk::HttpdWalk::new(start, files).finish(&start.main)
    }

    /// The directives of this name beyond all sections: those of the main server.
    pub fn main_server<'c>(&'c self, name: &'c str) -> impl Iterator<Item = &'c Event> {
        let mut depth = 0_usize;
        self.events.iter().filter(move |event| {
            match event.kind {
                EventKind::Open => depth += 1,
                EventKind::Close => depth = depth.saturating_sub(1),
                EventKind::Directive => return depth == 0 && event.is(name),
            }
            false
        })
    }
}

#[cfg(test)]
mod tests;
