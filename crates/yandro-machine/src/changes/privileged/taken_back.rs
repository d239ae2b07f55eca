//! Whether the helper may undo a change that it made.

use camino::Utf8Path;
use yandro_core::{TrustStore, is_own_pool};

use super::kept::Kept;
use super::{PathState, vetting};
use crate::files;
use crate::machine::Machine;
use crate::os::UserId;
use crate::php;
use crate::servers::{Found, Registry};

/// Whether a change undoes one that the helper made for this user. Restored content is checked again: a site's file may
/// get only yandro's own directives, or those that it has now; a shared file may only change by switches.
pub(super) fn is_taken_back(kept: &Kept, uid: UserId, path: &Utf8Path, now: &PathState, to: &PathState) -> bool {
    if !kept.takes_back(uid, path, now, last_written(path), to) {
        return false;
    }
    let PathState::File { sha256 } = to else { return true };
    let machine = Machine::bare();
    if path == machine.places.hosts || TrustStore::of_file(path).is_some() {
        return true;
    }
    if php::homes(&machine).values().any(|folder| path.parent() == Some(folder)) {
        let present = files::read_if_there(path).ok().flatten().unwrap_or_default();
        let owner = php::owner_of_pool(uid).unwrap_or_default();
        return Kept::content(sha256).is_some_and(|content| is_own_pool(&content, &owner, &present));
    }
    let found = Registry::of_system(&machine).all(&machine).into_iter().find(|found| is_in_folders(found, path));
    let (Some(found), Some(content)) = (found, Kept::content(sha256)) else { return false };
    if found.layout.site_of_file(path).is_none() {
        return vetting::of_shared(&machine, Some(found.id), path, &content, &[]).is_none();
    }
    !vetting::adds_foreign(found.kind, path, &content, &[])
}

/// The time of the last change of a file, in nanoseconds since 1970.
pub(super) fn last_written(path: &Utf8Path) -> u64 {
    let written = path.symlink_metadata().and_then(|meta| meta.modified()).ok();
    let since = written.and_then(|at| at.duration_since(std::time::SystemTime::UNIX_EPOCH).ok());
    since.and_then(|since| u64::try_from(since.as_nanos()).ok()).unwrap_or(u64::MAX)
}

/// Whether a file is where a server keeps its configuration.
fn is_in_folders(found: &Found, path: &Utf8Path) -> bool {
    let layout = &found.layout;
    let folders = [layout.main.parent(), Some(layout.sites.as_path()), Some(Utf8Path::new(layout.known.sign))];
    folders.into_iter().flatten().any(|folder| folder != "" && path.starts_with(folder))
}
