//! Access rights of a server's user: modes, groups and access control lists.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Barrier, Rights, RightsChange};

use crate::files::FileError;
pub use crate::os::User;
use crate::os::{self, UserId};

/// The name of the user with this number, or the number itself.
pub(crate) fn user_name(uid: UserId) -> String {
    os::account(uid).map_or_else(|| uid.to_string(), |user| user.name)
}

/// The user who owns a folder, if it isn't root or a service account. If the folder can't be
/// read, the owner of the nearest parent that can.
pub fn person_of(folder: &Utf8Path) -> Option<String> {
    let owner = folder.ancestors().find_map(|path| os::owner(path).ok())?;
    os::is_person(owner).then(|| user_name(owner))
}

/// The first folder on the way to `root` that the user may not enter, or `root` itself if it may
/// not be read; `None` if nothing stops them. What isn't there yet stops nobody.
pub fn first_barrier(root: &Utf8Path, user: &User) -> Option<Barrier> {
    let (path, needs) = barriers(root, user).into_iter().next()?;
    barrier(&path, user, needs)
}

/// The smallest changes that let the user reach and read `root`: for each folder that they can't pass
/// an entry only for them in its access control list, or, if the file system has none, the
/// right for everybody.
///
/// # Errors
/// When a folder can't be looked at.
pub fn cures(root: &Utf8Path, user: &User) -> Result<Vec<RightsChange>, FileError> {
    let cure = |(path, needs): (Utf8PathBuf, u32)| {
        let before = rights_of(&path)?;
        let after = os::rights_with(&path, user, needs).map_err(FileError::at(&path))?;
        let who = format!("{}:{}", user.name, word(needs));
        Ok(RightsChange { path, before, after, who })
    };
    barriers(root, user).into_iter().map(cure).collect()
}

/// The first of these files that the user may not read; `None` if they may read them all.
pub fn first_unread(files: &[Utf8PathBuf], user: &User) -> Option<Barrier> {
    let is_unread = |file: &&Utf8PathBuf| os::rights(file, user).is_some_and(|has| has & READ == 0);
    barrier(files.iter().find(is_unread)?, user, READ)
}

/// Whether the user may reach and write a file; one that can't be looked at stops nobody.
pub(crate) fn may_write(path: &Utf8Path, user: &User) -> bool {
    let way = path.parent().map(|folder| barriers(folder, user)).unwrap_or_default();
    let is_stopped = way.iter().any(|(_, needs)| needs & ENTER != 0);
    !is_stopped && os::rights(path, user).is_none_or(|has| has & WRITE != 0)
}

/// Whether this process's user may write a file, or the folder that is to hold it.
pub(crate) fn may_be_written(path: &Utf8Path) -> bool {
    let there = path.ancestors().find(|path| path.exists()).unwrap_or(path);
    os::may_write(there).is_ok()
}

const READ: u32 = 4;
const WRITE: u32 = 2;
const ENTER: u32 = 1;

/// Folders on the path that the user can't pass, with the missing rights.
fn barriers(root: &Utf8Path, user: &User) -> Vec<(Utf8PathBuf, u32)> {
    let there = root.ancestors().find(|path| path.exists()).unwrap_or(root);
    let Ok(real) = os::real_path(there) else { return Vec::new() };
    let mut way: Vec<(&Utf8Path, u32)> = real.ancestors().map(|path| (path, ENTER)).collect();
    if there == root
        && let Some((_, needs)) = way.first_mut()
    {
        *needs = READ | ENTER;
    }
    way.reverse();
    let is_stopped = |(path, needs): &(&Utf8Path, u32)| os::rights(path, user).is_some_and(|has| has & needs != *needs);
    way.into_iter().filter(is_stopped).map(|(path, needs)| (path.to_owned(), needs)).collect()
}

fn word(needs: u32) -> &'static str {
    match needs {
        ENTER => "x",
        READ => "r",
        _ => "rx",
    }
}

fn barrier(path: &Utf8Path, user: &User, needs: u32) -> Option<Barrier> {
    let mode = os::mode(path).ok()?;
    let fix = os::granting(path, user, word(needs));
    Some(Barrier { folder: Utf8PathBuf::from(path), user: user.name.clone(), mode, fix })
}

/// Mode and access control list of a file or folder.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn rights_of(path: &Utf8Path) -> Result<Rights, FileError> {
    os::rights_of(path).map_err(FileError::at(path))
}

/// Gives a file or folder this mode and access control list.
///
/// # Errors
/// When it is not ours to change.
pub(crate) fn set_rights(path: &Utf8Path, rights: &Rights) -> Result<(), FileError> {
    os::set_rights(path, rights).map_err(FileError::at(path))
}
