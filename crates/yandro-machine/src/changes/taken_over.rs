//! Hand-written sites that yandro took over, as their user wrote them.

use std::collections::{BTreeMap, BTreeSet};

use camino::Utf8PathBuf;
use yandro_core::{
    Access, Change, ChangeSet, FileChange, LinkChange, Places, Role, ServerId, Step, reversed as reversed_text,
    with_own_hosts_lines, with_removed_lines,
};

use super::history::history;
use super::record::{Record, RecordedChange, RecordedFile};
use super::records;
use crate::files::{self, FileError, fingerprint};
use crate::machine::Machine;

/// The parts of hand-written sites that `yandro adopt` took over and that are not undone.
#[derive(Debug, Default)]
pub struct TakenOver {
    /// The steps that restore their files and links.
    pub steps: Vec<Step>,
    /// The servers that read those files.
    pub servers: BTreeSet<ServerId>,
    /// Each change of the hosts file, before and after, the last one first.
    hosts: Vec<(Vec<u8>, Vec<u8>)>,
}

impl TakenOver {
    /// Reads the history. What `planned` is going to write into one of the files is kept.
    ///
    /// # Errors
    /// When one of the files can't be read.
    pub fn of(machine: &Machine, planned: &ChangeSet) -> Result<Self, FileError> {
        let paths = records::records(&machine.history(), "done");
        let mut all = Self::default();
        let mut texts: BTreeMap<Utf8PathBuf, Text> = BTreeMap::new();
        for entry in history(machine).entries.iter().rev().filter(|entry| entry.stands()) {
            let path = paths.iter().find(|path| records::number(path) == Some(entry.id));
            let Some(record) = path.and_then(|path| Record::read(path).ok()) else { continue };
            if record.steps.iter().any(|step| step.role == Role::HandWritten) {
                all.read(&record, &machine.places, planned, &mut texts)?;
            }
        }
        let files = texts.into_iter().filter(|(_, text)| text.planned != text.then);
        all.steps.extend(files.map(|(path, Text { now, then, access, .. })| {
            let (before, after) = (now.map(Into::into), then.map(Into::into));
            Step { role: Role::HandWritten, change: Change::File(FileChange { path, before, after, access }) }
        }));
        Ok(all)
    }

    fn read(
        &mut self,
        record: &Record,
        Places { hosts, list, .. }: &Places,
        planned: &ChangeSet,
        texts: &mut BTreeMap<Utf8PathBuf, Text>,
    ) -> Result<(), FileError> {
        self.servers.extend(&record.servers);
        for step in record.steps.iter().rev() {
            match &step.change {
                RecordedChange::File(file) if step.role == Role::HandWritten => {
                    if !texts.contains_key(&file.path) {
                        let now = files::read_if_there(&file.path)?;
                        let planned = planned
                            .change_of(&file.path)
                            .map_or_else(|| now.clone(), |change| change.after.as_ref().map(|after| after.to_vec()));
                        let text = Text { then: planned.clone(), planned, now, access: file.access };
                        texts.insert(file.path.clone(), text);
                    }
                    texts.entry(file.path.clone()).and_modify(|text| text.go_back(record, file));
                }
                RecordedChange::File(file) if file.path == *hosts => {
                    // Only what is outside yandro's own block was written by hand.
                    let by_hand = |text| with_own_hosts_lines(text, list, &[]).ok();
                    let changed = record.changed(file);
                    self.hosts.extend(changed.and_then(|(before, after)| by_hand(before).zip(by_hand(after))));
                }
                RecordedChange::Link { path, before, after: None }
                    if step.role == Role::HandWritten && path.symlink_metadata().is_err() =>
                {
                    let change = LinkChange { path: path.clone(), before: None, after: before.clone() };
                    self.steps.push(Step { role: Role::HandWritten, change: Change::Link(change) });
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// A hosts file with the lines back that were taken over.
    pub fn with_hosts_lines(&self, text: &[u8]) -> Vec<u8> {
        self.hosts.iter().fold(text.to_vec(), |text, (before, after)| with_removed_lines(&text, before, after))
    }
}

/// A file now, as it is going to be, and with the sites that yandro took out of it.
struct Text {
    now: Option<Vec<u8>>,
    planned: Option<Vec<u8>>,
    then: Option<Vec<u8>>,
    access: Access,
}

impl Text {
    /// Reverts one change. The text stays where it was edited since in the same lines.
    fn go_back(&mut self, record: &Record, file: &RecordedFile) {
        let is_as_left = self.then.as_deref().map(fingerprint) == file.after;
        self.then = match (self.then.take(), &file.before) {
            (Some(text), Some(_)) if is_as_left => Some(record.old_content(file, &text)),
            (None, Some(_)) if is_as_left => Some(record.removed_content(file).to_vec()),
            (Some(text), Some(_)) => {
                let reverted = record.changed(file).and_then(|(before, after)| reversed_text(&text, before, after));
                Some(reverted.unwrap_or(text))
            }
            (text, _) => text,
        };
    }
}
