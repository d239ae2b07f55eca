//! Setting a link.

use camino::Utf8Path;

use crate::caller;
use crate::files::{self, FileError};
use crate::os;

/// Makes a link lead to `target`, through a new link that is renamed over it.
pub(super) fn set_link(path: &Utf8Path, target: &Utf8Path, tag: &str) -> Result<(), FileError> {
    let _rights = caller::rights_for(path);
    let real = files::follow_folder(path);
    let beside = files::temporary(&real, tag);
    _ = os::remove_file(&beside);
    os::link(target, &beside).and_then(|()| os::rename(&beside, &real)).map_err(FileError::at(path))?;
    files::sync_folder_of(path)
}
