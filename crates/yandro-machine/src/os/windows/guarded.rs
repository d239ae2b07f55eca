//! Files that only the system and its administrators can change.

use std::io;

use camino::{Utf8Component, Utf8Path};
use yandro_sys::windows::descriptor::CHANGES;
use yandro_sys::windows::files;

use super::WayFault;

/// Rights on a folder by which what is in it can be replaced: to remove it and what is in it, to change its rights, to
/// own it, and the generic right to all.
const REPLACES: u32 = 0x100d_0040;

/// Whether others than the system and its administrators have some of these rights.
///
/// # Errors
/// When it can't be looked at.
fn lets_others(path: &Utf8Path, rights: u32) -> io::Result<bool> {
    let descriptor = files::descriptor(path.as_str())?;
    let is_theirs = descriptor.owner().is_some_and(|owner| owner.is_of_system());
    Ok(!is_theirs || descriptor.lets_others(&[], rights))
}

/// Whether a file is the administrators', and nobody else can change it or what is on the way to it.
pub(crate) fn is_roots_file(path: &Utf8Path) -> bool {
    let is_file = path.symlink_metadata().is_ok_and(|meta| meta.is_file());
    is_file && is_roots_alone(path) && lets_others(path, CHANGES).is_ok_and(|lets| !lets)
}

/// Whether nobody but an administrator can change which file a path names.
pub(crate) fn is_roots_alone(path: &Utf8Path) -> bool {
    let is_roots = |(turn, folder): (usize, &Utf8Path)| match folder.symlink_metadata() {
        // Whoever may make something in a folder above can't replace what is there.
        Ok(meta) => {
            let rights = if turn == 0 { CHANGES } else { REPLACES };
            meta.is_dir() && lets_others(folder, rights).is_ok_and(|lets| !lets)
        }
        // A missing folder will be created inside one that was checked.
        Err(error) => error.kind() == io::ErrorKind::NotFound,
    };
    path.ancestors().skip(1).enumerate().all(is_roots)
}

/// Checks that every folder on the path belongs to the system or its administrators, is not a link, and can't be written
/// by others. At its end may be a regular file, a link or nothing.
///
/// # Errors
/// The first fault on the path.
pub(crate) fn check_way(path: &Utf8Path) -> Result<(), WayFault> {
    let parts = path_parts(path).filter(|parts| !parts.is_empty()).ok_or(WayFault::NotPlain)?;
    let folders: Vec<&Utf8Path> = path.ancestors().skip(1).take(parts.len() - 1).collect();
    for (turn, folder) in folders.into_iter().enumerate().rev() {
        let meta = folder.symlink_metadata().map_err(WayFault::System)?;
        let rights = if turn == 0 { CHANGES } else { REPLACES };
        if !meta.is_dir() || lets_others(folder, rights).map_err(WayFault::System)? {
            return Err(WayFault::Changeable(folder.file_name().unwrap_or_default().to_owned()));
        }
    }
    match path.symlink_metadata() {
        Ok(meta) if meta.is_file() || meta.is_symlink() => Ok(()),
        Ok(_) => Err(WayFault::NoFile),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(WayFault::System(error)),
    }
}

/// The names of an absolute path on a drive, without `.` and `..`; none of them names a stream or a device.
pub(crate) fn path_parts(path: &Utf8Path) -> Option<Vec<&str>> {
    let mut components = path.components();
    let Some(Utf8Component::Prefix(prefix)) = components.next() else { return None };
    let is_drive = prefix.as_str().len() == 2 && prefix.as_str().ends_with(':');
    if !is_drive || components.next() != Some(Utf8Component::RootDir) || path.as_str().chars().any(char::is_control) {
        return None;
    }
    let name = |part| match part {
        Utf8Component::Normal(name) if !name.contains([':', '~']) && !name.ends_with(['.', ' ']) => Some(name),
        _ => None,
    };
    components.map(name).collect()
}
