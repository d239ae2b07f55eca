//! A trust store that a program keeps, and why it can't be asked.

use camino::Utf8PathBuf;
use yandro_core::StoreKind;

use crate::files::FileError;

/// A trust store that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Store {
    /// Decides which program changes it.
    pub kind: StoreKind,
    /// Its owner, with the profile or version if there are several.
    pub title: String,
    /// The database's folder or file, or the store's name.
    pub path: Utf8PathBuf,
    /// Whether the system's own store makes it.
    pub is_of_system: bool,
}

/// Why a store can't be asked or changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The program that keeps it isn't there.
    #[error("{path}: this trust store is kept by the program `{program}`, which isn't there")]
    NoProgram {
        /// The store.
        path: Utf8PathBuf,
        /// The program that is missing.
        program: &'static str,
    },
    /// The store is behind a password.
    #[error(
        "{path}: a password guards this store: take it away for the moment, or import the root certificate by hand"
    )]
    Password {
        /// The store.
        path: Utf8PathBuf,
    },
    /// The program that keeps it ended with an error.
    #[error("{path}: {words}")]
    Refused {
        /// The store.
        path: Utf8PathBuf,
        /// The program's words.
        words: String,
    },
}

impl From<StoreError> for FileError {
    fn from(error: StoreError) -> Self {
        let (StoreError::NoProgram { path, .. } | StoreError::Refused { path, .. } | StoreError::Password { path }) =
            &error;
        let path = path.clone();
        let words = error.to_string();
        let words = words.strip_prefix(&format!("{path}: ")).unwrap_or(&words).to_owned();
        Self { path, source: std::io::Error::other(words) }
    }
}
