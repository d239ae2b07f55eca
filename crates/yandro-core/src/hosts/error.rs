//! Why a hosts file is not edited.

use core::net::IpAddr;

use crate::name::HostName;
use crate::site::ListId;

/// A line of the person's own that says something else about a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conflict {
    /// The line's number, from 1.
    pub line: usize,
    /// The line's text.
    pub text: String,
    /// The name.
    pub name: HostName,
    /// The address in that line.
    pub address: IpAddr,
    /// The wanted address.
    pub wanted: IpAddr,
    /// Why the line can't be taken over, if it can't.
    pub fixed: Option<&'static str>,
}

/// Whether lines of the person's own that say something else are commented out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum TakeOver {
    /// They are in the way.
    #[default]
    No,
    /// They are, until the site is taken away.
    Yes,
}

/// Why a hosts file was not edited.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The user's own lines point names to other addresses.
    #[error(
        "`{}` points to {} here already, not to {}{}\n  {}",
        .0.name, .0.address, .0.wanted,
        .0.fixed.map(|why| format!("; the line can't be taken over, since {why}")).unwrap_or_default(), .0.text
    )]
    Conflict(Box<Conflict>),
    /// A line that yandro never changes.
    #[error(
        "the line has `localhost` and `{name}`, and yandro never changes a line of `localhost`: remove the name by hand"
    )]
    Localhost {
        /// The line's number, from 1.
        line: usize,
        /// A name that only loopback may answer.
        name: String,
    },
    /// The name is in the block of another site list.
    #[error("`{name}` belongs to {list}")]
    OtherList {
        /// The line's number, from 1.
        line: usize,
        /// The name that both lists want.
        name: HostName,
        /// Whose block the line is in.
        list: ListId,
    },
    /// The file is UTF-16, of which the resolver reads no line.
    #[error("the file is encoded as UTF-16, of which the resolver reads no line: save it as plain ASCII text")]
    Utf16,
}

impl EditError {
    /// The line that is in the way, from 1, if it is one.
    pub fn line(&self) -> Option<usize> {
        match self {
            Self::Conflict(conflict) => Some(conflict.line),
            Self::Localhost { line, .. } | Self::OtherList { line, .. } => Some(*line),
            Self::Utf16 => None,
        }
    }

    /// The message with the file and the line before it.
    pub fn at(&self, path: &camino::Utf8Path) -> String {
        match self.line() {
            Some(line) => format!("{path}:{line}: {self}"),
            None => format!("{path}: {self}"),
        }
    }
}
