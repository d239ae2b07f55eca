//! Files, folders and links: how they are opened, made and told apart.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::windows::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::sync::LazyLock;
use std::time::Duration;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::Access;
use yandro_sys::windows::descriptor::{Descriptor, READS};
use yandro_sys::windows::{Sid, files};

use super::replace::{in_use, is_in_use, point};
use super::{FileId, UserId, this_user};

/// `FILE_FLAG_BACKUP_SEMANTICS`, without which folders can't be opened.
pub(super) const ALSO_FOLDERS: u32 = 0x0200_0000;
/// `FILE_FLAG_OPEN_REPARSE_POINT`: a link itself.
const NO_LINKS: u32 = 0x0020_0000;

/// The root of the machine's file system: that of the drive that Windows is on.
pub(crate) fn root() -> &'static Utf8Path {
    static ROOT: LazyLock<Utf8PathBuf> = LazyLock::new(|| {
        // Not from the environment, which the helper gets from whoever has it started.
        let windows = yandro_sys::windows::users::windows_folder();
        let drive = windows.get(..2).filter(|drive| drive.ends_with(':')).unwrap_or("C:");
        Utf8PathBuf::from(format!("{drive}\\"))
    });
    &ROOT
}

/// The variables that name the home folder, and in it those of programs' settings and data. Keys stay on this machine:
/// their folder is not one that follows a user to others.
pub(crate) const HOME_VARIABLES: [&str; 3] = ["USERPROFILE", "APPDATA", "LOCALAPPDATA"];
/// Default folders of settings and data below the home folder.
pub(crate) const BELOW_HOME: [&str; 2] = ["AppData\\Roaming", "AppData\\Local"];

/// The real path of something that exists, through all links, in the form that programs take.
///
/// # Errors
/// When there is nothing, or its path is not UTF-8.
pub(crate) fn real_path(path: &Utf8Path) -> io::Result<Utf8PathBuf> {
    let real = dunce::canonicalize(path)?;
    Utf8PathBuf::from_path_buf(real).map_err(|_| io::ErrorKind::InvalidData.into())
}

/// Opens a file for reading. Others may write, rename and remove it meanwhile.
///
/// # Errors
/// As the system says.
pub(crate) fn open_reading(path: &Utf8Path) -> io::Result<File> {
    // Folders are opened, too: the caller says that it is one.
    OpenOptions::new().read(true).custom_flags(ALSO_FOLDERS).open(path)
}

/// Waits until a file that was opened so has something to say: reading does so by itself here.
///
/// # Errors
/// None.
#[expect(clippy::unnecessary_wraps, reason = "as on other systems")]
pub(crate) fn wait_for_input(_: &File, _: Duration) -> io::Result<()> {
    Ok(())
}

/// The rights of what is only a user's: the system and the administrators have theirs anyway.
pub(super) fn private(user: UserId) -> Descriptor {
    Descriptor::only(&[user.0, Sid::SYSTEM, Sid::ADMINISTRATORS])
}

/// Opens a new file that only this user may read.
///
/// # Errors
/// When there is something already, a link as well.
pub(crate) fn new_file(path: &Utf8Path) -> io::Result<File> {
    point();
    // The user's other programs have the same identifier, and must not hold a file that is on its way to where only
    // administrators may write.
    let is_guarded = super::is_root() && super::is_roots_alone(path);
    let rights = if is_guarded { Descriptor::of_administrators() } else { private(this_user()) };
    files::create(path.as_str(), &rights)
}

/// Opens a file that only this user may read, and empties it.
///
/// # Errors
/// As the system says.
pub(crate) fn emptied_file(path: &Utf8Path) -> io::Result<File> {
    match new_file(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            OpenOptions::new().write(true).truncate(true).open(path)
        }
        opened => opened,
    }
}

/// Opens a file of the administrators' that everybody may read, for lines at its end.
///
/// # Errors
/// As the system says.
pub(crate) fn journal_file(path: &Utf8Path) -> io::Result<File> {
    OpenOptions::new().append(true).create(true).open(path)
}

/// Opens a file that is there to write into it.
///
/// # Errors
/// As the system says; where another program keeps it to itself, with that program's name if the system tells.
pub(crate) fn open_in_place(path: &Utf8Path) -> io::Result<File> {
    let opened = OpenOptions::new().write(true).open(path);
    opened.map_err(|error| if is_in_use(&error) { in_use(path) } else { error })
}

/// Opens a file to lock it, and makes it if it isn't there: for its user, or for all of the machine's. A link is not
/// followed.
///
/// # Errors
/// As the system says.
pub(crate) fn lock_file(path: &Utf8Path, access: Access) -> io::Result<File> {
    let open = || {
        let file = OpenOptions::new().read(true).custom_flags(NO_LINKS).open(path)?;
        let is_plain = file.metadata()?.is_file();
        if is_plain { Ok(file) } else { Err(io::Error::other("it is not a regular file")) }
    };
    let rights = match access {
        Access::Private | Access::Secret => private(this_user()),
        Access::Public | Access::Project => Descriptor::readable(&[this_user().0, Sid::SYSTEM, Sid::ADMINISTRATORS]),
    };
    match open() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => match files::create(path.as_str(), &rights) {
            // Another command may have made it in between.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => open(),
            made => made.and_then(|_| open()),
        },
        opened => opened,
    }
}

/// Path of the lock that all users share, in a folder in which every user may create files.
pub(crate) fn machine_lock() -> Utf8PathBuf {
    root().join(r"ProgramData\yandro.lock")
}

/// Makes a folder.
///
/// # Errors
/// When there is something already, or the folder above may not be written.
pub(crate) fn make_folder(path: &Utf8Path, access: Access) -> io::Result<()> {
    point();
    match access {
        Access::Private | Access::Secret => files::create_folder(path.as_str(), &private(this_user())),
        Access::Public | Access::Project => fs::create_dir(path),
    }
}

/// Makes a folder, and missing ones above it.
///
/// # Errors
/// As [`make_folder`].
pub(crate) fn make_folders(path: &Utf8Path, access: Access) -> io::Result<()> {
    let missing: Vec<&Utf8Path> = path.ancestors().take_while(|folder| !folder.exists()).collect();
    missing.into_iter().rev().try_for_each(|folder| make_folder(folder, access))
}

/// Lets those read a file for whom it is meant: what is for others, too, has the rights of its folder.
///
/// # Errors
/// As the system says.
pub(crate) fn give_access(file: &File, access: Access) -> io::Result<()> {
    match access {
        Access::Private | Access::Secret => files::set_rights(file, &private(this_user())),
        Access::Public | Access::Project => {
            files::set_rights(file, &Descriptor::readable(&[this_user().0, Sid::SYSTEM, Sid::ADMINISTRATORS]))
        }
    }
}

/// Lets everybody read a file or enter a folder: it has the rights that its folder hands down.
///
/// # Errors
/// None.
#[expect(clippy::unnecessary_wraps, reason = "as on other systems")]
pub(crate) fn open_to_all(_: &Utf8Path) -> io::Result<()> {
    Ok(())
}

/// Has temporary files be readable for everybody, as they are to stay: they have the rights of their folder.
pub(crate) fn readable_by_all<'b, 'p>(builder: &'b mut tempfile::Builder<'p, 'p>) -> &'b mut tempfile::Builder<'p, 'p> {
    builder
}

/// Whether every user may read a file.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn is_readable_by_all(path: &Utf8Path) -> io::Result<bool> {
    let allowed = files::descriptor(path.as_str())?.allowed();
    // Users of the machine are in this group (`BUILTIN\Users`), and those of applications in another.
    let all =
        |sid: &Sid| *sid == Sid::EVERYONE || sid.to_string().starts_with("S-1-5-32-545") || *sid == Sid::SIGNED_IN;
    Ok(allowed.is_none_or(|all_of| all_of.iter().any(|own| own.rights & READS != 0 && all(&own.sid))))
}

/// Gives a copy the rights of others to the file that it is of: those that its folder hands down.
///
/// # Errors
/// As the system says.
pub(crate) fn share_as(copy: &File, original: &Utf8Path) -> io::Result<()> {
    files::set_rights(copy, &files::descriptor(original.as_str())?)
}

/// The rights on a folder, in the form in which they are recorded: nothing.
pub(crate) fn folder_rights(path: &Utf8Path) -> Option<u32> {
    path.is_dir().then_some(0)
}

/// Makes a folder with the rights that its own folder hands down.
///
/// # Errors
/// As the system says.
pub(crate) fn make_folder_with(path: &Utf8Path, _: u32) -> io::Result<()> {
    fs::create_dir(path)
}

/// Makes a link.
///
/// # Errors
/// When this user may not make links.
pub(crate) fn link(target: &Utf8Path, at: &Utf8Path) -> io::Result<()> {
    point();
    std::os::windows::fs::symlink_file(target, at)
}

/// Makes sure that what was made, renamed or removed in a folder is on the disk: the file system keeps a journal of it,
/// and folders can't be flushed.
///
/// # Errors
/// None.
#[expect(clippy::unnecessary_wraps, reason = "as on other systems")]
pub(crate) fn sync_folder(_: &Utf8Path) -> io::Result<()> {
    Ok(())
}

/// Opens a folder, to lock it: a file in it is locked instead, as folders can't be.
///
/// # Errors
/// As the system says.
pub(crate) fn open_folder(folder: &Utf8Path) -> io::Result<File> {
    lock_file(&folder.join("lock"), Access::Private)
}

/// Identifies a file or folder, also after a move within its file system.
pub(crate) fn file_id(path: &Utf8Path) -> Option<FileId> {
    let file = OpenOptions::new().access_mode(0).custom_flags(ALSO_FOLDERS).open(path).ok()?;
    let (device, number) = files::id(&file).ok()?;
    Some(FileId { device, number })
}

/// A value that changes whenever a file is written or replaced: its number and the time of its last change.
pub(crate) fn stamp(path: &Utf8Path) -> Option<(u64, i64, i64)> {
    let written = path.metadata().ok()?.last_write_time();
    Some((file_id(path)?.number, written.cast_signed(), 0))
}

/// The owner of what a path leads to.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn owner(path: &Utf8Path) -> io::Result<UserId> {
    let owner = files::descriptor(path.as_str())?.owner();
    owner.map(UserId).ok_or_else(|| io::ErrorKind::InvalidData.into())
}

/// Whether something is a file, no link, and belongs to a user.
pub(crate) fn is_own_file(path: &Utf8Path, user: UserId) -> bool {
    path.symlink_metadata().is_ok_and(|meta| meta.is_file()) && owner(path).is_ok_and(|owner| owner == user)
}

/// Whether others than its owner can read a key or enter a folder of keys. Windows has no modes: both are 0.
/// Links are not followed.
pub(crate) fn rights_of_others(path: &Utf8Path) -> Option<(u32, u32)> {
    path.symlink_metadata().ok().filter(|meta| !meta.is_symlink())?;
    let descriptor = files::descriptor(path.as_str()).ok()?;
    let known: Vec<Sid> = descriptor.owner().into_iter().chain([this_user().0]).collect();
    descriptor.lets_others(&known, READS).then_some((0, 0))
}

/// A key, or a folder of keys, that is looked at and closed to others.
#[derive(Debug)]
pub(crate) struct HeldKey(Utf8PathBuf);

impl HeldKey {
    /// Opens it.
    ///
    /// # Errors
    /// When it is a link.
    pub(crate) fn open(path: &Utf8Path) -> io::Result<Self> {
        if path.symlink_metadata()?.is_symlink() {
            return Err(circle());
        }
        Ok(Self(path.to_owned()))
    }

    /// Its owner: this user, too, for what belongs to the administrators and was made by one of them.
    ///
    /// # Errors
    /// When it can't be looked at.
    pub(crate) fn owner(&self) -> io::Result<UserId> {
        let owner = owner(&self.0)?;
        Ok(if super::is_root() && owner.0.is_of_system() { this_user() } else { owner })
    }

    /// Takes the rights of others away.
    ///
    /// # Errors
    /// When only another user may.
    pub(crate) fn close(&self, _: u32) -> io::Result<()> {
        files::set_rights_at(self.0.as_str(), &private(this_user()))
    }
}

fn circle() -> io::Error {
    super::circle_of_links()
}
