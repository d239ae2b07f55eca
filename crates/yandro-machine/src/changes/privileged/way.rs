//! Ownership of the folders on the path to a file.

use std::os::unix::fs::MetadataExt as _;

use camino::{Utf8Component, Utf8Path};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, fstat, openat, statat};

use super::{HelperAnswer, failed, refused};
use crate::os;

/// Checks that every folder on the path belongs to root, is not a link, and can't be written by others. At its end may
/// be a regular file, a link or nothing.
pub(super) fn check_way(path: &Utf8Path) -> Result<(), HelperAnswer> {
    let faulty = |errno: rustix::io::Errno| failed(&errno.into());
    let flags = OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC | os::SEARCH;
    let mut folder = rustix::fs::open("/", flags, Mode::empty()).map_err(faulty)?;
    let parts = parts(path).ok_or_else(|| refused(format!("{path} is not a plain absolute path")))?;
    let (name, folders) = parts.split_last().ok_or_else(|| refused("the path is empty"))?;
    for part in folders {
        folder = openat(&folder, *part, flags, Mode::empty()).map_err(faulty)?;
        let stat = fstat(&folder).map_err(faulty)?;
        if stat.st_uid != 0 || stat.st_mode & 0o022 != 0 {
            return Err(refused(format!(
                "the folder `{part}` on the way to {path} can be changed by others than root"
            )));
        }
    }
    match statat(&folder, *name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) if matches!(FileType::from_raw_mode(stat.st_mode), FileType::Symlink | FileType::RegularFile) => {
            Ok(())
        }
        Ok(_) => Err(refused(format!("{path} is neither a file nor a link"))),
        Err(rustix::io::Errno::NOENT) => Ok(()),
        Err(error) => Err(faulty(error)),
    }
}

/// The names of an absolute path without `.` and `..`.
fn parts(path: &Utf8Path) -> Option<Vec<&str>> {
    let mut components = path.components();
    if components.next() != Some(Utf8Component::RootDir) || path.as_str().chars().any(char::is_control) {
        return None;
    }
    let name = |part| if let Utf8Component::Normal(name) = part { Some(name) } else { None };
    components.map(name).collect()
}

/// Whether a folder is, or could only be made by, this user: the first folder on the way up that is there belongs to
/// them.
pub(super) fn is_users(folder: &Utf8Path, uid: u32) -> bool {
    let is_plain = parts(folder).is_some_and(|parts| !parts.is_empty());
    let owner = folder.ancestors().find_map(|folder| folder.metadata().ok()).map(|meta| meta.uid());
    is_plain && owner == Some(uid)
}

/// Whether a file is there that the server can read as one, and this user's: no link, device or pipe.
pub(super) fn is_users_file(file: &Utf8Path, uid: u32) -> bool {
    file.symlink_metadata().is_ok_and(|meta| meta.is_file() && meta.uid() == uid)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_way_that_others_can_change_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = Utf8Path::from_path(folder.path()).unwrap().join("hosts");
        // The system's folder for temporary files is everybody's.
        assert!(matches!(check_way(&path), Err(HelperAnswer::Refused { .. })), "{path}");
        assert_eq!(check_way(Utf8Path::new("/etc/hosts")), Ok(()));
        for path in ["etc/hosts", "/etc/../etc/hosts", "/etc/h\nosts", "/", ""] {
            assert!(check_way(Utf8Path::new(path)).is_err(), "{path}");
        }
        let own = os::this_user();
        assert!(is_users(&path, own) && !is_users(&path, own + 1) && !is_users(Utf8Path::new("/tmp/../x"), own));
    }
}
