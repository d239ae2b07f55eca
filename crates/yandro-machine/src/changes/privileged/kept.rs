//! Record of the helper's changes per user, so that they can be undone without sending the old content.
//!
//! Kept in a folder of root's: a journal with a line of JSON for the beginning and the end of each change, and the
//! contents that were replaced or removed, by their SHA-256. Each user can have taken back what was done for them, as
//! long as the file is as the helper left it.

use std::fs::{self, File};
use std::io::{self, Write as _};
use std::time::SystemTime;

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use yandro_core::Access;

use super::PathState;
use super::way::check_way;
use crate::files;
use crate::os::{self, UserId};

/// The most changes that are kept.
const MOST: usize = 4096;
/// The longest time that writing a file takes, in nanoseconds.
const LONGEST_WRITE: u64 = 60_000_000_000;
/// The most bytes of contents that are kept.
const MOST_BYTES: u64 = 64 << 20;

/// A change that was begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct KeptEntry {
    /// When it began, in nanoseconds since 1970.
    number: u64,
    /// For whom.
    uid: UserId,
    path: Utf8PathBuf,
    from: PathState,
    to: PathState,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    done: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum KeptLine {
    Begun(KeptEntry),
    Done(u64),
}

/// All that was done, the last at the end.
#[derive(Debug, Default)]
pub(super) struct Kept {
    entries: Vec<KeptEntry>,
}

impl Kept {
    /// Reads the journal; what can't be read is passed over, so that nothing is taken back by it.
    pub(super) fn read() -> Self {
        let text = fs::read_to_string(journal()).unwrap_or_default();
        let mut entries: Vec<KeptEntry> = Vec::new();
        for line in text.lines().filter_map(|line| serde_json::from_str(line).ok()) {
            match line {
                KeptLine::Begun(entry) => entries.push(entry),
                KeptLine::Done(number) => {
                    if let Some(entry) = entries.iter_mut().rev().find(|entry| entry.number == number) {
                        entry.done = true;
                    }
                }
            }
        }
        Self { entries }
    }

    /// Whether `path`, which is as `now`, may become as `to` again: that undoes a change of the helper's for this user.
    /// An interrupted change may have left the file half, but only if nobody wrote it later. `written` is the time of
    /// its last change, in nanoseconds since 1970.
    pub(super) fn takes_back(
        &self,
        uid: UserId,
        path: &Utf8Path,
        now: &PathState,
        written: u64,
        to: &PathState,
    ) -> bool {
        let mut of_path = self.entries.iter().rev().filter(|entry| entry.path == path);
        let last = of_path.clone().next();
        let is_broken_off = last.is_some_and(|last| {
            let is_last_write = written.saturating_sub(last.number) < LONGEST_WRITE;
            !last.done && last.uid == uid && last.from == *to && is_last_write
        });
        is_broken_off || of_path.any(|entry| entry.uid == uid && entry.to == *now && entry.from == *to)
    }

    /// Whether the helper ever changed a path for this user.
    pub(super) fn knows(&self, uid: UserId, path: &Utf8Path) -> bool {
        self.entries.iter().any(|entry| entry.uid == uid && entry.path == path)
    }

    /// A content that was replaced or removed.
    pub(super) fn content(sha256: &str) -> Option<Vec<u8>> {
        let content = fs::read(content_file(sha256)?).ok()?;
        (files::sha256(&content) == sha256).then_some(content)
    }

    /// Puts a change down before it is made, and keeps what it replaces.
    pub(super) fn begin(&mut self, uid: UserId, path: &Utf8Path, from: &PathState, to: &PathState) -> io::Result<u64> {
        make_folders()?;
        let _held = held(File::lock_shared)?;
        if let PathState::File { sha256 } = from {
            keep(path, sha256)?;
        }
        let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        let number = u64::try_from(since.as_nanos()).unwrap_or(u64::MAX);
        let entry = KeptEntry { number, uid, path: path.to_owned(), from: from.clone(), to: to.clone(), done: false };
        append(&KeptLine::Begun(entry.clone()), true)?;
        self.entries.push(entry);
        Ok(number)
    }

    /// Puts down that it was made.
    pub(super) fn done(&mut self, number: u64) -> io::Result<()> {
        if let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.number == number) {
            entry.done = true;
        }
        let _held = held(File::lock_shared)?;
        append(&KeptLine::Done(number), false)
    }

    /// Forgets the changes for a user, and the whole folder once it has none of anybody's.
    pub(super) fn forget(&mut self, uid: UserId) -> io::Result<()> {
        if !journal().exists() {
            return Ok(());
        }
        let _held = held(File::lock)?;
        let mut kept = Self::read();
        kept.entries.retain(|entry| entry.uid != uid);
        self.entries.clear();
        if kept.entries.is_empty() {
            fs::remove_dir_all(os::helper_folder())?;
            // The folder above has nothing else in it.
            _ = os::helper_folder().parent().map(os::remove_folder);
            return Ok(());
        }
        kept.rewrite()
    }

    /// Forgets the oldest changes when there are too many of them, and contents that no change needs.
    pub(super) fn prune() -> io::Result<()> {
        if !journal().exists() {
            return Ok(());
        }
        let _held = held(File::lock)?;
        let mut kept = Self::read();
        let (mut bytes, mut number) = (0, 0);
        let fits = |entry: &&KeptEntry| {
            bytes += size_of(entry);
            number += 1;
            bytes <= MOST_BYTES && number <= MOST
        };
        let number_kept = kept.entries.iter().rev().take_while(fits).count();
        if number_kept == kept.entries.len() {
            return Ok(());
        }
        // By a half, so that this is rare.
        kept.entries.drain(..kept.entries.len() - number_kept / 2);
        kept.rewrite()
    }

    /// Rewrites the journal, and removes contents that no change needs.
    fn rewrite(&self) -> io::Result<()> {
        let kept = self;
        let lines = kept.entries.iter().filter_map(|entry| serde_json::to_string(&KeptLine::Begun(entry.clone())).ok());
        replace(&journal(), lines.map(|line| line + "\n").collect::<String>().as_bytes(), |new| {
            os::give_access(new, Access::Public)
        })?;
        let is_needed = |name: &str| {
            kept.entries.iter().any(|entry| matches!(&entry.from, PathState::File { sha256 } if sha256 == name))
        };
        for entry in contents().read_dir_utf8()?.flatten().filter(|entry| !is_needed(entry.file_name())) {
            os::remove_file(entry.path())?;
        }
        Ok(())
    }
}

fn size_of(entry: &KeptEntry) -> u64 {
    match &entry.from {
        PathState::File { sha256 } => {
            content_file(sha256).and_then(|file| file.metadata().ok()).map_or(0, |meta| meta.len())
        }
        _ => 0,
    }
}

/// The folder, held so that nobody prunes what another one begins.
fn held(lock: impl Fn(&File) -> io::Result<()>) -> io::Result<File> {
    let folder = os::open_folder(os::helper_folder())?;
    lock(&folder)?;
    Ok(folder)
}

fn journal() -> Utf8PathBuf {
    os::helper_folder().join("journal")
}

fn contents() -> Utf8PathBuf {
    os::helper_folder().join("contents")
}

fn content_file(sha256: &str) -> Option<Utf8PathBuf> {
    let is_digest = sha256.len() == 64 && sha256.bytes().all(|byte| byte.is_ascii_hexdigit());
    is_digest.then(|| contents().join(sha256))
}

fn make_folders() -> io::Result<()> {
    os::make_guarded_folders(&contents())?;
    let fault = |_| io::Error::other(format!("{} can be changed by others than root", os::helper_folder()));
    check_way(&journal()).map_err(fault)
}

/// Keeps the content of a file, readable for those who can read the file.
fn keep(path: &Utf8Path, sha256: &str) -> io::Result<()> {
    let Some(file) = content_file(sha256).filter(|file| !file.exists()) else { return Ok(()) };
    let content = fs::read(path)?;
    if files::sha256(&content) != sha256 {
        return Err(io::Error::other("it was changed by something else at the same moment"));
    }
    replace(&file, &content, |new| os::share_as(new, path))
}

fn replace(file: &Utf8Path, content: &[u8], share: impl Fn(&File) -> io::Result<()>) -> io::Result<()> {
    let beside = file.with_extension("new");
    _ = os::remove_file(&beside);
    let mut new = os::new_file(&beside)?;
    new.write_all(content)?;
    share(&new)?;
    new.sync_all()?;
    drop(new);
    os::rename(&beside, file)
}

fn append(line: &KeptLine, is_synced: bool) -> io::Result<()> {
    let mut text = serde_json::to_vec(line)?;
    text.push(b'\n');
    let mut file = os::journal_file(&journal())?;
    file.write_all(&text)?;
    if is_synced { file.sync_all() } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_ones_own_last_state_is_taken_back() {
        let state = |text: &str| PathState::of_file(Some(text.as_bytes()));
        let entry = |number, uid, from: &str, to: &str, done| KeptEntry {
            number,
            uid,
            path: "/etc/hosts".into(),
            from: state(from),
            to: state(to),
            done,
        };
        let path = Utf8Path::new("/etc/hosts");
        let kept = Kept { entries: vec![entry(1, 7, "a", "b", true), entry(2, 8, "b", "c", true)] };
        assert!(kept.takes_back(7, path, &state("b"), 9, &state("a")));
        assert!(!kept.takes_back(7, path, &state("c"), 9, &state("b")), "done for another user");
        assert!(!kept.takes_back(7, path, &state("edited"), 9, &state("a")), "somebody edited it since");
        assert!(!kept.takes_back(7, Utf8Path::new("/etc/shadow"), &state("b"), 9, &state("a")));
        let broken = Kept { entries: vec![entry(1, 7, "a", "b", true), entry(2, 8, "b", "c", false)] };
        assert!(broken.takes_back(8, path, &state("half of c"), 9, &state("b")));
        assert!(!broken.takes_back(7, path, &state("half of c"), 9, &state("b")));
        let later = 2 * LONGEST_WRITE;
        assert!(!broken.takes_back(8, path, &state("root's own"), later, &state("b")), "somebody wrote it later");
    }
}
