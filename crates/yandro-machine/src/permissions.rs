//! What a server's user may enter and read: modes, groups and access control lists.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::check::Barrier;

/// A user with all their groups.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// The name.
    pub name: String,
    uid: u32,
    groups: BTreeSet<u32>,
}

impl User {
    /// The user of this name, from `/etc/passwd` and `/etc/group`.
    pub fn of_name(name: &str) -> Option<Self> {
        let passwd = fs::read_to_string("/etc/passwd").ok()?;
        let line = passwd.lines().map(|line| line.split(':').collect::<Vec<_>>()).find(|fields| fields[0] == name)?;
        let (uid, gid) = (line.get(2)?.parse().ok()?, line.get(3)?.parse().ok()?);
        let mut groups = BTreeSet::from([gid]);
        for line in fs::read_to_string("/etc/group").unwrap_or_default().lines() {
            let fields: Vec<&str> = line.split(':').collect();
            if let [_, _, id, members] = fields[..]
                && members.split(',').any(|member| member == name)
            {
                groups.extend(id.parse::<u32>());
            }
        }
        Some(Self { name: name.to_owned(), uid, groups })
    }
}

/// The name of the user with this number, or the number itself.
pub(crate) fn user_name(uid: u32) -> String {
    let passwd = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let mut lines = passwd.lines().map(|line| line.split(':').collect::<Vec<_>>());
    let line = lines.find(|fields| fields.get(2).is_some_and(|own| own.parse() == Ok(uid)));
    line.map_or_else(|| uid.to_string(), |fields| fields[0].to_owned())
}

/// The first folder on the way to `root` that the user may not enter, or `root` itself if it may
/// not be read; `None` if nothing stops them.
pub fn first_barrier(root: &Utf8Path, user: &User) -> Option<Barrier> {
    let real = root.canonicalize_utf8().ok()?;
    let mut way: Vec<&Utf8Path> = real.ancestors().collect();
    way.reverse();
    let (last, folders) = way.split_last()?;
    let stopped = |path: &Utf8Path, needs: u32| {
        (rights(path, user)? & needs != needs).then(|| barrier(path, user, needs)).flatten()
    };
    folders.iter().find_map(|folder| stopped(folder, ENTER)).or_else(|| stopped(last, READ | ENTER))
}

const READ: u32 = 4;
const ENTER: u32 = 1;

fn barrier(path: &Utf8Path, user: &User, needs: u32) -> Option<Barrier> {
    let meta = fs::metadata(path).ok()?;
    let word = if needs == ENTER { "x" } else { "rx" };
    let mend = if Utf8Path::new("/usr/bin/setfacl").exists() {
        format!("setfacl --modify user:{}:{word} {path}", user.name)
    } else {
        format!("chmod o+{word} {path}")
    };
    let mode = meta.permissions().mode() & 0o7777;
    Some(Barrier { folder: Utf8PathBuf::from(path), user: user.name.clone(), mode, mend })
}

/// What the user may do with a file: bits as in a mode, for reading, writing and entering.
fn rights(path: &Utf8Path, user: &User) -> Option<u32> {
    let meta = fs::metadata(path).ok()?;
    let mode = meta.permissions().mode();
    if user.uid == 0 {
        return Some(7);
    }
    if meta.uid() == user.uid {
        return Some(mode >> 6 & 7);
    }
    let mut list = vec![0; 4096];
    // What Linux calls a list of version 2: a header of four bytes, then entries of eight.
    if let Ok(length) = rustix::fs::getxattr(path.as_std_path(), "system.posix_acl_access", &mut list)
        && let Some(entries) = list.get(4..length)
    {
        return Some(rights_by_list(entries, meta.gid(), user));
    }
    Some(if user.groups.contains(&meta.gid()) { mode >> 3 & 7 } else { mode & 7 })
}

/// acl(5), "access check algorithm".
fn rights_by_list(entries: &[u8], owning_group: u32, user: &User) -> u32 {
    let of = |entry: &[u8]| {
        let short = |at: usize| u32::from(u16::from_le_bytes([entry[at], entry[at + 1]]));
        (short(0), short(2), u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]))
    };
    let entries: Vec<(u32, u32, u32)> = entries.chunks_exact(8).map(of).collect();
    let mask = entries.iter().find(|(tag, ..)| *tag == 0x10).map_or(7, |(_, rights, _)| *rights);
    if let Some((_, rights, _)) = entries.iter().find(|(tag, _, id)| *tag == 0x02 && *id == user.uid) {
        return rights & mask;
    }
    let groups = entries.iter().filter(|(tag, _, id)| match tag {
        0x04 => user.groups.contains(&owning_group),
        0x08 => user.groups.contains(id),
        _ => false,
    });
    let granted: Vec<u32> = groups.map(|(_, rights, _)| rights & mask).collect();
    match granted.iter().copied().reduce(|a, b| a | b) {
        Some(rights) => rights,
        None => entries.iter().find(|(tag, ..)| *tag == 0x20).map_or(0, |(_, rights, _)| *rights),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
