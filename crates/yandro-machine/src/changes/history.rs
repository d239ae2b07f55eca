//! The change sets so far.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, Change, DoneStep, FileChange, LinkChange, Role, SiteChange, Step, reversed as reversed_text,
};

use super::record::{Record, RecordError, RecordedChange, RecordedFile, RecordedStep};
use super::records;
use crate::caller;
use crate::database;
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::os;
use crate::permissions;
use crate::trust::stores;

/// A change set of the history.
#[derive(Clone, Debug)]
pub struct HistoryEntry {
    /// Its number.
    pub id: u64,
    /// Time of the change, RFC 3339.
    pub at: String,
    /// The command, as typed.
    pub command: String,
    /// The paths that it changed.
    pub paths: Vec<Utf8PathBuf>,
    /// The change set that it took back.
    pub undoes: Option<u64>,
    /// The change set that took it back and was not itself taken back.
    pub undone_by: Option<u64>,
    /// The sites that it was about.
    pub sites: Vec<SiteChange>,
}

/// All applied change sets, the oldest first, and the records that can't be read.
#[derive(Clone, Debug, Default)]
pub struct History {
    /// The change sets.
    pub entries: Vec<HistoryEntry>,
    /// The files of damaged records.
    pub damaged: Vec<Utf8PathBuf>,
}

/// Reads the history.
pub fn history(machine: &Machine) -> History {
    let mut entries: Vec<HistoryEntry> = Vec::new();
    let mut damaged = Vec::new();
    for path in records::records(&machine.history(), "done") {
        let Ok(record) = Record::read(&path) else {
            damaged.push(path);
            continue;
        };
        let paths = record
            .steps
            .iter()
            .filter(|step| !matches!(step.role, Role::AppliedSites | Role::ProjectConsent | Role::Marker));
        let paths = paths.map(|step| step.path().to_owned()).collect();
        let sites = record.site_changes();
        let Record { id, at, command, undoes, .. } = record;
        entries.push(HistoryEntry { id, at, command, paths, undoes, undone_by: None, sites });
    }
    // An undo that was itself undone undoes nothing: the newest decide first.
    for place in (0..entries.len()).rev() {
        let (id, undoes, undone) = (entries[place].id, entries[place].undoes, entries[place].undone_by.is_some());
        if !undone
            && let Some(target) = undoes
            && let Some(entry) = entries.iter_mut().find(|entry| entry.id == target)
        {
            entry.undone_by = Some(id);
        }
    }
    History { entries, damaged }
}

/// The steps of a change set with the present state of their paths, in the order in which they are
/// taken back; `None` if there is no such change set.
///
/// # Errors
/// When a record or one of the files can't be read.
pub fn done_steps(machine: &Machine, id: u64) -> Result<Option<Vec<DoneStep>>, FileError> {
    let history = machine.history();
    let Some(path) = records::records(&history, "done").into_iter().find(|path| records::number(path) == Some(id))
    else {
        return Ok(None);
    };
    let record = match Record::read(&path) {
        Ok(record) => record,
        Err(RecordError::File(error)) => return Err(error),
        Err(RecordError::Damaged) => return Ok(None),
    };
    record.steps.iter().rev().map(|step| done_step(machine, &record, step)).collect::<Result<_, _>>().map(Some)
}

/// What changes that stand have made of these roles and that is still as they left it: what takes each back, the last
/// one first.
///
/// # Errors
/// When a record or one of the files can't be read.
pub fn standing(machine: &Machine, is_meant: impl Fn(&Role) -> bool) -> Result<Vec<Step>, FileError> {
    let mut found: Vec<Step> = Vec::new();
    for entry in history(machine).entries.iter().rev().filter(|entry| entry.stands()) {
        for step in done_steps(machine, entry.id)?.unwrap_or_default() {
            if let DoneStep::Untouched(step) = step
                && is_meant(&step.role)
                && found.iter().all(|own| own.path() != step.path())
            {
                found.push(step);
            }
        }
    }
    Ok(found)
}

fn done_step(machine: &Machine, record: &Record, step: &RecordedStep) -> Result<DoneStep, FileError> {
    let untouched = |change: Change| DoneStep::Untouched(Step { role: step.role.clone(), change });
    let done = match &step.change {
        RecordedChange::Folder { path, access } => Some(Change::Folder { path: path.clone(), access: *access }),
        RecordedChange::Link { path, before, after } => {
            let is_as_left = files::read_link_if_there(path).ok().flatten() == *after;
            let change = LinkChange { path: path.clone(), before: before.clone(), after: after.clone() };
            is_as_left.then(|| Change::Link(change.inverse()))
        }
        RecordedChange::File(file) => return done_file(record, &step.role, file),
        RecordedChange::EmptyFolder { .. } => None,
        RecordedChange::Trust(change) => {
            let is_as_left = stores::is_trusted(machine, change).is_ok_and(|now| now == change.after);
            is_as_left.then(|| Change::Trust(change.clone().inverse()))
        }
        RecordedChange::Rows(change) => database::is_there(change).then(|| Change::Rows(change.clone().inverse())),
        RecordedChange::Rights(change) => {
            let is_as_left = permissions::rights_of(&change.path).is_ok_and(|now| now == change.after);
            is_as_left.then(|| Change::Rights(change.clone().inverse()))
        }
    };
    Ok(done.map_or_else(|| edited(&step.role, step.path()), untouched))
}

fn edited(role: &Role, path: &Utf8Path) -> DoneStep {
    DoneStep::Edited { role: role.clone(), path: path.to_owned(), made: None, part_before: None, reversed: None }
}

/// The later change, not undone, that changed a file's lines again after this one did.
pub fn overlapped_by(machine: &Machine, id: u64, path: &Utf8Path) -> Option<u64> {
    let records = records::records(&machine.history(), "done");
    let read = |id: u64| Record::read(records.iter().find(|path| records::number(path) == Some(id))?).ok();
    let first = read(id)?;
    let brought = first.changed_lines(path)?.brought;
    let later = history(machine).entries.into_iter().filter(|entry| entry.id > id && entry.stands());
    later.map(|entry| entry.id).find(|later| {
        let later = read(*later);
        let taken = later.as_ref().and_then(|later| later.changed_lines(path));
        taken.is_some_and(|lines| lines.gone.iter().any(|line| brought.contains(line)))
    })
}

impl HistoryEntry {
    /// Whether it was not taken back, and takes nothing back itself.
    pub fn stands(&self) -> bool {
        self.undone_by.is_none() && self.undoes.is_none()
    }
}

fn done_file(record: &Record, role: &Role, file: &RecordedFile) -> Result<DoneStep, FileError> {
    let now = files::read_if_there(&file.path)?;
    let is_untouched = now.as_deref().map(files::fingerprint) == file.after;
    // A secret that was replaced or removed is gone for good.
    if !is_untouched || (file.access == Access::Secret && file.before.is_some()) {
        let reversed = now.as_deref().and_then(|now| Some((now, record.changed(file)?)));
        let reversed = reversed.and_then(|(now, (before, after))| Some((now, reversed_text(now, before, after)?)));
        let (path, access) = (file.path.clone(), file.access);
        return Ok(DoneStep::Edited {
            role: role.clone(),
            path: path.clone(),
            made: if now.is_some() { record.made_content(file).map(<[u8]>::to_vec) } else { None },
            part_before: record.changed(file).map(|(before, _)| before.to_vec()),
            reversed: reversed.map(|(now, text)| FileChange {
                path,
                before: Some(now.to_vec().into()),
                after: Some(text.into()),
                access,
            }),
        });
    }
    let old = match (&file.before, &now) {
        (None, _) => None,
        (Some(_), Some(now)) => Some(record.old_content(file, now)),
        (Some(_), None) => Some(record.removed_content(file).to_vec()),
    };
    let (before, after) = (now.map(Into::into), old.map(Into::into));
    let change = FileChange { path: file.path.clone(), before, after, access: file.access };
    Ok(DoneStep::Untouched(Step { role: role.clone(), change: Change::File(change) }))
}

/// How much of the history is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keep {
    /// The most change sets.
    pub number: usize,
    /// The most days.
    pub days: u32,
}

/// Removes the records that are beyond what is kept. `now` is in seconds since 1970. Those of hand-written sites that were
/// taken over stay, since nothing else has their text.
///
/// Never fails: what can't be removed now is removed another time.
pub fn prune(machine: &Machine, keep: Keep, now: i64) {
    let mut records = records::records(&machine.history(), "done");
    let newest = records.split_off(records.len().saturating_sub(keep.number));
    // A clock that is wrong must not take the whole history.
    let by_age = newest.len().saturating_sub(ALWAYS_KEPT);
    let _rights = caller::rights_for(&machine.history());
    let oldest = now - i64::from(keep.days) * 86_400;
    let is_old = |path: &Utf8PathBuf| written(path).is_some_and(|at| at < oldest);
    let by_age = newest.into_iter().take(by_age).filter(is_old);
    let mut is_pruned = false;
    for path in records.into_iter().chain(by_age).filter(|path| !has_hand_written(path)) {
        _ = os::remove_file(path);
        is_pruned = true;
    }
    if is_pruned {
        database::remove_unrecorded(machine);
    }
}

/// The files of rows that records speak of, finished or not.
pub(crate) fn recorded_rows(machine: &Machine) -> Vec<Utf8PathBuf> {
    let history = machine.history();
    let states = ["done", "begun", "tidying"].into_iter().flat_map(|state| records::records(&history, state));
    let steps = states.filter_map(|path| Record::read(&path).ok()).flat_map(|record| record.steps);
    let rows = steps.filter_map(|step| match step.change {
        RecordedChange::Rows(change) => Some(change.rows_file),
        _ => None,
    });
    rows.collect()
}

/// Whether a record has the text of a hand-written site. One that can't be read doesn't count.
fn has_hand_written(path: &Utf8Path) -> bool {
    Record::read(path).is_ok_and(|record| record.steps.iter().any(|step| step.role == Role::HandWritten))
}

/// How many of the newest records are kept, however old they seem.
const ALWAYS_KEPT: usize = 50;

/// When a record was written, in seconds since 1970.
fn written(path: &Utf8Path) -> Option<i64> {
    let since = path.metadata().ok()?.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_secs()).ok()
}

impl RecordedStep {
    /// The path that it changes.
    pub(super) fn path(&self) -> &Utf8Path {
        match &self.change {
            RecordedChange::Folder { path, .. }
            | RecordedChange::Link { path, .. }
            | RecordedChange::EmptyFolder { path, .. } => path,
            RecordedChange::File(file) => &file.path,
            RecordedChange::Rights(change) => &change.path,
            RecordedChange::Trust(change) => &change.store,
            RecordedChange::Rows(change) => &change.rows_file,
        }
    }
}
