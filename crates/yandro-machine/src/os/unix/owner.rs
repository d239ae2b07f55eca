//! Giving files and folders to a user.

use std::fs::{self, Permissions};
use std::io;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, lchown};

use camino::Utf8Path;
use yandro_core::Access;

use super::{Account, Attributes, UserId, this_group, this_user};

/// A user who is to own files, with the group that these get.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Owner {
    /// The user.
    pub(crate) user: UserId,
    /// The number of the group.
    pub(crate) group: u32,
}

impl From<&Account> for Owner {
    fn from(account: &Account) -> Self {
        Self { user: account.number, group: account.group }
    }
}

impl Owner {
    /// Gives a file, folder or link to this user.
    ///
    /// # Errors
    /// As lchown(2).
    pub(crate) fn give(self, path: &Utf8Path) -> io::Result<()> {
        lchown(path, Some(self.user), Some(self.group))
    }
}

impl Attributes {
    /// Attributes of a new file of `owner`'s, or of this process's user. `is_shared` tells whether the group of its folder
    /// may do with it what it may do with the folder, if that hands its group down.
    pub(crate) fn of_new(path: &Utf8Path, access: Access, owner: Option<Owner>, is_shared: bool) -> Self {
        let Owner { user, group } = owner.unwrap_or_else(|| Owner { user: this_user(), group: this_group() });
        let shared = if is_shared { shared_group(path) } else { None };
        let (gid, bits) = shared.map_or((group, 0), |(group, mode)| (group, mode & 0o060));
        Self { mode: access.file_mode() | bits, uid: user, gid, extended: Vec::new() }
    }
}

/// Group and mode of the folder that something is in, if what is made there is that group's.
fn shared_group(path: &Utf8Path) -> Option<(u32, u32)> {
    let meta = path.parent()?.metadata().ok()?;
    (meta.mode() & 0o2000 != 0).then(|| (meta.gid(), meta.mode()))
}

/// Gives a new folder of a project to a user, and what its own folder hands down.
///
/// # Errors
/// As lchown(2) and chmod(2).
pub(crate) fn give_project(path: &Utf8Path, owner: Option<Owner>) -> io::Result<()> {
    let shared = shared_group(path);
    if let Some(Owner { user, group }) = owner {
        Owner { user, group: shared.map_or(group, |(group, _)| group) }.give(path)?;
    }
    if let Some((_, mode)) = shared {
        let own = path.metadata()?.permissions().mode();
        fs::set_permissions(path, Permissions::from_mode((own & 0o7777) | (mode & 0o2070)))?;
    }
    Ok(())
}
