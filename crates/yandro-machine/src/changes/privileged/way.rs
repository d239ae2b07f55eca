//! Ownership of the folders on the path to a file.

use camino::Utf8Path;

use super::{HelperAnswer, failed, refused};
use crate::os::{self, UserId, WayFault};

/// Checks that every folder on the path belongs to root, is not a link, and can't be written by others. At its end may
/// be a regular file, a link or nothing.
pub(super) fn check_way(path: &Utf8Path) -> Result<(), HelperAnswer> {
    os::check_way(path).map_err(|fault| match fault {
        WayFault::System(error) => failed(&error),
        WayFault::NotPlain => refused(format!("{path} is not a plain absolute path")),
        WayFault::Changeable(part) => {
            refused(format!("the folder `{part}` on the way to {path} can be changed by others than root"))
        }
        WayFault::NoFile => refused(format!("{path} is neither a file nor a link")),
    })
}

/// Whether a folder is, or could only be made by, this user: the first folder on the way up that is there belongs to
/// them.
pub(super) fn is_users(folder: &Utf8Path, user: UserId) -> bool {
    let is_plain = os::path_parts(folder).is_some_and(|parts| !parts.is_empty());
    is_plain && folder.ancestors().find_map(|folder| os::owner(folder).ok()) == Some(user)
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
