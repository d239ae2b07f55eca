//! Reading and writing files so that each is whole or as it was.

use std::io::{self, ErrorKind, Write as _};

use camino::{Utf8Path, Utf8PathBuf};

use crate::caller;
use crate::confine;
use crate::os;
pub use crate::os::Attributes;
pub(crate) use crate::reading::read_by_name;
pub use crate::reading::{holds, open_regular, read, read_end, read_given, read_if_there};

/// A failed operation on a file, with the path.
#[derive(Debug, thiserror::Error)]
#[error("{path}: {}", self.cause())]
pub struct FileError {
    /// The file or folder.
    pub path: Utf8PathBuf,
    /// The system's error.
    pub source: io::Error,
}

impl FileError {
    /// Attaches the path to what the system said.
    pub fn at(path: &Utf8Path) -> impl FnOnce(io::Error) -> Self {
        let path = path.to_owned();
        move |source| Self { path, source }
    }

    /// The system's words, or the obstacle behind them.
    fn cause(&self) -> String {
        let is_denied = self.source.kind() == ErrorKind::PermissionDenied;
        match obstacle(&self.path) {
            Some(obstacle) if is_denied => words(&obstacle.source),
            _ => words(&self.source),
        }
    }

    /// Whether the cause is a right that the user doesn't have, and root would.
    pub fn is_permission(&self) -> bool {
        self.source.kind() == ErrorKind::PermissionDenied && !os::is_root()
    }

    /// The fix, where the cause tells.
    pub fn fix(&self) -> Option<String> {
        let Self { path, source } = self;
        if source.kind() == ErrorKind::PermissionDenied
            && let Some(obstacle) = obstacle(path)
        {
            return Some(format!(
                "take the attribute off, if you want it changed: {}",
                os::changeable_again(&obstacle.path)
            ));
        }
        Some(match source.kind() {
            ErrorKind::ReadOnlyFilesystem => {
                format!("mount the file system of {path} writable, then run the command again")
            }
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
                format!("make room on the disk of {path}, then run the command again")
            }
            _ if source.to_string().contains("immutable attribute") => {
                format!("take the attribute off, if you want it changed: {}", os::changeable_again(path))
            }
            _ => return os::fewer_files(source).map(str::to_owned),
        })
    }
}

/// The system's words without its error number.
pub(crate) fn words(error: &io::Error) -> String {
    let text = error.to_string();
    let text = text.split(" (os error").next().unwrap_or(&text);
    let mut chars = text.chars();
    chars.next().map(|first| first.to_lowercase().chain(chars).collect()).unwrap_or_default()
}

impl Attributes {
    /// The attributes of a file that exists.
    ///
    /// # Errors
    /// When the file can't be looked at.
    pub fn of(path: &Utf8Path) -> Result<Self, FileError> {
        confine::real(path).and_then(|path| Self::at(&path)).map_err(FileError::at(path))
    }
}

/// Whether nobody but root can change a file, or where it leads if it is a link.
pub fn only_root_changes(path: &Utf8Path) -> bool {
    os::is_roots_alone(path) && os::real_path(path).is_ok_and(|real| os::is_roots_file(&real))
}

/// Whether this user may take a file away or put another in its place.
pub fn may_be_replaced(path: &Utf8Path) -> bool {
    let folder = path.parent().unwrap_or(Utf8Path::new("/"));
    os::may_write(folder).is_ok()
}

/// An obstacle that keeps even root from writing a file: a read-only file system, or the immutable
/// attribute of the file or its folder.
pub(crate) fn obstacle(path: &Utf8Path) -> Option<FileError> {
    let folder = path.ancestors().skip(1).find(|folder| folder.exists())?;
    for at in [path, folder] {
        let is_read_only = |error: &io::Error| error.kind() == ErrorKind::ReadOnlyFilesystem;
        if let Some(error) = os::may_write(at).err().filter(is_read_only) {
            return Some(FileError::at(path)(error));
        }
        if os::is_immutable(at) {
            let words = format!("{at} has the immutable attribute ({}), and nobody can change it", os::IMMUTABLE_BY);
            return Some(FileError::at(path)(io::Error::other(words)));
        }
    }
    None
}

/// A link's target, or `None` if there is nothing.
///
/// # Errors
/// When the path is not a link, or can't be read.
pub fn read_link_if_there(path: &Utf8Path) -> Result<Option<Utf8PathBuf>, FileError> {
    let real = confine::real_folder(path).map_err(FileError::at(path))?;
    match real.read_link_utf8() {
        Ok(target) => Ok(Some(target)),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
        Err(error) => Err(FileError::at(path)(error)),
    }
}

/// How a file was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Written {
    /// Beside it and renamed over it: at no moment half.
    Renamed,
    /// In place, since a rename is impossible there.
    InPlace,
}

/// Writes `content` to a file: through a temporary file next to it that is renamed
/// over it, or in place where that can't be (a bind mount, a folder that may not be
/// written). A path that is a link is followed, so that it stays one.
///
/// `before_in_place` runs before the first byte of a write in place; the caller
/// then makes sure that the old content is safe. `tag` makes the temporary
/// file's name, which [`temporary`] gives again after a crash.
///
/// # Errors
/// When neither way works; the file is then as it was, unless a write in place
/// broke off.
pub fn write(
    path: &Utf8Path,
    content: &[u8],
    attributes: &Attributes,
    tag: &str,
    before_in_place: impl FnOnce() -> Result<(), FileError>,
) -> Result<Written, FileError> {
    let _rights = caller::rights_for(path);
    let path = &follow(path)?;
    let error = match write_beside(path, content, attributes, tag) {
        Ok(()) => {
            tracing::debug!(target: "write", "{path}: {} bytes, by a renamed temporary file", content.len());
            return Ok(Written::Renamed);
        }
        Err(error) => error,
    };
    let no_rename = matches!(error.source.kind(), ErrorKind::ResourceBusy | ErrorKind::CrossesDevices);
    let no_room_beside = matches!(error.source.kind(), ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem);
    if !(no_rename || no_room_beside) || !path.exists() {
        return Err(error);
    }
    let mut file = os::open_in_place(path).map_err(FileError::at(path))?;
    before_in_place()?;
    let written =
        file.write_all(content).and_then(|()| file.set_len(content.len() as u64)).and_then(|()| file.sync_all());
    written.map_err(FileError::at(path))?;
    tracing::debug!(target: "write", "{path}: {} bytes, in place", content.len());
    Ok(Written::InPlace)
}

/// Writes a file that everybody may read, over the one that is there: for what a person asked to have there.
///
/// # Errors
/// When its folder can't be written.
pub fn write_for_all(path: &Utf8Path, content: &[u8]) -> Result<(), FileError> {
    let _rights = caller::rights_for(path);
    let folder = path.parent().filter(|folder| *folder != "").unwrap_or(Utf8Path::new("."));
    let written = (|| {
        let mut beside = os::readable_by_all(&mut tempfile::Builder::new()).tempfile_in(folder)?;
        beside.write_all(content)?;
        beside.as_file().sync_all()?;
        beside.persist(path).map_err(|error| error.error)
    })();
    written.map(|_| ()).map_err(FileError::at(path))
}

fn write_beside(path: &Utf8Path, content: &[u8], attributes: &Attributes, tag: &str) -> Result<(), FileError> {
    let beside = temporary(path, tag);
    let written = (|| {
        let mut file = os::new_file(&beside)?;
        file.write_all(content)?;
        attributes.give_to(&file)?;
        file.sync_all()?;
        // Windows refuses to rename an open file.
        drop(file);
        os::rename(&beside, path)
    })();
    if let Err(error) = written {
        // A failure here doesn't matter: the first one is reported.
        _ = os::remove_file(&beside);
        return Err(FileError::at(path)(error));
    }
    sync_folder_of(path)
}

/// The temporary file next to `path` that a change set of this tag uses.
pub fn temporary(path: &Utf8Path, tag: &str) -> Utf8PathBuf {
    let name = path.file_name().unwrap_or("file");
    path.with_file_name(format!(".{name}.yandro-{tag}"))
}

/// The file that a path leads to, through all links.
///
/// # Errors
/// When a link leads in a circle, or to a path that is no UTF-8.
pub fn follow(path: &Utf8Path) -> Result<Utf8PathBuf, FileError> {
    let path = &confine::real(path).map_err(FileError::at(path))?;
    match os::real_path(path) {
        Ok(real) => Ok(real),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(path.to_owned()),
        Err(error) => Err(FileError::at(path)(error)),
    }
}

/// A path whose folder is the real one; the last part stays as it is.
pub(crate) fn follow_folder(path: &Utf8Path) -> Utf8PathBuf {
    let real = path.parent().and_then(|folder| os::real_path(&confine::real(folder).ok()?).ok());
    match (real, path.file_name()) {
        (Some(real), Some(name)) => real.join(name),
        _ => path.to_owned(),
    }
}

/// Makes sure that a rename, creation or removal in a folder is on the disk.
///
/// # Errors
/// When the folder can't be synced.
pub fn sync_folder_of(path: &Utf8Path) -> Result<(), FileError> {
    sync_folder(path.parent().unwrap_or(Utf8Path::new("/")))
}

/// The same for the folder itself.
///
/// # Errors
/// When it can't be synced.
pub(crate) fn sync_folder(folder: &Utf8Path) -> Result<(), FileError> {
    let folder = &follow(folder)?;
    os::sync_folder(folder).map_err(FileError::at(folder))
}

/// A fingerprint of some content, 128 bits in hexadecimal digits: tells a change, and is
/// no protection against one that is made to look alike.
pub fn fingerprint(content: &[u8]) -> String {
    format!("{:032x}", twox_hash::XxHash3_128::oneshot(content))
}

/// SHA-1 of some content, in hexadecimal digits: the name by which others know a certificate, and
/// no protection of anything.
pub fn sha1(content: &[u8]) -> String {
    digits(&ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, content))
}

/// The same as bytes.
pub(crate) fn sha1_bytes(content: &[u8]) -> [u8; 20] {
    let digest = ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, content);
    digest.as_ref().try_into().expect("SHA-1 has 20 bytes")
}

fn digits(digest: &ring::digest::Digest) -> String {
    digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// SHA-256 of some content, in hexadecimal digits.
pub fn sha256(content: &[u8]) -> String {
    digits(&ring::digest::digest(&ring::digest::SHA256, content))
}

/// Removes a file of the person's own, if it is there.
///
/// # Errors
/// When it can't be removed.
pub fn remove_own(path: &Utf8Path) -> Result<(), FileError> {
    let _rights = caller::rights_for(path);
    match os::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(FileError::at(path)(error)),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::PermissionsExt as _;

    use super::*;

    #[test]
    fn a_file_keeps_its_mode_and_attributes_and_a_link_stays_one() {
        let folder = tempfile::tempdir().unwrap();
        let folder = Utf8Path::from_path(folder.path()).unwrap();
        let (real, link) = (folder.join("hosts.real"), folder.join("hosts"));
        fs::write(&real, "before").unwrap();
        fs::set_permissions(&real, fs::Permissions::from_mode(0o640)).unwrap();
        std::os::unix::fs::symlink("hosts.real", &link).unwrap();
        let set = rustix::fs::setxattr(real.as_std_path(), "user.tide", b"high", rustix::fs::XattrFlags::empty());
        let attributes = Attributes::of(&link).unwrap();
        let written = write(&link, b"after", &attributes, "000001", || panic!("a rename is possible")).unwrap();
        assert_eq!(written, Written::Renamed);
        assert_eq!(link.read_link_utf8().unwrap(), "hosts.real");
        assert_eq!(fs::read(&real).unwrap(), b"after");
        assert_eq!(Attributes::of(&real).unwrap(), attributes);
        // A file system without extended attributes can't show that they are kept.
        assert_eq!(attributes.extended.contains(&("user.tide".to_owned(), b"high".to_vec())), set.is_ok());
        assert_eq!(fs::read_dir(folder).unwrap().count(), 2, "no temporary file is left");
    }
}
