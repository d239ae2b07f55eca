//! Files that only root can change.

use std::fs::Metadata;
use std::io;
use std::os::unix::fs::MetadataExt as _;

use camino::{Utf8Component, Utf8Path};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, fstat, openat, statat};

use super::{SEARCH, WayFault};

/// Whether a file is root's, and nobody else can change it or what is on the way to it.
pub(crate) fn is_roots_file(path: &Utf8Path) -> bool {
    let is_roots = |meta: Metadata| meta.is_file() && meta.uid() == 0 && meta.mode() & 0o022 == 0;
    is_roots_alone(path) && path.symlink_metadata().is_ok_and(is_roots)
}

/// Whether nobody but root can change which file a path names: each folder on the way is root's and for nobody else
/// to write, or at least keeps root's own entries in it (sticky), the last one left out. The kernel's own are root's.
pub(crate) fn is_roots_alone(path: &Utf8Path) -> bool {
    let is_kernels = ["/proc", "/sys"].iter().any(|own| path.starts_with(own));
    is_kernels || path.ancestors().skip(1).enumerate().all(is_roots_folder)
}

fn is_roots_folder((turn, folder): (usize, &Utf8Path)) -> bool {
    match folder.symlink_metadata() {
        Ok(meta) => {
            let is_sticky = turn > 0 && meta.mode() & 0o1000 != 0;
            meta.is_dir() && meta.uid() == 0 && (meta.mode() & 0o022 == 0 || is_sticky)
        }
        // A missing folder will be created inside one that was checked.
        Err(error) => error.kind() == io::ErrorKind::NotFound,
    }
}

/// Checks that every folder on the path belongs to root, is not a link, and can't be written by others. At its end may
/// be a regular file, a link or nothing.
///
/// # Errors
/// The first fault on the path.
pub(crate) fn check_way(path: &Utf8Path) -> Result<(), WayFault> {
    let faulty = |errno: rustix::io::Errno| WayFault::System(errno.into());
    let flags = OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC | SEARCH;
    let mut folder = rustix::fs::open("/", flags, Mode::empty()).map_err(faulty)?;
    let parts = path_parts(path).ok_or(WayFault::NotPlain)?;
    let (name, folders) = parts.split_last().ok_or(WayFault::NotPlain)?;
    for part in folders {
        folder = openat(&folder, *part, flags, Mode::empty()).map_err(faulty)?;
        let stat = fstat(&folder).map_err(faulty)?;
        if stat.st_uid != 0 || stat.st_mode & 0o022 != 0 {
            return Err(WayFault::Changeable((*part).to_owned()));
        }
    }
    match statat(&folder, *name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) if matches!(FileType::from_raw_mode(stat.st_mode), FileType::Symlink | FileType::RegularFile) => {
            Ok(())
        }
        Ok(_) => Err(WayFault::NoFile),
        Err(rustix::io::Errno::NOENT) => Ok(()),
        Err(error) => Err(faulty(error)),
    }
}

/// The names of an absolute path without `.` and `..`.
pub(crate) fn path_parts(path: &Utf8Path) -> Option<Vec<&str>> {
    let mut components = path.components();
    if components.next() != Some(Utf8Component::RootDir) || path.as_str().chars().any(char::is_control) {
        return None;
    }
    let name = |part| if let Utf8Component::Normal(name) = part { Some(name) } else { None };
    components.map(name).collect()
}
