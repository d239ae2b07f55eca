//! Mode, owner and extended attributes of files, and the rights to write them.

use std::fs::{self, File};
use std::io;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};

use camino::Utf8Path;
use rustix::fs::{Access, access};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use super::FileRights;

/// Mode, owner and extended attributes (access control lists among them) of a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attributes {
    /// Permission bits.
    pub mode: u32,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Extended attributes.
    pub extended: Vec<(String, Vec<u8>)>,
}

impl Attributes {
    /// The attributes of a file that exists, by its real path.
    ///
    /// # Errors
    /// When the file can't be looked at.
    pub(crate) fn at(path: &Utf8Path) -> io::Result<Self> {
        let meta = fs::metadata(path)?;
        Ok(Self {
            mode: meta.permissions().mode() & 0o7777,
            uid: meta.uid(),
            gid: meta.gid(),
            extended: extended(path),
        })
    }

    /// Those of a new file of root's that everybody may read.
    pub(crate) fn of_roots() -> Self {
        Self { mode: 0o644, uid: 0, gid: 0, extended: Vec::new() }
    }

    /// Gives a file these attributes.
    ///
    /// # Errors
    /// When this process may not.
    pub(crate) fn give_to(&self, file: &File) -> io::Result<()> {
        let own = file.metadata()?;
        if (own.uid(), own.gid()) != (self.uid, self.gid) {
            match std::os::unix::fs::fchown(file, Some(self.uid), Some(self.gid)) {
                // In the folder of the user who called sudo it is theirs, whosever it was.
                Err(error) if !(error.kind() == io::ErrorKind::PermissionDenied && FileRights::are_taken()) => {
                    return Err(error);
                }
                _ => {}
            }
        }
        // After the owner: a change of owner takes set-id bits away.
        file.set_permissions(fs::Permissions::from_mode(self.mode))?;
        for (name, value) in &self.extended {
            match rustix::fs::fsetxattr(file, name.as_str(), value, rustix::fs::XattrFlags::empty()) {
                // A file system without them had none to lose; security labels are the kernel's own to give.
                Err(Errno::OPNOTSUPP | Errno::PERM) | Ok(()) => {}
                Err(error) => return Err(error.into()),
            }
        }
        Ok(())
    }
}

fn extended(path: &Utf8Path) -> Vec<(String, Vec<u8>)> {
    let mut names = vec![0; 4096];
    let Ok(length) = rustix::fs::listxattr(path.as_std_path(), &mut names) else { return Vec::new() };
    let names = names[..length].split(|&byte| byte == 0).filter(|name| !name.is_empty());
    let value = |name: &[u8]| {
        let name = String::from_utf8(name.to_vec()).ok()?;
        let mut value = vec![0; 65536];
        let length = rustix::fs::getxattr(path.as_std_path(), name.as_str(), &mut value).ok()?;
        value.truncate(length);
        Some((name, value))
    };
    names.filter_map(value).collect()
}

/// Asks whether this process may write a file, or change what is in a folder (access(2)).
///
/// # Errors
/// Why it may not.
pub(crate) fn may_write(path: &Utf8Path) -> io::Result<()> {
    Ok(access(path.as_std_path(), Access::WRITE_OK)?)
}

/// How many files this process may have open (getrlimit(2)); `None` where there is no limit.
pub(crate) fn most_open_files() -> Option<u64> {
    rustix::process::getrlimit(rustix::process::Resource::Nofile).current
}

/// What to do where no more files can be opened, by this process or by all together; `None` for another error.
pub(crate) fn fewer_files(error: &io::Error) -> Option<&'static str> {
    match Errno::from_io_error(error) {
        Some(Errno::MFILE) => Some("raise the limit of open files (ulimit -n), then run the command again"),
        Some(Errno::NFILE) => Some("end some programs: the system has no more file descriptors"),
        _ => None,
    }
}

/// The error for links that lead in a circle.
pub(crate) fn circle_of_links() -> io::Error {
    Errno::LOOP.into()
}
