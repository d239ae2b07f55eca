//! The proof file: put under the document root, fetched back, taken away.

use std::time::{Duration, SystemTime};

use camino::Utf8Path;
use rustix::fd::OwnedFd;
use rustix::fs::{AtFlags, Mode, OFlags, fchmod, mkdirat, openat, unlinkat};
use rustix::io::Errno;
use yandro_core::{PROOF_FILE, Proof};

use super::http::Fetched;
use crate::fresh::nonce;

/// The folder that RFC 8615 sets aside for such files.
const FOLDER: &str = ".well-known";
const DIRECTORY: OFlags = OFlags::DIRECTORY.union(OFlags::CLOEXEC);
/// A new file, never one that a link leads to.
const CREATE: OFlags =
    OFlags::CREATE.union(OFlags::EXCL).union(OFlags::NOFOLLOW).union(OFlags::WRONLY).union(OFlags::CLOEXEC);
/// A proof file this old was left behind by a process that was killed.
const STALE: Duration = Duration::from_secs(600);

/// The mark of a folder that yandro made and that goes with the last proof file, also when the process that made it
/// was killed: the sticky bit. It comes and goes with the folder in one call, which a file in it wouldn't.
const MARK: Mode = Mode::SVTX;
/// How often the folder may vanish under a proof file: others come and go with theirs.
const ATTEMPTS: usize = 50;

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
}

impl ProofFile {
    /// Puts a new file there.
    pub(super) fn put(root: &Utf8Path) -> Result<Self, Proof> {
        let not_written = |errno: Errno| Proof::NotWritten(crate::files::words(&errno.into()));
        let mut error = Errno::NOENT;
        for _ in 0..ATTEMPTS {
            let open = rustix::fs::open(root.as_std_path(), DIRECTORY, Mode::empty());
            let root = match open {
                Ok(root) => root,
                Err(Errno::NOENT | Errno::NOTDIR) => return Err(Proof::FolderMissing),
                Err(error) => return Err(not_written(error)),
            };
            match Self::put_in(root) {
                Ok(proof) => return Ok(proof),
                // Another proof file was the last one just then, and took the folder along.
                Err(Errno::NOENT) => error = Errno::NOENT,
                Err(error) => return Err(not_written(error)),
            }
        }
        Err(not_written(error))
    }

    fn put_in(root: OwnedFd) -> Result<Self, Errno> {
        let mode = MARK | Mode::from_raw_mode(0o755);
        let made = match mkdirat(&root, FOLDER, mode) {
            Ok(()) => true,
            Err(Errno::EXIST) => false,
            Err(error) => return Err(error),
        };
        let folder = openat(&root, FOLDER, DIRECTORY | OFlags::NOFOLLOW, Mode::empty())?;
        let proof = Self { root, folder, name: named(&nonce()), content: nonce() };
        if made {
            // Whatever the umask: the server's user has to enter it.
            fchmod(&proof.folder, mode)?;
        } else {
            sweep(&proof.folder);
        }
        let file = openat(&proof.folder, proof.name.as_str(), CREATE, Mode::from_raw_mode(0o644))?;
        fchmod(&file, Mode::from_raw_mode(0o644))?;
        rustix::io::write(&file, proof.content.as_bytes())?;
        Ok(proof)
    }

    /// The file's path on the site.
    pub(super) fn url_path(&self) -> String {
        format!("/{FOLDER}/{}", self.name)
    }

    /// Evaluates an answer to a request for the file.
    pub(super) fn judge(&self, fetched: &Fetched) -> Proof {
        match fetched.answer.status {
            200 if fetched.body == self.content.as_bytes() => Proof::Given,
            200 => Proof::OtherContent,
            401 => Proof::Guarded,
            status if fetched.answer.is_put_off() => Proof::PutOff(status),
            status => Proof::Status(status),
        }
    }

    /// Puts the same content into the document root itself, under a name with this ending that is not hidden; `None`
    /// where that can't be done.
    pub(super) fn put_plain(&self, ending: &str) -> Option<PlainFile<'_>> {
        sweep(&self.root);
        let name = named(&format!("{}.{ending}", nonce()));
        let file = openat(&self.root, name.as_str(), CREATE, Mode::from_raw_mode(0o644)).ok()?;
        let plain = PlainFile { root: &self.root, name };
        fchmod(&file, Mode::from_raw_mode(0o644)).ok()?;
        rustix::io::write(&file, self.content.as_bytes()).ok()?;
        Some(plain)
    }
}

/// A file with the same content that is not hidden, gone when dropped.
pub(super) struct PlainFile<'p> {
    root: &'p OwnedFd,
    name: String,
}

impl PlainFile<'_> {
    /// The file's path on the site.
    pub(super) fn url_path(&self) -> String {
        format!("/{}", self.name)
    }
}

impl Drop for PlainFile<'_> {
    fn drop(&mut self) {
        // The next run removes a leftover.
        _ = unlinkat(self.root, self.name.as_str(), AtFlags::empty());
    }
}

/// The name of a proof file of this process, by which it is found again if the process is killed.
fn named(rest: &str) -> String {
    format!("{}{rest}", prefix(std::process::id()))
}

fn prefix(pid: u32) -> String {
    format!("{PROOF_FILE}{pid}-")
}

/// Takes away what a process that was killed left under a document root.
pub(crate) fn sweep_proofs(root: &Utf8Path, pid: u32) {
    let Ok(root) = rustix::fs::open(root.as_std_path(), DIRECTORY, Mode::empty()) else { return };
    let remove = |folder: &OwnedFd| {
        for entry in rustix::fs::Dir::read_from(folder).into_iter().flatten().flatten() {
            let name = entry.file_name();
            if name.to_bytes().starts_with(prefix(pid).as_bytes()) {
                _ = unlinkat(folder, name, AtFlags::empty());
            }
        }
    };
    remove(&root);
    if let Ok(folder) = openat(&root, FOLDER, DIRECTORY | OFlags::NOFOLLOW, Mode::empty()) {
        remove(&folder);
        remove_made_folder(&root, &folder);
    }
}

/// Removes the folder that a proof made, if nothing is left in it.
fn remove_made_folder(root: &OwnedFd, folder: &OwnedFd) {
    if rustix::fs::fstat(folder).is_ok_and(|stat| Mode::from_raw_mode(stat.st_mode).contains(MARK)) {
        // Another proof file may still be there; the last one takes the folder along.
        _ = unlinkat(root, FOLDER, AtFlags::REMOVEDIR);
    }
}

/// Takes away what a killed process left in a folder.
fn sweep(folder: &OwnedFd) {
    let Ok(entries) = rustix::fs::Dir::read_from(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.starts_with(PROOF_FILE) && is_stale(folder, &name) {
            // Someone else may be doing the same.
            _ = unlinkat(folder, name.as_str(), AtFlags::empty());
        }
    }
}

fn is_stale(folder: &OwnedFd, name: &str) -> bool {
    let Ok(stat) = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) else { return false };
    let changed = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(stat.st_mtime).unwrap_or(0));
    changed.elapsed().is_ok_and(|age| age > STALE)
}

impl Drop for ProofFile {
    fn drop(&mut self) {
        // Nothing can be done about a failure here; the next check sweeps.
        _ = unlinkat(&self.folder, self.name.as_str(), AtFlags::empty());
        remove_made_folder(&self.root, &self.folder);
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
        let plain = proof.put_plain("txt").unwrap();
        assert_eq!(std::fs::read_to_string(format!("{root}{}", plain.url_path())).unwrap(), proof.content);
        drop(plain);
        drop(proof);
        assert_eq!(std::fs::read_dir(root).unwrap().count(), 0);

        let many: Vec<_> = (0..8)
            .map(|_| {
                let root = root.to_owned();
                std::thread::spawn(move || (0..200).for_each(|_| drop(ProofFile::put(&root).unwrap())))
            })
            .collect();
        for thread in many {
            thread.join().unwrap();
        }
        assert_eq!(std::fs::read_dir(root).unwrap().count(), 0, "many sites of one folder");
        mkdirat(rustix::fs::CWD, root.join(FOLDER).as_std_path(), MARK | Mode::from_raw_mode(0o700)).unwrap();
        sweep_proofs(root, 1);
        assert_eq!(std::fs::read_dir(root).unwrap().count(), 0, "whose maker was killed before its file");
        std::fs::create_dir(root.join(FOLDER)).unwrap();
        sweep_proofs(root, 1);
        drop(ProofFile::put(root).unwrap());
        assert!(root.join(FOLDER).exists(), "a folder of the person's own stays");
        std::fs::remove_dir(root.join(FOLDER)).unwrap();

        let outside = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(outside.path(), root.join(FOLDER)).unwrap();
        assert!(matches!(ProofFile::put(root), Err(Proof::NotWritten(_))));
        assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
        assert_eq!(ProofFile::put(&root.join("gone")).unwrap_err(), Proof::FolderMissing);
    }
}
