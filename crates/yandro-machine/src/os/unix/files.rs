//! Files, folders and links: how they are opened, made and told apart.

use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::time::Duration;

use camino::{Utf8Path, Utf8PathBuf};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags};
use yandro_core::Access;

use super::{FileId, UserId};

/// The root of the machine's file system.
pub(crate) fn root() -> &'static Utf8Path {
    Utf8Path::new("/")
}

/// The variables that name the home folder, and in it those of programs' settings and data (XDG Base Directory).
pub(crate) const HOME_VARIABLES: [&str; 3] = ["HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"];
/// Default folders of settings and data below the home folder.
pub(crate) const BELOW_HOME: [&str; 2] = [".config", ".local/share"];

/// The real path of something that exists, through all links.
///
/// # Errors
/// When there is nothing, or its path is not UTF-8.
pub(crate) fn real_path(path: &Utf8Path) -> io::Result<Utf8PathBuf> {
    path.canonicalize_utf8()
}

/// Opens a file for reading. A FIFO or a device doesn't block.
///
/// # Errors
/// As open(2).
pub(crate) fn open_reading(path: &Utf8Path) -> io::Result<File> {
    let flags = (OFlags::NONBLOCK | OFlags::CLOEXEC).bits().cast_signed();
    OpenOptions::new().read(true).custom_flags(flags).open(path)
}

/// Waits until a file that was opened so has something to say, or the time is over.
///
/// # Errors
/// As poll(2).
pub(crate) fn wait_for_input(file: &File, time: Duration) -> io::Result<()> {
    let time = Timespec { tv_sec: time.as_secs().try_into().unwrap_or(1), tv_nsec: time.subsec_nanos().into() };
    poll(&mut [PollFd::new(file, PollFlags::IN)], Some(&time))?;
    Ok(())
}

/// Opens a new file that only this user may read.
///
/// # Errors
/// When there is something already, a link as well.
pub(crate) fn new_file(path: &Utf8Path) -> io::Result<File> {
    OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)
}

/// Opens a file that only this user may read, and empties it.
///
/// # Errors
/// As open(2).
pub(crate) fn emptied_file(path: &Utf8Path) -> io::Result<File> {
    OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)
}

/// Opens a file that everybody may read, for lines at its end.
///
/// # Errors
/// As open(2).
pub(crate) fn journal_file(path: &Utf8Path) -> io::Result<File> {
    OpenOptions::new().append(true).create(true).mode(0o644).open(path)
}

/// Opens a file that is there to write into it.
///
/// # Errors
/// As open(2).
pub(crate) fn open_in_place(path: &Utf8Path) -> io::Result<File> {
    OpenOptions::new().write(true).open(path)
}

/// Opens a file to lock it, and makes it if it isn't there: for its user, or for all of the machine's. Other users may
/// write in its folder: their links are not followed, and their FIFOs don't block.
///
/// # Errors
/// As open(2).
pub(crate) fn lock_file(path: &Utf8Path, access: Access) -> io::Result<File> {
    let careful = || {
        let mut options = OpenOptions::new();
        options.read(true).custom_flags((OFlags::NOFOLLOW | OFlags::NONBLOCK).bits().cast_signed());
        options
    };
    if access == Access::Private {
        return careful().write(true).create(true).truncate(false).mode(access.file_mode()).open(path).and_then(plain);
    }
    // Opened only for reading, which is enough to lock it, since it may belong to another user.
    let create = || careful().write(true).create_new(true).mode(0o644).open(path);
    let open = || careful().open(path);
    let file = open().or_else(|error| if error.kind() == io::ErrorKind::NotFound { create() } else { Err(error) });
    // Another command may have made it in between.
    let file = file.or_else(|error| if error.kind() == io::ErrorKind::AlreadyExists { open() } else { Err(error) });
    let file = file.and_then(plain)?;
    // Root makes it root's, so that nobody can replace it while others wait for it. If that fails, it still locks.
    if super::is_root() && file.metadata()?.uid() != 0 {
        _ = std::os::unix::fs::fchown(&file, Some(0), Some(0))
            .and_then(|()| file.set_permissions(Permissions::from_mode(0o644)));
    }
    Ok(file)
}

/// A regular file under one name: another's file, linked here, must not be made root's.
fn plain(file: File) -> io::Result<File> {
    let meta = file.metadata()?;
    if meta.is_file() && meta.nlink() == 1 {
        Ok(file)
    } else {
        Err(io::Error::other("it is not a regular file, or it has a second name"))
    }
}

/// Path of the lock that all users share.
pub(crate) fn machine_lock() -> Utf8PathBuf {
    "/run/lock/yandro".into()
}

/// Makes a folder.
///
/// # Errors
/// As mkdir(2).
pub(crate) fn make_folder(path: &Utf8Path, access: Access) -> io::Result<()> {
    DirBuilder::new().mode(access.folder_mode()).create(path)
}

/// Makes a folder, and missing ones above it.
///
/// # Errors
/// As mkdir(2).
pub(crate) fn make_folders(path: &Utf8Path, access: Access) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(access.folder_mode()).create(path)
}

/// Lets those read a file for whom it is meant.
///
/// # Errors
/// As fchmod(2).
pub(crate) fn give_access(file: &File, access: Access) -> io::Result<()> {
    file.set_permissions(Permissions::from_mode(access.file_mode()))
}

/// Lets everybody read a file or enter a folder; a program stays one.
///
/// # Errors
/// As chmod(2).
pub(crate) fn open_to_all(path: &Utf8Path) -> io::Result<()> {
    let meta = fs::metadata(path)?;
    let mode = if meta.is_dir() || meta.permissions().mode() & 0o111 != 0 { 0o755 } else { 0o644 };
    fs::set_permissions(path, Permissions::from_mode(mode))
}

/// Has temporary files be readable for everybody, as they are to stay.
pub(crate) fn readable_by_all<'b, 'p>(builder: &'b mut tempfile::Builder<'p, 'p>) -> &'b mut tempfile::Builder<'p, 'p> {
    builder.permissions(Permissions::from_mode(0o644))
}

/// Whether every user may read a file.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn is_readable_by_all(path: &Utf8Path) -> io::Result<bool> {
    Ok(path.metadata()?.permissions().mode() & 0o004 != 0)
}

/// Gives a copy the rights of others to the file that it is of: never more than to read.
///
/// # Errors
/// As chmod(2).
pub(crate) fn share_as(copy: &File, original: &Utf8Path) -> io::Result<()> {
    let mode = original.metadata()?.permissions().mode() & 0o644;
    copy.set_permissions(Permissions::from_mode(mode))
}

/// The rights on a folder, in the form in which they are recorded.
pub(crate) fn folder_rights(path: &Utf8Path) -> Option<u32> {
    path.metadata().ok().map(|meta| meta.permissions().mode() & 0o7777)
}

/// Makes a folder with such rights.
///
/// # Errors
/// As mkdir(2).
pub(crate) fn make_folder_with(path: &Utf8Path, rights: u32) -> io::Result<()> {
    DirBuilder::new().mode(rights).create(path)
}

/// Puts a file, link or folder in the place of another file or link, at no moment half.
///
/// # Errors
/// As rename(2).
pub(crate) fn rename(from: &Utf8Path, to: &Utf8Path) -> io::Result<()> {
    fs::rename(from, to)
}

/// Removes a file or a link.
///
/// # Errors
/// As unlink(2).
pub(crate) fn remove_file(path: impl AsRef<Utf8Path>) -> io::Result<()> {
    fs::remove_file(path.as_ref())
}

/// Removes a folder in which nothing is.
///
/// # Errors
/// As rmdir(2).
pub(crate) fn remove_folder(path: impl AsRef<Utf8Path>) -> io::Result<()> {
    fs::remove_dir(path.as_ref())
}

/// Gives a file a second name.
///
/// # Errors
/// As link(2).
pub(crate) fn hard_link(file: &Utf8Path, other: &Utf8Path) -> io::Result<()> {
    fs::hard_link(file, other)
}

/// Makes a link.
///
/// # Errors
/// As symlink(2).
pub(crate) fn link(target: &Utf8Path, at: &Utf8Path) -> io::Result<()> {
    std::os::unix::fs::symlink(target, at)
}

/// Makes sure that what was made, renamed or removed in a folder is on the disk.
///
/// # Errors
/// As fsync(2).
pub(crate) fn sync_folder(folder: &Utf8Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

/// Identifies a file or folder, also after a move within its file system.
pub(crate) fn file_id(path: &Utf8Path) -> Option<FileId> {
    let meta = path.metadata().ok()?;
    Some(FileId { device: meta.dev(), number: meta.ino() })
}

/// A value that changes whenever a file is written or replaced: its inode and the time of its last change.
pub(crate) fn stamp(path: &Utf8Path) -> Option<(u64, i64, i64)> {
    let meta = path.metadata().ok()?;
    Some((meta.ino(), meta.ctime(), meta.ctime_nsec()))
}

/// The owner of what a path leads to.
///
/// # Errors
/// When it can't be looked at.
pub(crate) fn owner(path: &Utf8Path) -> io::Result<UserId> {
    Ok(path.metadata()?.uid())
}

/// Whether a path is a regular file, not a link, and belongs to a user.
pub(crate) fn is_own_file(path: &Utf8Path, user: UserId) -> bool {
    path.symlink_metadata().is_ok_and(|meta| meta.is_file() && meta.uid() == user)
}

/// Whether others than its owner have rights on a key or a folder of keys: its mode, and what it ought to be. Links are
/// not followed.
pub(crate) fn rights_of_others(path: &Utf8Path) -> Option<(u32, u32)> {
    let meta = path.symlink_metadata().ok().filter(|meta| !meta.is_symlink())?;
    let wanted = if meta.is_dir() { 0o700 } else { 0o600 };
    let mode = meta.permissions().mode() & 0o7777;
    (mode & 0o077 != 0).then_some((mode, wanted))
}

/// A key, or a folder of keys, that was opened to look at its owner and to close it: no link can be put there in
/// between.
#[derive(Debug)]
pub(crate) struct HeldKey(File);

impl HeldKey {
    /// Opens it.
    ///
    /// # Errors
    /// As open(2).
    pub(crate) fn open(path: &Utf8Path) -> io::Result<Self> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(Self(rustix::fs::open(path.as_std_path(), flags, Mode::empty())?.into()))
    }

    /// Its owner.
    ///
    /// # Errors
    /// As fstat(2).
    pub(crate) fn owner(&self) -> io::Result<UserId> {
        Ok(self.0.metadata()?.uid())
    }

    /// Takes the rights of others away.
    ///
    /// # Errors
    /// As fchmod(2).
    pub(crate) fn close(&self, wanted: u32) -> io::Result<()> {
        self.0.set_permissions(Permissions::from_mode(wanted))
    }
}

/// Opens a folder, to lock it.
///
/// # Errors
/// As open(2).
pub(crate) fn open_folder(folder: &Utf8Path) -> io::Result<File> {
    File::open(folder)
}
