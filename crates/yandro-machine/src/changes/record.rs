//! The record of a change set: what it changes, written before anything is changed.
//!
//! One file for each change set in `history/`: a line of JSON, then the pieces of content that
//! it speaks of. Its state is in its name, so that a single rename decides:
//! `ID.begun` until all is done, then `ID.tidying` until what was held is taken
//! away, then `ID.done`.

use std::collections::{BTreeSet, HashSet};
use std::io;

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use yandro_core::{
    Access, Cache, Change, ChangeSet, ChangedLines, FileChange, RightsChange, Role, RowsChange, ServerId, Site,
    SiteChange, SiteList, TrustChange, TrustStore, common_ends, set_site,
};

use crate::caller;
use crate::files::{self, Attributes, FileError, fingerprint, read_if_there, sync_folder_of};
use crate::fresh::random;
use crate::machine::Machine;
use crate::os;

/// The record of a change set from its beginning.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Record {
    /// The format's version.
    version: u32,
    /// Number of the change set.
    pub(crate) id: u64,
    /// A word that no other change set has, of this user or another: part of the names
    /// of temporary files.
    tag: String,
    /// The command, as typed.
    pub(crate) command: String,
    /// When, RFC 3339.
    pub(crate) at: String,
    /// The servers that are reloaded.
    #[serde(default)]
    pub(crate) servers: BTreeSet<ServerId>,
    /// The servers that ran before the change.
    #[serde(default)]
    pub(crate) ran: BTreeSet<ServerId>,
    /// The process that applies it.
    #[serde(default)]
    pub(crate) pid: u32,
    /// The caches that forget their answers.
    #[serde(default)]
    pub(crate) flush: Vec<Cache>,
    /// The trust store of the change.
    #[serde(default)]
    pub(crate) trust: Option<TrustStore>,
    /// The change set that this one takes back.
    pub(crate) undoes: Option<u64>,
    /// The sites as they were and as they are to be, each in the form of the site list.
    sites: Vec<(Option<String>, Option<String>)>,
    /// Fingerprint of the pieces of content; absent in records of version 1.
    #[serde(default)]
    sum: Option<String>,
    /// The steps, in order.
    pub(crate) steps: Vec<RecordedStep>,
    /// The pieces of content that the steps speak of; not part of the JSON.
    #[serde(skip)]
    contents: Vec<u8>,
}

/// A step with the data for its rollback.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct RecordedStep {
    /// Its role; records of versions 1 and 2 don't have it.
    #[serde(default = "unrecorded")]
    pub(crate) role: Role,
    #[serde(flatten)]
    pub(crate) change: RecordedChange,
}

fn unrecorded() -> Role {
    Role::Unrecorded
}

#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub(crate) enum RecordedChange {
    /// A folder that wasn't there.
    Folder {
        path: Utf8PathBuf,
        access: Access,
    },
    /// A file.
    File(RecordedFile),
    /// A link.
    Link {
        path: Utf8PathBuf,
        before: Option<Utf8PathBuf>,
        after: Option<Utf8PathBuf>,
    },
    /// The rights of something.
    Rights(RightsChange),
    Trust(TrustChange),
    /// Rows of a database, kept in a file of their own.
    Rows(RowsChange),
    /// A folder that goes if it is empty, with its own rights.
    EmptyFolder {
        path: Utf8PathBuf,
        mode: Option<u32>,
    },
}

/// A file before and after. Only what differs is kept, between what both begin and end
/// with: a large file costs no more than a small one. Of a secret nothing is kept: the
/// file itself is held next to its place until the change set is done.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct RecordedFile {
    pub(crate) path: Utf8PathBuf,
    pub(crate) access: Access,
    /// How it was, if it was.
    pub(crate) attributes: Option<Attributes>,
    /// Fingerprint of its content; none if there is no file.
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
    /// How many bytes both contents begin with, and end with.
    prefix: usize,
    suffix: usize,
    /// Places of the rest of each in the record.
    old: std::ops::Range<usize>,
    new: std::ops::Range<usize>,
}

impl Record {
    /// Puts down what a change set is going to change.
    pub(crate) fn new(id: u64, at: String, set: &ChangeSet, ran: &[ServerId]) -> Result<Self, FileError> {
        let listed = |site: &Option<Site>| site.as_ref().map(|site| set_site("", site, None));
        let mut record = Self {
            version: 3,
            id,
            tag: format!("{:08x}", u32::from_be_bytes(random())),
            command: set.command.clone(),
            at,
            servers: set.servers.clone(),
            ran: ran.iter().copied().collect(),
            pid: std::process::id(),
            flush: set.flush.clone(),
            trust: set.trust,
            undoes: set.undoes,
            sites: set.sites.iter().map(|change| (listed(&change.before), listed(&change.after))).collect(),
            sum: None,
            steps: Vec::new(),
            contents: Vec::new(),
        };
        let mut made = HashSet::new();
        for step in &set.steps {
            let change = match &step.change {
                Change::Folder { path, access } => {
                    record.missing_folders(&mut made, &step.role, path, *access);
                    continue;
                }
                Change::File(change) => RecordedChange::File(record.file(change)?),
                Change::Rights(change) => RecordedChange::Rights(change.clone()),
                Change::Trust(change) => RecordedChange::Trust(change.clone()),
                Change::Rows(change) => RecordedChange::Rows(change.clone()),
                Change::EmptyFolder { path } => {
                    RecordedChange::EmptyFolder { path: path.clone(), mode: os::folder_rights(path) }
                }
                Change::Link(change) => RecordedChange::Link {
                    path: change.path.clone(),
                    before: change.before.clone(),
                    after: change.after.clone(),
                },
            };
            record.steps.push(RecordedStep { role: step.role.clone(), change });
        }
        record.sum = Some(fingerprint(&record.contents));
        Ok(record)
    }

    /// Keeps what a file's change needs, and says where.
    fn file(&mut self, change: &FileChange) -> Result<RecordedFile, FileError> {
        let before = change.before.as_ref().map(|content| content.as_slice());
        let after = change.after.as_ref().map(|content| content.as_slice());
        let ends = common_ends(before.unwrap_or_default(), after.unwrap_or_default());
        let (prefix, suffix) = with_context(before.or(after).unwrap_or_default(), ends);
        let mut keep = |content: Option<&[u8]>| {
            let start = self.contents.len();
            if change.access != Access::Secret
                && let Some(content) = content
            {
                self.contents.extend_from_slice(&content[prefix..content.len() - suffix]);
            }
            start..self.contents.len()
        };
        let (old, new) = (keep(before), keep(after));
        Ok(RecordedFile {
            path: change.path.clone(),
            access: change.access,
            attributes: before.map(|_| Attributes::of(&change.path)).transpose()?,
            before: before.map(fingerprint),
            after: after.map(fingerprint),
            prefix,
            suffix,
            old,
            new,
        })
    }

    /// The sites that the change set is about.
    pub(crate) fn site_changes(&self) -> Vec<SiteChange> {
        let read = |text: &Option<String>| SiteList::parse(text.as_ref()?, None).ok()?.sites.pop();
        self.sites.iter().map(|(before, after)| SiteChange { before: read(before), after: read(after) }).collect()
    }

    /// Every folder on the way that isn't there yet, the uppermost first.
    fn missing_folders(&mut self, made: &mut HashSet<String>, role: &Role, path: &Utf8Path, access: Access) {
        let missing: Vec<&Utf8Path> = path.ancestors().take_while(|folder| !folder.exists()).collect();
        for folder in missing.into_iter().rev() {
            if made.insert(folder.to_string()) {
                let change = RecordedChange::Folder { path: folder.to_owned(), access };
                self.steps.push(RecordedStep { role: role.clone(), change });
            }
        }
    }

    /// A file's old content, from its new one.
    pub(crate) fn old_content(&self, file: &RecordedFile, new: &[u8]) -> Vec<u8> {
        let end = new.len().saturating_sub(file.suffix).max(file.prefix);
        [&new[..file.prefix.min(new.len())], &self.contents[file.old.clone()], &new[end.min(new.len())..]].concat()
    }

    /// The part of a file that changed, before and after, with the lines around it; `None` for a file
    /// that was made or removed, and for secrets.
    pub(crate) fn changed(&self, file: &RecordedFile) -> Option<(&[u8], &[u8])> {
        if file.before.is_none() || file.after.is_none() || file.access == Access::Secret {
            return None;
        }
        Some((self.contents.get(file.old.clone())?, self.contents.get(file.new.clone())?))
    }

    /// The lines of a file that the change set took out, and those that it brought.
    pub(crate) fn changed_lines(&self, path: &Utf8Path) -> Option<ChangedLines<'_>> {
        let file = self.steps.iter().find_map(|step| match &step.change {
            RecordedChange::File(file) if file.path == path => Some(file),
            _ => None,
        })?;
        let (before, after) = self.changed(file)?;
        Some(yandro_core::changed_lines(before, after))
    }

    /// The content of a file that the change set made; none of one that it changed, nor of a secret.
    pub(crate) fn made_content(&self, file: &RecordedFile) -> Option<&[u8]> {
        // A page in the user's project belongs to the user once it is written.
        let is_made = file.before.is_none() && !matches!(file.access, Access::Secret | Access::Project);
        if is_made { self.contents.get(file.new.clone()) } else { None }
    }

    /// The content of a file that the change set removed.
    pub(crate) fn removed_content(&self, file: &RecordedFile) -> &[u8] {
        self.contents.get(file.old.clone()).unwrap_or_default()
    }

    /// The word in the names of its temporary files.
    pub(crate) fn tag(&self) -> &str {
        &self.tag
    }

    fn path(&self, history: &Utf8Path, state: &str) -> Utf8PathBuf {
        history.join(format!("{:06}.{state}", self.id))
    }

    /// Writes the record and makes sure it is on the disk.
    pub(crate) fn begin(&self, machine: &Machine, history: &Utf8Path) -> Result<(), FileError> {
        let path = self.path(history, "begun");
        let beside = self.path(history, "new");
        let mut bytes = serde_json::to_vec(self).map_err(|error| FileError::at(&path)(error.into()))?;
        bytes.push(b'\n');
        bytes.extend_from_slice(&self.contents);
        machine.write_own(&beside, &path, &bytes)
    }

    /// From here on the change set is done: only removals of what it held are left.
    ///
    /// # Errors
    /// When that can't be made sure of. Then it isn't done, and can be rolled back.
    pub(crate) fn finish(&self, history: &Utf8Path) -> Result<(), FileError> {
        let (begun, tidying) = (self.path(history, "begun"), self.path(history, "tidying"));
        let _rights = caller::rights_for(&begun);
        os::rename(&begun, &tidying).map_err(FileError::at(&begun))?;
        sync_folder_of(&tidying).inspect_err(|_| {
            // The rollback looks for the record by its first name; it removes either.
            _ = os::rename(&tidying, &begun);
        })
    }

    /// Nothing is left to do. Should this get lost, it is only done once more.
    pub(crate) fn close(&self, history: &Utf8Path) {
        let tidying = self.path(history, "tidying");
        let _rights = caller::rights_for(&tidying);
        _ = os::rename(&tidying, &self.path(history, "done"));
    }

    /// Takes the record away: everything is as if it had never been.
    pub(crate) fn forget(&self, history: &Utf8Path) -> Result<(), FileError> {
        let begun = self.path(history, "begun");
        let _rights = caller::rights_for(&begun);
        match os::remove_file(&begun) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let tidying = self.path(history, "tidying");
                os::remove_file(&tidying).map_err(FileError::at(&tidying))?;
            }
            removed => removed.map_err(FileError::at(&begun))?,
        }
        sync_folder_of(&begun)
    }

    /// Keeps a whole old content: its file is about to be written in place, and may be
    /// half from now on.
    pub(crate) fn keep_whole(&self, machine: &Machine, step: usize, old: &[u8]) -> Result<(), FileError> {
        let path = self.whole(&machine.history(), step);
        machine.write_own(&path.with_extension("new"), &path, old)
    }

    /// The whole old content of a file that was being written in place.
    pub(crate) fn kept_whole(&self, history: &Utf8Path, step: usize) -> Result<Option<Vec<u8>>, FileError> {
        read_if_there(&self.whole(history, step))
    }

    /// Takes the whole contents away again.
    pub(crate) fn clear_whole(&self, history: &Utf8Path) {
        for step in 0..self.steps.len() {
            let _rights = caller::rights_for(history);
            // A leftover does no harm: its change set is done.
            _ = os::remove_file(self.whole(history, step));
        }
    }

    fn whole(&self, history: &Utf8Path, step: usize) -> Utf8PathBuf {
        history.join(format!("{:06}.step-{step}", self.id))
    }

    /// Reads a record.
    ///
    /// # Errors
    /// When the file can't be read, or doesn't hold a record.
    pub(crate) fn read(path: &Utf8Path) -> Result<Self, RecordError> {
        let bytes = files::read(path).map_err(RecordError::File)?;
        Self::parse(&bytes).ok_or(RecordError::Damaged)
    }

    fn parse(bytes: &[u8]) -> Option<Self> {
        let end = bytes.iter().position(|&byte| byte == b'\n')?;
        let mut record: Self = serde_json::from_slice(&bytes[..end]).ok()?;
        record.contents = bytes[end + 1..].to_vec();
        let is_whole = record.sum.as_ref().is_none_or(|sum| *sum == fingerprint(&record.contents));
        let has = |range: &std::ops::Range<usize>| record.contents.get(range.clone()).is_some();
        let in_range = record.steps.iter().all(|step| match &step.change {
            RecordedChange::File(file) => has(&file.old) && has(&file.new),
            _ => true,
        });
        (is_whole && in_range).then_some(record)
    }
}

/// How many bytes around a difference are kept: by these lines a change is found again in a file that has
/// other changes since.
const CONTEXT: usize = 2048;

/// The lengths of the common start and end of two contents, less some lines of context; `text` is one of them.
fn with_context(text: &[u8], (prefix, suffix): (usize, usize)) -> (usize, usize) {
    let start = prefix.saturating_sub(CONTEXT);
    let line_start = memrchr(&text[..start]).map_or(0, |end| end + 1);
    let tail = &text[text.len() - suffix..];
    let after = CONTEXT.min(tail.len());
    let line_end = tail[after..].iter().position(|byte| *byte == b'\n').map_or(tail.len(), |end| after + end + 1);
    (line_start, tail.len() - line_end)
}

/// The place of the last line feed.
fn memrchr(text: &[u8]) -> Option<usize> {
    text.iter().rposition(|byte| *byte == b'\n')
}

/// Why a record is of no use.
#[derive(Debug)]
pub(crate) enum RecordError {
    /// Its file can't be read.
    File(FileError),
    /// Its file holds something else.
    Damaged,
}
