//! The proof file: put under the document root, fetched back, taken away.

use std::fs::File;
use std::io::{self, Write as _};
use std::time::{Duration, SystemTime};

use camino::Utf8Path;
use rustix::fd::OwnedFd;
use rustix::fs::{AtFlags, Mode, OFlags, fchmod, mkdirat, openat, unlinkat};
use rustix::io::Errno;
use yandro_core::check::{Failure, Proof};

use super::Fetched;
use crate::fresh::nonce;

/// The folder that RFC 8615 sets aside for such files.
const FOLDER: &str = ".well-known";
const PREFIX: &str = "yandro-proof-";
/// A proof file this old was left behind by a process that was killed.
const STALE: Duration = Duration::from_secs(600);

/// A file with random name and content under a document root, gone when dropped.
///
/// Every step goes relative to open folders and follows no link, so that nothing is
/// written outside the document root.
#[derive(Debug)]
pub(super) struct ProofFile {
    root: OwnedFd,
    folder: OwnedFd,
    name: String,
    content: String,
    made_folder: bool,
}

impl ProofFile {
    /// Puts a new file there.
    pub(super) fn put(root: &Utf8Path) -> Result<Self, Proof> {
        let not_written = |error: io::Error| Proof::NotWritten(error.to_string());
        let at = |errno: Errno| not_written(errno.into());
        let directory = OFlags::DIRECTORY | OFlags::RDONLY | OFlags::CLOEXEC;
        let root = match rustix::fs::open(root.as_std_path(), directory, Mode::empty()) {
            Ok(root) => root,
            Err(Errno::NOENT | Errno::NOTDIR) => return Err(Proof::FolderMissing),
            Err(error) => return Err(at(error)),
        };
        let made_folder = match mkdirat(&root, FOLDER, Mode::from_raw_mode(0o755)) {
            Ok(()) => true,
            Err(Errno::EXIST) => false,
            Err(error) => return Err(at(error)),
        };
        let folder = openat(&root, FOLDER, directory | OFlags::NOFOLLOW, Mode::empty()).map_err(at)?;
        let proof = Self { root, folder, name: format!("{PREFIX}{}", nonce()), content: nonce(), made_folder };
        if made_folder {
            // Whatever the umask: the server's user has to enter it.
            fchmod(&proof.folder, Mode::from_raw_mode(0o755)).map_err(at)?;
        } else {
            proof.sweep();
        }
        let create = OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::WRONLY | OFlags::CLOEXEC;
        let file = openat(&proof.folder, proof.name.as_str(), create, Mode::from_raw_mode(0o644)).map_err(at)?;
        fchmod(&file, Mode::from_raw_mode(0o644)).map_err(at)?;
        File::from(file).write_all(proof.content.as_bytes()).map_err(not_written)?;
        Ok(proof)
    }

    /// Where the file is on the site.
    pub(super) fn url_path(&self) -> String {
        format!("/{FOLDER}/{}", self.name)
    }

    /// What an answer to a request for the file proves.
    pub(super) fn judge(&self, fetched: &Result<Fetched, Failure>) -> Proof {
        match fetched {
            Ok(fetched) if fetched.answer.status != 200 => Proof::Status(fetched.answer.status),
            Ok(fetched) if fetched.body == self.content.as_bytes() => Proof::Given,
            Ok(_) => Proof::OtherContent,
            Err(failure) => Proof::Failed(failure.words.clone()),
        }
    }

    /// Takes away what a killed process left here.
    fn sweep(&self) {
        let Ok(entries) = rustix::fs::Dir::read_from(&self.folder) else { return };
        for entry in entries.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.starts_with(PREFIX) && self.is_stale(&name) {
                // Someone else may be doing the same.
                _ = unlinkat(&self.folder, name.as_str(), AtFlags::empty());
            }
        }
    }

    fn is_stale(&self, name: &str) -> bool {
        let Ok(stat) = rustix::fs::statat(&self.folder, name, AtFlags::SYMLINK_NOFOLLOW) else { return false };
        let changed = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(stat.st_mtime).unwrap_or(0));
        changed.elapsed().is_ok_and(|age| age > STALE)
    }
}

impl Drop for ProofFile {
    fn drop(&mut self) {
        // Nothing can be done about a failure here; the next check sweeps.
        _ = unlinkat(&self.folder, self.name.as_str(), AtFlags::empty());
        if self.made_folder {
            _ = unlinkat(&self.root, FOLDER, AtFlags::REMOVEDIR);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_proof_file_leaves_nothing_and_follows_nothing() {
        let temporary = tempfile::tempdir().unwrap();
        let root = Utf8Path::from_path(temporary.path()).unwrap();
        let proof = ProofFile::put(root).unwrap();
        assert_eq!(std::fs::read_to_string(format!("{root}{}", proof.url_path())).unwrap(), proof.content);
        drop(proof);
        assert_eq!(std::fs::read_dir(root).unwrap().count(), 0);

        let outside = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(outside.path(), root.join(FOLDER)).unwrap();
        assert!(matches!(ProofFile::put(root), Err(Proof::NotWritten(_))));
        assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
        assert_eq!(ProofFile::put(&root.join("gone")).unwrap_err(), Proof::FolderMissing);
    }
}
