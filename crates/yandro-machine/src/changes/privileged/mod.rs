//! The helper that runs as root, and how an ordinary user's yandro speaks with it.
//!
//! The caller sends what it wants, typed ([`Wish`]), and which files and links would change by that. The helper reads
//! the system's files itself, plans with the same code, and from then on does only what its own plan says, or takes
//! back what it did for the same user ([`kept`]). It never gets the content of a file. It takes nothing from the
//! command line, and from the environment only the number of the user who called sudo, which sudo itself sets.

mod databases;
mod helper;
mod kept;
mod permits;
mod serve;
mod taken_back;
mod trusted;
mod unplanned;
mod vetting;
mod way;
mod wishes;

pub(super) use helper::Helper;
pub use permits::Refusal;
pub use serve::serve_privileged;
pub(super) use wishes::{asked, objections, wish};

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use yandro_core::{Cache, DatabaseKind, DatabasePlace, ServerId, TrustChange, TrustStore, Wish};

use super::control::ServerAction;
use crate::files::{self, FileError};
use crate::os::UserId;

/// The longest request, in bytes: four lists of ten thousand sites.
const LONGEST: u64 = 32 << 20;

/// A request of the caller.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "step", deny_unknown_fields)]
pub(super) enum Request {
    /// Before anything is written: what is wanted, and which paths would change by it.
    Plan {
        wish: Box<Wish>,
        asked: Vec<Asked>,
    },
    /// Applies one of these changes, or undoes one.
    Change {
        path: Utf8PathBuf,
        to: PathState,
        tag: String,
        in_place: bool,
    },
    /// Removes a temporary file that an interrupted change left behind.
    Clean {
        path: Utf8PathBuf,
        tag: String,
    },
    Control {
        server: ServerId,
        verb: ControlVerb,
    },
    Flush {
        cache: Cache,
    },
    Refresh {
        store: TrustStore,
    },
    /// Puts a root of the user's authority into a key store of Java's, or takes one out.
    Trust {
        change: Box<TrustChange>,
    },
    /// Starts the php-fpm of a version, by the system's own way.
    StartPhp {
        version: String,
    },
    /// Has the php-fpm of a version read its pools again, or starts it.
    ReloadPhp {
        version: String,
    },
    /// Makes a database with an account that may use only it, or takes one away whose password is known.
    Database {
        kind: DatabaseKind,
        name: String,
        password: String,
        removes: bool,
    },
    /// Forgets what was done for the user: nothing of it is taken back any more.
    Forget,
}

/// A path, and how it is to change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Asked {
    pub(super) path: Utf8PathBuf,
    pub(super) from: PathState,
    pub(super) to: PathState,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "is", deny_unknown_fields)]
pub(super) enum PathState {
    /// Nothing.
    Absent,
    /// A regular file with this content.
    File { sha256: String },
    /// A symbolic link.
    Link { target: Utf8PathBuf },
}

impl PathState {
    /// The present state of a path; links are not followed.
    ///
    /// # Errors
    /// When it can't be read, and for what is neither file nor link.
    pub(super) fn at(path: &Utf8Path) -> Result<Self, FileError> {
        match path.symlink_metadata() {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Self::Absent),
            Err(error) => Err(FileError::at(path)(error)),
            Ok(meta) if meta.is_symlink() => {
                path.read_link_utf8().map(|target| Self::Link { target }).map_err(FileError::at(path))
            }
            Ok(_) => Ok(Self::of_file(files::read_if_there(path)?.as_deref())),
        }
    }

    pub(super) fn of_file(content: Option<&[u8]>) -> Self {
        content.map_or(Self::Absent, |content| Self::File { sha256: files::sha256(content) })
    }

    pub(super) fn of_link(target: Option<&Utf8Path>) -> Self {
        target.map_or(Self::Absent, |target| Self::Link { target: target.to_owned() })
    }
}

/// An action of a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum ControlVerb {
    Test,
    Reload,
    StartOrReload,
    Start,
    Stop,
}

/// The answer to a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "answer")]
pub(super) enum HelperAnswer {
    Ready,
    Done,
    /// A rename is impossible there; the caller keeps the old content and asks again.
    OnlyInPlace,
    /// The place of the server of a database that was made.
    Database(DatabasePlace),
    Server(ServerAction),
    /// Not yet an answer: what the step waits for.
    Waiting {
        what: String,
    },
    /// The words of a server, or why a step is not done.
    Refused {
        words: String,
    },
    /// The parts of a plan that need root's decision.
    Objections {
        refusals: Vec<Refusal>,
    },
    /// The system's error number.
    Failed {
        errno: i32,
    },
}

/// Forgets what was done for a user.
pub(super) fn forget(caller: UserId) -> std::io::Result<()> {
    kept::Kept::read().forget(caller)
}

pub(super) fn refused(words: impl Into<String>) -> HelperAnswer {
    HelperAnswer::Refused { words: words.into() }
}

pub(super) fn failed(error: &std::io::Error) -> HelperAnswer {
    HelperAnswer::Failed { errno: error.raw_os_error().unwrap_or(5) }
}
