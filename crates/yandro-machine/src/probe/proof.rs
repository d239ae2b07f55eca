//! The proof file: put under the document root, fetched back, taken away.

use std::io::{self, ErrorKind};
use std::time::Duration;

use camino::Utf8Path;
use yandro_core::{PROOF_FILE, Proof};

use super::http::Fetched;
use crate::fresh::nonce;
use crate::os::Folder;

/// The folder that RFC 8615 sets aside for such files.
const FOLDER: &str = ".well-known";
/// A proof file this old was left behind by a process that was killed.
const STALE: Duration = Duration::from_secs(600);

/// How often the folder may vanish under a proof file: others come and go with theirs.
const ATTEMPTS: usize = 50;

/// A file with random name and content under a document root, gone when dropped.
///
/// Every step goes relative to open folders and follows no link, so that nothing is
/// written outside the document root.
#[derive(Debug)]
pub(super) struct ProofFile {
    root: Folder,
    folder: Folder,
    name: String,
    content: String,
}

impl ProofFile {
    /// Puts a new file there.
    pub(super) fn put(root: &Utf8Path) -> Result<Self, Proof> {
        let not_written = |error: &io::Error| Proof::NotWritten(crate::files::words(error));
        let mut vanished = io::Error::from(ErrorKind::NotFound);
        for _ in 0..ATTEMPTS {
            let root = match Folder::open(root) {
                Ok(root) => root,
                Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
                    return Err(Proof::FolderMissing);
                }
                Err(error) => return Err(not_written(&error)),
            };
            match Self::put_in(root) {
                Ok(proof) => return Ok(proof),
                // Another proof file was the last one just then, and took the folder along.
                Err(error) if error.kind() == ErrorKind::NotFound => vanished = error,
                Err(error) => return Err(not_written(&error)),
            }
        }
        Err(not_written(&vanished))
    }

    fn put_in(root: Folder) -> io::Result<Self> {
        let (folder, is_new) = root.enter_or_make(FOLDER)?;
        let proof = Self { root, folder, name: named(&nonce()), content: nonce() };
        if !is_new {
            sweep(&proof.folder);
        }
        proof.folder.write_new(&proof.name, proof.content.as_bytes())?;
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
        let plain = PlainFile { root: &self.root, name };
        self.root.write_new(&plain.name, self.content.as_bytes()).ok()?;
        Some(plain)
    }
}

/// A file with the same content that is not hidden, gone when dropped.
pub(super) struct PlainFile<'p> {
    root: &'p Folder,
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
        _ = self.root.remove(&self.name);
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
    let Ok(root) = Folder::open(root) else { return };
    let remove = |folder: &Folder| {
        for name in folder.names().iter().filter(|name| name.starts_with(&prefix(pid))) {
            _ = folder.remove(name);
        }
    };
    remove(&root);
    if let Ok(folder) = root.enter(FOLDER) {
        remove(&folder);
        root.remove_marked(FOLDER, &folder);
    }
}

/// Takes away what a killed process left in a folder.
fn sweep(folder: &Folder) {
    let is_stale = |name: &String| folder.age(name).is_some_and(|age| age > STALE);
    for name in folder.names().iter().filter(|name| name.starts_with(PROOF_FILE)).filter(|name| is_stale(name)) {
        // Someone else may be doing the same.
        _ = folder.remove(name);
    }
}

impl Drop for ProofFile {
    fn drop(&mut self) {
        // Nothing can be done about a failure here; the next check sweeps.
        _ = self.folder.remove(&self.name);
        self.root.remove_marked(FOLDER, &self.folder);
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
        drop(Folder::open(root).unwrap().enter_or_make(FOLDER).unwrap());
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
