//! Reading and writing files so that each is whole or as it was.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};

use camino::{Utf8Path, Utf8PathBuf};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};

use crate::caller;
use crate::confine;
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
        let is_denied = self.source.kind() == io::ErrorKind::PermissionDenied;
        match obstacle(&self.path) {
            Some(obstacle) if is_denied => words(&obstacle.source),
            _ => words(&self.source),
        }
    }

    /// Whether the cause is a right that the user doesn't have, and root would.
    pub fn is_permission(&self) -> bool {
        self.source.kind() == io::ErrorKind::PermissionDenied && !rustix::process::geteuid().is_root()
    }

    /// The fix, where the cause tells.
    pub fn fix(&self) -> Option<String> {
        let Self { path, source } = self;
        if source.kind() == io::ErrorKind::PermissionDenied
            && let Some(obstacle) = obstacle(path)
        {
            return Some(format!("take the attribute off, if you want it changed: sudo chattr -i {}", obstacle.path));
        }
        Some(match Errno::from_io_error(source) {
            Some(Errno::ROFS) => format!("mount the file system of {path} writable, then run the command again"),
            Some(Errno::NOSPC | Errno::DQUOT) => format!("make room on the disk of {path}, then run the command again"),
            Some(Errno::MFILE) => "raise the limit of open files (ulimit -n), then run the command again".into(),
            Some(Errno::NFILE) => "end some programs: the system has no more file descriptors".into(),
            _ if source.to_string().contains("immutable attribute") => {
                format!("take the attribute off, if you want it changed: sudo chattr -i {path}")
            }
            _ => return None,
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
    /// The attributes of a file that exists.
    ///
    /// # Errors
    /// When the file can't be looked at.
    pub fn of(path: &Utf8Path) -> Result<Self, FileError> {
        let path = &confine::real(path).map_err(FileError::at(path))?;
        let meta = fs::metadata(path).map_err(FileError::at(path))?;
        Ok(Self {
            mode: meta.permissions().mode() & 0o7777,
            uid: meta.uid(),
            gid: meta.gid(),
            extended: extended(path),
        })
    }

    fn give_to(&self, file: &File) -> io::Result<()> {
        let own = file.metadata()?;
        if (own.uid(), own.gid()) != (self.uid, self.gid) {
            match std::os::unix::fs::fchown(file, Some(self.uid), Some(self.gid)) {
                // In the folder of the user who called sudo it is theirs, whosever it was.
                Err(error) if !(error.kind() == io::ErrorKind::PermissionDenied && caller::has_rights()) => {
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

/// Whether this user may take a file away or put another in its place.
pub fn may_be_replaced(path: &Utf8Path) -> bool {
    let folder = path.parent().unwrap_or(Utf8Path::new("/"));
    rustix::fs::access(folder.as_std_path(), rustix::fs::Access::WRITE_OK).is_ok()
}

/// An obstacle that keeps even root from writing a file: a read-only file system, or the immutable
/// attribute of the file or its folder.
pub(crate) fn obstacle(path: &Utf8Path) -> Option<FileError> {
    use rustix::fs::{AtFlags, CWD, StatxAttributes, StatxFlags, statx};
    let folder = path.ancestors().skip(1).find(|folder| folder.exists())?;
    for at in [path, folder] {
        let written = rustix::fs::access(at.as_std_path(), rustix::fs::Access::WRITE_OK);
        if written == Err(Errno::ROFS) {
            return Some(FileError::at(path)(Errno::ROFS.into()));
        }
        let attributes = statx(CWD, at.as_std_path(), AtFlags::empty(), StatxFlags::BASIC_STATS);
        if attributes.is_ok_and(|found| found.stx_attributes.contains(StatxAttributes::IMMUTABLE)) {
            let words = format!("{at} has the immutable attribute (chattr +i), and nobody can change it");
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
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
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
    let no_rename = matches!(Errno::from_io_error(&error.source), Some(Errno::BUSY | Errno::XDEV));
    let no_room_beside = matches!(Errno::from_io_error(&error.source), Some(Errno::ACCESS | Errno::PERM | Errno::ROFS));
    if !(no_rename || no_room_beside) || !path.exists() {
        return Err(error);
    }
    let mut file = OpenOptions::new().write(true).open(path).map_err(FileError::at(path))?;
    before_in_place()?;
    let written =
        file.write_all(content).and_then(|()| file.set_len(content.len() as u64)).and_then(|()| file.sync_all());
    written.map_err(FileError::at(path))?;
    tracing::debug!(target: "write", "{path}: {} bytes, in place", content.len());
    Ok(Written::InPlace)
}

fn write_beside(path: &Utf8Path, content: &[u8], attributes: &Attributes, tag: &str) -> Result<(), FileError> {
    let beside = temporary(path, tag);
    let written = (|| {
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
        file.write_all(content)?;
        attributes.give_to(&file)?;
        file.sync_all()?;
        fs::rename(&beside, path)
    })();
    if let Err(error) = written {
        // A failure here doesn't matter: the first one is reported.
        _ = fs::remove_file(&beside);
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
    match path.canonicalize_utf8() {
        Ok(real) => Ok(real),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(path.to_owned()),
        Err(error) => Err(FileError::at(path)(error)),
    }
}

/// A path whose folder is the real one; the last part stays as it is.
pub(crate) fn follow_folder(path: &Utf8Path) -> Utf8PathBuf {
    let real = path.parent().and_then(|folder| confine::real(folder).ok()?.canonicalize_utf8().ok());
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
    let folder = &follow(path.parent().unwrap_or(Utf8Path::new("/")))?;
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(FileError::at(folder))
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

#[cfg(test)]
mod tests {
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
