//! A configuration as the server runs through it: includes followed, conditions judged,
//! variables replaced, macros used.
//!
//! The result is the directives that count, in their order, each with its place. What the
//! server would refuse ends the run, and is told with its place.

mod condition;
mod environment;
mod image;
mod include;
mod listens;
mod macros;
mod report;
mod vhosts;
mod walk;

pub use environment::environment;
pub use image::FileImage;
pub(super) use include::{files_of, matches_path};
pub use listens::Listen;
pub use report::ServerReport;
pub(super) use vhosts::bare;
pub use vhosts::{Answering, VirtualHost, by_address};

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};

use crate::source::Excerpt;

/// The files of a machine, as far as a configuration asks for them.
pub trait Files {
    /// A file's bytes; `None` if there is no such file or it can't be read.
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>>;
    /// The names in a folder; `None` if it is none.
    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>>;
    /// Whether there is something at a path.
    fn exists(&self, path: &Utf8Path) -> bool {
        self.read(path).is_some() || self.list(path).is_some()
    }
}

/// Where a run begins.
#[derive(Clone, Debug, Default)]
pub struct Start {
    /// The main file.
    pub main: Utf8PathBuf,
    /// What the server says of itself.
    pub report: ServerReport,
    /// The environment that the server is started with.
    pub environment: BTreeMap<String, String>,
    /// Names given with `-D`.
    pub defines: Vec<String>,
}

/// Where a directive stands.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// The file, or what the server calls the use of a macro.
    pub file: String,
    /// Number of its last physical line, from 1; within a macro's body for its lines.
    pub line: usize,
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// A directive that counts, or the beginning or end of a section.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// What it is.
    pub kind: EventKind,
    /// Its name as written, variables replaced; of an end the name of what ends.
    pub name: String,
    /// Its arguments, unquoted, variables replaced.
    pub arguments: Vec<String>,
    /// Where it stands.
    pub place: Place,
}

/// Kinds of event.
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

/// What the server would refuse.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{place}: {message}")]
pub struct ConfigFault {
    /// Where.
    pub place: Place,
    /// What is wrong.
    pub message: String,
    /// The line that is meant; `None` for one of a macro, and for a file that can't be read.
    pub excerpt: Option<Excerpt>,
}

impl ConfigFault {
    fn new(place: Place, message: impl Into<String>) -> Self {
        Self { place, message: message.into(), excerpt: None }
    }
}

/// A configuration that was run through.
#[derive(Clone, Debug, Default)]
pub struct Configuration {
    /// What counts, in order.
    pub events: Vec<Event>,
    /// The files that were read, in the order of their first reading.
    pub files: Vec<Utf8PathBuf>,
    /// The modules that are there, by identifier (`ssl_module`) and by source (`mod_ssl.c`).
    pub modules: BTreeSet<String>,
    /// What was included, with its wildcards, absolute; in order.
    pub includes: Vec<Utf8PathBuf>,
    /// The folder that relative paths start from.
    pub server_root: Utf8PathBuf,
    /// What ended the run before its end.
    pub fault: Option<ConfigFault>,
}

impl Configuration {
    /// Runs through the configuration of `start`.
    pub fn run(start: &Start, files: &dyn Files) -> Self {
        walk::Walk::new(start, files).finish(&start.main)
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
