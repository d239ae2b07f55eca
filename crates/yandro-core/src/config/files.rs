//! The files that a configuration is made of, and places in them.

use camino::Utf8Path;

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
    pub(crate) fn new(place: Place, message: impl Into<String>) -> Self {
        Self { place, message: message.into(), excerpt: None }
    }
}
