//! The record of a change set: what was there before, written before anything is changed.
//!
//! One file a change set in `history/`: a line of JSON, then the old contents one
//! behind the other. Its state is in its name, so that a single rename decides:
//! `ID.begun` until all is done, then `ID.tidying` until what was held is taken
//! away, then `ID.done`.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use yandro_core::plan::{Access, ChangeSet, Step};
use yandro_core::site::ServerKind;

use crate::files::{Attributes, FileError, sha256, sync_folder_of};

/// What is known of a change set once it is begun.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Record {
    /// The format's version.
    version: u32,
    /// Number of the change set.
    pub(crate) id: u32,
    /// The command, as typed.
    pub(crate) command: String,
    /// When, RFC 3339.
    pub(crate) at: String,
    /// The server that is reloaded.
    pub(crate) server: Option<ServerKind>,
    /// The steps, in order.
    pub(crate) steps: Vec<RecordedStep>,
    /// The old contents, in the order of the steps; not part of the JSON.
    #[serde(skip)]
    contents: Vec<u8>,
}

/// One step with what it takes to put it back.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub(crate) enum RecordedStep {
    /// A folder that wasn't there.
    Folder { path: Utf8PathBuf, access: Access },
    /// A file.
    File { path: Utf8PathBuf, access: Access, before: Option<OldFile>, after: Option<String> },
    /// A link.
    Link { path: Utf8PathBuf, before: Option<Utf8PathBuf>, after: Option<Utf8PathBuf> },
}

/// A file as it was.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct OldFile {
    pub(crate) attributes: Attributes,
    /// Where its content stands in the record; of a secret none is kept: the
    /// file itself is held beside its place until the change set is done.
    start: usize,
    end: usize,
}

impl Record {
    /// Puts down what a change set is going to change.
    pub(crate) fn new(id: u32, at: String, set: &ChangeSet) -> Result<Self, FileError> {
        let mut record = Self {
            version: 1,
            id,
            command: set.command.clone(),
            at,
            server: set.server,
            steps: Vec::new(),
            contents: Vec::new(),
        };
        for step in &set.steps {
            match step {
                Step::Folder { path, access } => record.missing_folders(path, *access),
                Step::File(change) => {
                    let before = match &change.before {
                        Some(content) => {
                            let start = record.contents.len();
                            if change.access != Access::Secret {
                                record.contents.extend_from_slice(content);
                            }
                            let end = record.contents.len();
                            Some(OldFile { attributes: Attributes::of(&change.path)?, start, end })
                        }
                        None => None,
                    };
                    let after = change.after.as_deref().map(sha256);
                    record.steps.push(RecordedStep::File {
                        path: change.path.clone(),
                        access: change.access,
                        before,
                        after,
                    });
                }
                Step::Link(change) => record.steps.push(RecordedStep::Link {
                    path: change.path.clone(),
                    before: change.before.clone(),
                    after: change.after.clone(),
                }),
            }
        }
        Ok(record)
    }

    /// Every folder on the way that isn't there yet, the uppermost first.
    fn missing_folders(&mut self, path: &Utf8Path, access: Access) {
        let missing: Vec<&Utf8Path> = path.ancestors().take_while(|folder| !folder.exists()).collect();
        for folder in missing.into_iter().rev() {
            let is_known =
                self.steps.iter().any(|step| matches!(step, RecordedStep::Folder { path, .. } if path == folder));
            if !is_known {
                self.steps.push(RecordedStep::Folder { path: folder.to_owned(), access });
            }
        }
    }

    /// The old content of a file.
    pub(crate) fn content(&self, old: &OldFile) -> &[u8] {
        self.contents.get(old.start..old.end).unwrap_or_default()
    }

    /// A short word that no other change set has: part of temporary file names.
    pub(crate) fn tag(&self) -> String {
        format!("{:06}", self.id)
    }

    fn path(&self, history: &Utf8Path, state: &str) -> Utf8PathBuf {
        history.join(format!("{}.{state}", self.tag()))
    }

    /// Writes the record and makes sure it is on the disk.
    pub(crate) fn begin(&self, history: &Utf8Path) -> Result<(), FileError> {
        let path = self.path(history, "begun");
        let beside = self.path(history, "new");
        let written = (|| {
            let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&beside)?;
            serde_json::to_writer(&mut file, self)?;
            file.write_all(b"\n")?;
            file.write_all(&self.contents)?;
            file.sync_all()?;
            fs::rename(&beside, &path)
        })();
        written.map_err(FileError::at(&path))?;
        sync_folder_of(&path)
    }

    /// From here on the change set is done: only removals of what it held are left.
    pub(crate) fn finish(&self, history: &Utf8Path) -> Result<(), FileError> {
        let (begun, tidying) = (self.path(history, "begun"), self.path(history, "tidying"));
        fs::rename(&begun, &tidying).map_err(FileError::at(&begun))?;
        sync_folder_of(&tidying)
    }

    /// Nothing is left to do. Should this get lost, it is only done once more.
    pub(crate) fn close(&self, history: &Utf8Path) {
        _ = fs::rename(self.path(history, "tidying"), self.path(history, "done"));
    }

    /// Takes the record away: everything is as if it had never been.
    pub(crate) fn forget(&self, history: &Utf8Path) -> Result<(), FileError> {
        let begun = self.path(history, "begun");
        fs::remove_file(&begun).map_err(FileError::at(&begun))?;
        sync_folder_of(&begun)
    }

    /// Marks that a file is about to be written in place, and may be half from now on.
    pub(crate) fn mark_in_place(&self, history: &Utf8Path, step: usize) -> Result<(), FileError> {
        let path = self.in_place_mark(history, step);
        OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(false)
            .mode(0o600)
            .open(&path)
            .map_err(FileError::at(&path))?;
        sync_folder_of(&path)
    }

    /// Whether a file was being written in place.
    pub(crate) fn was_in_place(&self, history: &Utf8Path, step: usize) -> bool {
        self.in_place_mark(history, step).exists()
    }

    /// Takes the marks of writes in place away.
    pub(crate) fn clear_marks(&self, history: &Utf8Path) {
        for step in 0..self.steps.len() {
            // A mark that stays behind does no harm: its change set is done.
            _ = fs::remove_file(self.in_place_mark(history, step));
        }
    }

    fn in_place_mark(&self, history: &Utf8Path, step: usize) -> Utf8PathBuf {
        history.join(format!("{}.in-place-{step}", self.tag()))
    }

    /// Reads a record.
    pub(crate) fn read(path: &Utf8Path) -> Result<Self, FileError> {
        let bytes = fs::read(path).map_err(FileError::at(path))?;
        let end = bytes.iter().position(|&byte| byte == b'\n').unwrap_or(bytes.len());
        let mut record: Self =
            serde_json::from_slice(&bytes[..end]).map_err(|error| FileError::at(path)(io::Error::other(error)))?;
        record.contents = bytes[(end + 1).min(bytes.len())..].to_vec();
        Ok(record)
    }
}

/// The records in `history` of one state, the oldest first.
pub(crate) fn records(history: &Utf8Path, state: &str) -> Vec<Utf8PathBuf> {
    let mut found: Vec<Utf8PathBuf> = history
        .read_dir_utf8()
        .into_iter()
        .flatten()
        .filter_map(|entry| Some(entry.ok()?.into_path()))
        .filter(|path| path.extension() == Some(state))
        .collect();
    found.sort();
    found
}

/// The number of the next change set.
pub(crate) fn next_id(history: &Utf8Path) -> u32 {
    let numbers = history
        .read_dir_utf8()
        .into_iter()
        .flatten()
        .filter_map(|entry| entry.ok()?.file_name().split('.').next()?.parse::<u32>().ok());
    numbers.max().unwrap_or(0) + 1
}

/// Makes the folder of the history, for its owner alone.
pub(crate) fn make_folder(history: &Utf8Path) -> Result<(), FileError> {
    fs::DirBuilder::new().recursive(true).mode(0o700).create(history).map_err(FileError::at(history))
}
