//! Why a machine can't be observed.

use camino::Utf8PathBuf;
use yandro_core::ListError;

use crate::files::FileError;
use crate::os::UserId;

/// Why the machine could not be observed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ObserveError {
    /// A file can't be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// The site list doesn't parse.
    #[error("{path}:{}: {error}", .error.excerpt.position.line)]
    List {
        /// The site list.
        path: Utf8PathBuf,
        /// The fault.
        error: ListError,
    },
    /// Part of the authority is missing or broken.
    #[error("the authority in {folder} is not whole: {fault}")]
    Authority {
        /// Where its files are.
        folder: Utf8PathBuf,
        /// The missing or broken part.
        fault: String,
    },
    /// The passphrase that was given is not the key's.
    #[error("that is not the passphrase of the authority in {folder}")]
    Passphrase {
        /// Where its files are.
        folder: Utf8PathBuf,
    },
    /// A key that is somebody else's.
    #[error("{path}: this key belongs to another user (uid {owner}), who can read and change it")]
    Foreign {
        /// The key or its folder.
        path: Utf8PathBuf,
        /// User ID of who has it.
        owner: UserId,
    },
}
