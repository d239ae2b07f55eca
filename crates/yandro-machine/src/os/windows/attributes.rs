//! Attributes and access control lists of files, and the rights to write them.

use std::fs::{File, OpenOptions};
use std::io;
use std::os::windows::fs::{MetadataExt as _, OpenOptionsExt as _};

use camino::Utf8Path;
use serde::{Deserialize, Serialize};
use yandro_core::Access;
use yandro_sys::windows::descriptor::Descriptor;
use yandro_sys::windows::{Sid, files};

use super::files::{ALSO_FOLDERS, private};
use super::{Owner, this_user};

/// The attributes that are preserved: read-only, hidden, system.
const KEPT: u32 = READ_ONLY | 0x2 | 0x4;
/// `FILE_ATTRIBUTE_READONLY`.
pub(super) const READ_ONLY: u32 = 0x1;
/// Any program may have it open, and rename or remove it meanwhile.
const SHARED: u32 = 7;
/// `FILE_WRITE_DATA`, which is `FILE_ADD_FILE` on a folder.
const WRITE_DATA: u32 = 0x2;

/// Attributes and access control list of a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attributes {
    /// The attribute bits: read-only, hidden, of the system.
    pub bits: u32,
    /// The security descriptor in one piece; empty for what the folder hands down.
    pub descriptor: Vec<u8>,
}

impl Attributes {
    /// The attributes of a file that exists, by its real path.
    ///
    /// # Errors
    /// When the file can't be looked at.
    pub(crate) fn at(path: &Utf8Path) -> io::Result<Self> {
        let bits = path.metadata()?.file_attributes() & KEPT;
        Ok(Self { bits, descriptor: files::descriptor(path.as_str())?.bytes().to_vec() })
    }

    /// Attributes of a new file that belongs to the administrators and that everybody may read.
    pub(crate) fn of_roots() -> Self {
        let all = [Sid::SYSTEM, Sid::ADMINISTRATORS];
        Self { bits: 0, descriptor: Descriptor::readable(&all).bytes().to_vec() }
    }

    /// Attributes of a new file of `owner`'s, or of this process's user. Public files inherit the rights of their folder.
    pub(crate) fn of_new(path: &Utf8Path, access: Access, owner: Option<Owner>, _: bool) -> Self {
        let user = owner.map_or_else(this_user, |owner| owner.user);
        let descriptor = match access {
            // A new file of an administrator is readable for others only by this.
            Access::Public if super::is_root() && super::is_roots_alone(path) => return Self::of_roots(),
            Access::Secret | Access::Private => private(user).bytes().to_vec(),
            Access::Public | Access::Project => Vec::new(),
        };
        Self { bits: 0, descriptor }
    }

    /// Gives a file these attributes.
    ///
    /// # Errors
    /// When this process may not.
    pub(crate) fn give_to(&self, file: &File) -> io::Result<()> {
        if !self.descriptor.is_empty() {
            files::set_rights(file, &Descriptor::from_bytes(self.descriptor.clone()))?;
        }
        if self.bits & READ_ONLY != 0 {
            let mut permissions = file.metadata()?.permissions();
            permissions.set_readonly(true);
            file.set_permissions(permissions)?;
        }
        Ok(())
    }
}

/// Asks whether this process may write a file, or make something in a folder. One that another program keeps to itself
/// may be written, though not now.
///
/// # Errors
/// Why it may not.
pub(crate) fn may_write(path: &Utf8Path) -> io::Result<()> {
    let opened = OpenOptions::new().access_mode(WRITE_DATA).share_mode(SHARED).custom_flags(ALSO_FOLDERS).open(path);
    match opened {
        Err(error) if super::replace::is_in_use(&error) => Ok(()),
        // Its owner may take the attribute off, and does so for a moment.
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied && is_only_read_only(path) => Ok(()),
        opened => opened.map(|_| ()),
    }
}

/// Whether nothing but the read-only attribute keeps a file from being written.
fn is_only_read_only(path: &Utf8Path) -> bool {
    /// `FILE_WRITE_ATTRIBUTES`.
    const WRITE_ATTRIBUTES: u32 = 0x100;
    let is_marked = path.metadata().is_ok_and(|meta| meta.is_file() && meta.permissions().readonly());
    is_marked && OpenOptions::new().access_mode(WRITE_ATTRIBUTES).share_mode(SHARED).open(path).is_ok()
}

/// How many files this process may have open: Windows sets no practical limit.
pub(crate) fn most_open_files() -> Option<u64> {
    None
}

/// The fix for `ERROR_TOO_MANY_OPEN_FILES`; `None` for another error.
pub(crate) fn fewer_files(error: &io::Error) -> Option<&'static str> {
    (error.raw_os_error() == Some(4)).then_some("end some programs: the system has no more room for open files")
}

/// The error for links that lead in a circle (`ERROR_CANT_RESOLVE_FILENAME`).
pub(crate) fn circle_of_links() -> io::Error {
    io::Error::from_raw_os_error(1921)
}
