//! The files that a configuration is made of, and places in them.

use crate::server_path::ServerPath;

use super::PathView;
use crate::source::Excerpt;

/// The files of a machine, as far as a configuration asks for them, by paths with `/` on every system.
pub trait Files {
    /// A file's bytes; `None` if there is no such file or it can't be read.
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>>;
    /// The names in a folder; `None` if it is none.
    fn list(&self, folder: &ServerPath) -> Option<Vec<String>>;
    /// Whether there is something at a path.
    fn exists(&self, path: &ServerPath) -> bool {
        self.read(path).is_some() || self.list(path).is_some()
    }
}

/// The files of this machine as a server sees them, under the server's paths.
pub struct Seen<'f> {
    /// How it sees them.
    pub view: &'f PathView,
    /// The files, by the paths of this machine.
    pub files: &'f dyn Files,
    /// A main file that isn't here, by the server's path, and what is taken for its text.
    pub assumed: Option<(ServerPath, Vec<u8>)>,
}

impl Files for Seen<'_> {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        match &self.assumed {
            Some((main, text)) if main == path => Some(text.clone()),
            _ => self.files.read(&self.view.here(path)?.into()),
        }
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        self.files.list(&self.view.here(folder)?.into())
    }

    fn exists(&self, path: &ServerPath) -> bool {
        self.view.here(path).is_some_and(|here| self.files.exists(&here.into()))
    }
}

/// Place of a directive.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// The file, or what the server calls the use of a macro.
    pub file: String,
    /// Number of its last physical line, from 1; within a macro's body for its lines.
    pub line: usize,
}

impl Place {
    /// The line that a person would change: of one that comes from a macro that uses it.
    pub fn written(&self) -> Self {
        let used = || {
            let (line, file) = self.file.rsplit_once(" used on line ")?.1.split_once(" of \"")?;
            Some(Self { file: file.trim_end_matches('"').to_owned(), line: line.parse().ok()? })
        };
        used().unwrap_or_else(|| self.clone())
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// A line that the server would refuse.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{place}: {message}")]
pub struct ConfigFault {
    /// Where.
    pub place: Place,
    /// The fault.
    pub message: String,
    /// The line that is meant; `None` for one of a macro, and for a file that can't be read.
    pub excerpt: Option<Excerpt>,
}

impl ConfigFault {
    pub(crate) fn new(place: Place, message: impl Into<String>) -> Self {
        Self { place, message: message.into(), excerpt: None }
    }
}
