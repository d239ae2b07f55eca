//! Access rights of other users: modes, groups and access control lists.

use std::collections::BTreeSet;
use std::ffi::CString;
use std::fs::{self, Permissions};
use std::io;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};

use camino::Utf8Path;
use rustix::fs::{XattrFlags, getxattr, removexattr, setxattr};
use rustix::io::Errno;
use yandro_core::{Rights, shell_word};

use super::{Account, UserId, account, account_named, groups_of, this_user};

/// A user with all their groups.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// The login name.
    pub name: String,
    uid: UserId,
    groups: BTreeSet<u32>,
}

impl User {
    /// The user of this number.
    pub(crate) fn of_number(uid: UserId) -> Option<Self> {
        account(uid).map(Self::with_groups)
    }

    /// The user of this name, wherever the system has its users from (getpwnam(3)).
    pub fn of_name(name: &str) -> Option<Self> {
        account_named(name).map(Self::with_groups)
    }

    fn with_groups(user: Account) -> Self {
        let name = CString::new(user.name.as_str()).ok();
        let gid = user.group;
        let groups = name.map(|name| groups_of(&name, gid)).unwrap_or_default();
        let groups = groups.into_iter().chain([gid]).collect();
        Self { name: user.name, uid: user.number, groups }
    }
}

/// The smallest number of a person's account (login.defs(5)), and that of `nobody`.
const PEOPLE: core::ops::Range<u32> = 1000..65534;

/// Whether a user is a person: neither root nor a service's account.
pub(crate) fn is_person(user: UserId) -> bool {
    PEOPLE.contains(&user)
}

/// The permission bits of a file or folder.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn mode(path: &Utf8Path) -> io::Result<u32> {
    Ok(fs::metadata(path)?.permissions().mode() & 0o7777)
}

/// The command by which a user gets rights on a file or folder. Only its owner and root may change its rights.
pub(crate) fn granting(path: &Utf8Path, user: &User, rights: &str) -> String {
    let this = this_user();
    let is_own = this == 0 || path.metadata().is_ok_and(|meta| meta.uid() == this);
    let (sudo, quoted) = (if is_own { "" } else { "sudo " }, shell_word(path.as_str()));
    if Utf8Path::new("/usr/bin/setfacl").exists() {
        format!("{sudo}setfacl --modify user:{}:{rights} {quoted}", user.name)
    } else {
        format!("{sudo}chmod o+{rights} {quoted}")
    }
}

/// Rights on a file or folder by which a user also has these ones (bits as in a mode): by an entry only for them in its
/// access control list, or, if the file system has none, for everybody.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn rights_with(path: &Utf8Path, user: &User, needs: u32) -> io::Result<Rights> {
    let before = rights_of(path)?;
    Ok(if fs::metadata(path)?.uid() == user.uid {
        Rights { mode: before.mode | needs << 6, list: before.list }
    } else if has_lists(path) {
        let (list, mode) = with_user(before.list.as_deref(), before.mode, user.uid, needs);
        Rights { mode, list: Some(list) }
    } else {
        Rights { mode: before.mode | needs, list: None }
    })
}

/// The attribute that Linux keeps an access control list in (acl(5)).
const LIST: &str = "system.posix_acl_access";

/// Mode and access control list of a file or folder.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn rights_of(path: &Utf8Path) -> io::Result<Rights> {
    let mode = mode(path)?;
    let mut list = vec![0; 4096];
    let length = getxattr(path.as_std_path(), LIST, &mut list);
    let list = length.ok().and_then(|length| list.get(..length)).map(<[u8]>::to_vec);
    Ok(Rights { mode, list })
}

/// Gives a file or folder this mode and access control list.
///
/// # Errors
/// When it is not ours to change.
pub(crate) fn set_rights(path: &Utf8Path, rights: &Rights) -> io::Result<()> {
    let now = rights_of(path)?;
    match &rights.list {
        Some(list) => setxattr(path.as_std_path(), LIST, list, XattrFlags::empty())?,
        None if now.list.is_some() => removexattr(path.as_std_path(), LIST)?,
        None => {}
    }
    fs::set_permissions(path, Permissions::from_mode(rights.mode))
}

/// Whether the file system keeps access control lists.
fn has_lists(path: &Utf8Path) -> bool {
    !matches!(getxattr(path.as_std_path(), LIST, &mut [0_u8; 0]), Err(Errno::OPNOTSUPP))
}

/// An access control list in which a user has further rights, and the mode that goes with it.
fn with_user(list: Option<&[u8]>, mode: u32, uid: UserId, needs: u32) -> (Vec<u8>, u32) {
    let mut entries = list.map_or_else(
        || vec![(OWNER, mode >> 6 & 7, NOBODY), (GROUP, mode >> 3 & 7, NOBODY), (OTHERS, mode & 7, NOBODY)],
        |list| entries(list.get(4..).unwrap_or_default()),
    );
    let of = |entries: &[(u32, u32, u32)], tag: u32| entries.iter().find(|(own, ..)| *own == tag).map(|entry| entry.1);
    // Rights that the mask removes from others stay removed.
    let mask = of(&entries, MASK).or_else(|| of(&entries, GROUP)).unwrap_or(0);
    match entries.iter_mut().find(|(tag, _, id)| *tag == USER && *id == uid) {
        Some((_, rights, _)) => *rights |= needs,
        None => entries.push((USER, needs, uid)),
    }
    entries.retain(|(tag, ..)| *tag != MASK);
    entries.push((MASK, mask | needs, NOBODY));
    entries.sort_unstable_by_key(|(tag, _, id)| (*tag, *id));
    let mut out = 2_u32.to_le_bytes().to_vec();
    for (tag, rights, id) in entries {
        let short = |value: u32| u16::try_from(value).unwrap_or_default().to_le_bytes();
        out.extend(short(tag).into_iter().chain(short(rights)).chain(id.to_le_bytes()));
    }
    (out, (mode & !0o070) | (mask | needs) << 3)
}

/// The tags of entries (acl(5)).
const OWNER: u32 = 0x01;
const USER: u32 = 0x02;
const GROUP: u32 = 0x04;
const NAMED_GROUP: u32 = 0x08;
const MASK: u32 = 0x10;
const OTHERS: u32 = 0x20;
/// The number of entries that are nobody's in particular.
const NOBODY: u32 = u32::MAX;

/// Tag, rights and number of each entry.
fn entries(bytes: &[u8]) -> Vec<(u32, u32, u32)> {
    bytes.chunks_exact(8).map(entry_of).collect()
}

fn entry_of(entry: &[u8]) -> (u32, u32, u32) {
    let short = |at: usize| u32::from(u16::from_le_bytes([entry[at], entry[at + 1]]));
    (short(0), short(2), u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]))
}

/// The user's rights on a file: bits as in a mode, for reading, writing and entering.
pub(crate) fn rights(path: &Utf8Path, user: &User) -> Option<u32> {
    let meta = fs::metadata(path).ok()?;
    let mode = meta.permissions().mode();
    if user.uid == 0 {
        return Some(7);
    }
    if meta.uid() == user.uid {
        return Some(mode >> 6 & 7);
    }
    // Linux's access control list of version 2: a header of four bytes, then entries of eight.
    if let Some(list) = rights_of(path).ok()?.list
        && let Some(entries) = list.get(4..)
    {
        return Some(rights_by_list(entries, meta.gid(), user));
    }
    Some(if user.groups.contains(&meta.gid()) { mode >> 3 & 7 } else { mode & 7 })
}

/// acl(5), "access check algorithm".
fn rights_by_list(list: &[u8], owning_group: u32, user: &User) -> u32 {
    let entries = entries(list);
    let mask = entries.iter().find(|(tag, ..)| *tag == MASK).map_or(7, |(_, rights, _)| *rights);
    if let Some((_, rights, _)) = entries.iter().find(|(tag, _, id)| *tag == USER && *id == user.uid) {
        return rights & mask;
    }
    let groups = entries.iter().filter(|(tag, _, id)| match *tag {
        GROUP => user.groups.contains(&owning_group),
        NAMED_GROUP => user.groups.contains(id),
        _ => false,
    });
    let granted: Vec<u32> = groups.map(|(_, rights, _)| rights & mask).collect();
    match granted.iter().copied().reduce(|a, b| a | b) {
        Some(rights) => rights,
        None => entries.iter().find(|(tag, ..)| *tag == OTHERS).map_or(0, |(_, rights, _)| *rights),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::permissions::{cures, first_barrier, rights_of, set_rights};

    #[test]
    fn the_first_folder_that_stops_a_user_is_named() {
        let Some(user) = User::of_name("nobody") else { return };
        let folder = tempfile::tempdir().unwrap();
        let root = Utf8Path::from_path(folder.path()).unwrap();
        let inner = root.join("crew/public");
        fs::create_dir_all(&inner).unwrap();
        let set = |path: &Utf8Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        set(root, 0o755);
        set(&root.join("crew"), 0o711);
        set(&inner, 0o755);
        assert_eq!(first_barrier(&inner, &user), None);
        set(&inner, 0o711);
        assert_eq!(first_barrier(&inner, &user).unwrap().folder, inner);
        set(&root.join("crew"), 0o750);
        let barrier = first_barrier(&inner, &user).unwrap();
        assert_eq!((barrier.folder, barrier.mode), (root.join("crew"), 0o750));
        // Two are in the way; the cure lets this user through, and no other.
        set(&inner, 0o700);
        let cures = cures(&inner, &user).unwrap();
        assert_eq!(cures.len(), 2);
        for cure in &cures {
            set_rights(&cure.path, &cure.after).unwrap();
            assert_eq!(rights_of(&cure.path).unwrap(), cure.after);
        }
        assert_eq!(first_barrier(&inner, &user), None);
        let other = User { name: "other".into(), uid: user.uid - 1, groups: BTreeSet::new() };
        assert!(first_barrier(&inner, &other).is_some());
        // A project that is yet to be made is stopped by what is above it.
        assert_eq!(first_barrier(&inner.join("new/public"), &user), None);
        assert!(first_barrier(&inner.join("new/public"), &other).is_some());
        for cure in cures {
            set_rights(&cure.path, &cure.before).unwrap();
            assert_eq!(rights_of(&cure.path).unwrap(), cure.before);
        }
        assert!(first_barrier(&inner, &user).is_some());
    }
    #[test]
    fn a_list_grants_what_the_mode_does_not() {
        let user = User { name: "www-data".into(), uid: 33, groups: [33, 50].into() };
        let entry = |tag: u16, rights: u16, id: u32| {
            [&tag.to_le_bytes()[..], &rights.to_le_bytes(), &id.to_le_bytes()].concat()
        };
        let list = |own: Vec<u8>, mask| {
            [entry(1, 7, u32::MAX), own, entry(4, 0, u32::MAX), entry(0x10, mask, u32::MAX), entry(0x20, 0, u32::MAX)]
                .concat()
        };
        assert_eq!(rights_by_list(&list(entry(2, 1, 33), 7), 0, &user), 1);
        assert_eq!(rights_by_list(&list(entry(2, 1, 33), 4), 0, &user), 0, "the mask takes it away");
        assert_eq!(rights_by_list(&list(entry(8, 5, 50), 7), 0, &user), 5);
        assert_eq!(rights_by_list(&list(entry(2, 7, 34), 7), 0, &user), 0);
    }
}
