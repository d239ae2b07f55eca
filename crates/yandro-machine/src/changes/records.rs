//! The records of change sets, as files in a folder.

use std::io;

use camino::{Utf8Path, Utf8PathBuf};

use crate::caller;
use crate::files::FileError;
use crate::os;

/// The number of a record, by its file's name.
pub(crate) fn number(path: &Utf8Path) -> Option<u64> {
    path.file_stem()?.split('.').next()?.parse().ok()
}

/// The records in `history` of one state, the oldest first.
pub(crate) fn records(history: &Utf8Path, state: &str) -> Vec<Utf8PathBuf> {
    let entries = history.read_dir_utf8().into_iter().flatten().flatten().map(camino::Utf8DirEntry::into_path);
    let mut found: Vec<Utf8PathBuf> = entries.filter(|path| path.extension() == Some(state)).collect();
    found.sort_by_cached_key(|path| (number(path), path.clone()));
    found
}

/// The number of the next change set.
///
/// # Errors
/// When no higher number is left.
pub(crate) fn next_id(history: &Utf8Path) -> Result<u64, FileError> {
    let entries = history.read_dir_utf8().into_iter().flatten().flatten();
    let highest = entries.filter_map(|entry| number(entry.path())).max().unwrap_or(0);
    let none = || FileError::at(history)(io::Error::other(format!("no change can have a number above {highest}")));
    highest.checked_add(1).ok_or_else(none)
}

/// Gives a record that can't be read a name under which nothing looks for it: that name.
pub(crate) fn set_aside(path: &Utf8Path) -> Result<Utf8PathBuf, FileError> {
    let aside = Utf8PathBuf::from(format!("{path}.damaged"));
    let _rights = caller::rights_for(path);
    os::rename(path, &aside).map_err(FileError::at(path))?;
    Ok(aside)
}
