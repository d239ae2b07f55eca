//! Doing the steps of a change set, and tidying up after them.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Access, Change, ChangeSet, FileChange, Phase, RowsChange, Step};

use super::hands::Hands;
use super::record::{Record, RecordedChange, RecordedFile};
use super::side_by_side::Parted;
use crate::caller;
use crate::database::{self, DatabaseError};
use crate::files::{self, Attributes, FileError};
use crate::interrupt;
use crate::machine::Machine;
use crate::os;
use crate::permissions;

/// Why the steps were not all done.
pub(super) enum Stopped {
    File(FileError),
    Database(DatabaseError),
    Interrupted,
}

impl From<FileError> for Stopped {
    fn from(error: FileError) -> Self {
        Self::File(error)
    }
}

/// A step, or a folder that one needs.
#[derive(Clone, Copy)]
pub(super) enum Task<'w> {
    Folder { path: &'w Utf8Path, access: Access },
    Step { step: &'w Step, number: usize },
}

impl Task<'_> {
    fn phase(&self) -> Phase {
        match self {
            Self::Folder { .. } => Phase::BeforeReload,
            Self::Step { step, .. } => step.phase(),
        }
    }
}

/// A change set that is being applied, with its record.
pub(super) struct StepsWork<'w> {
    pub(super) machine: &'w Machine,
    pub(super) hands: &'w Hands<'w>,
    pub(super) record: &'w Record,
    pub(super) set: &'w ChangeSet,
}

impl StepsWork<'_> {
    /// Does the steps of one phase.
    pub(super) fn do_steps(&self, phase: Phase) -> Result<(), Stopped> {
        // The folders come from the record, which knows the missing ones above; each comes
        // before whatever goes into it.
        let mut planned = self.set.steps.iter().filter(|step| !matches!(step.change, Change::Folder { .. }));
        let tasks = self.record.steps.iter().enumerate().map(|(number, recorded)| match &recorded.change {
            RecordedChange::Folder { path, access } => Task::Folder { path, access: *access },
            _ => Task::Step { step: planned.next().expect("the record has one step for each planned one"), number },
        });
        let tasks = tasks.filter(|task| task.phase() == phase).collect();
        let Parted { above, certificates, others } = Parted::of(tasks, self.machine);
        self.do_tasks(&above)?;
        self.change_certificates(&certificates)?;
        self.do_tasks(&others)
    }

    /// Does these one after the other.
    fn do_tasks(&self, tasks: &[Task<'_>]) -> Result<(), Stopped> {
        for task in tasks {
            if interrupt::came() {
                return Err(Stopped::Interrupted);
            }
            match task {
                Task::Folder { path, access } => make_folder(self.machine, path, *access)?,
                Task::Step { step: Step { change: Change::Rows(change), .. }, number } => {
                    self.change_rows(change, *number)?;
                }
                Task::Step { step, number } => self.do_step(step, *number)?,
            }
        }
        Ok(())
    }

    fn do_step(&self, step: &Step, number: usize) -> Result<(), FileError> {
        let _rights = caller::rights_for(step.path());
        match &step.change {
            Change::File(change) => self.write_file(change, || keep_before(self.machine, self.record, change, number)),
            Change::Link(change) => self.hands.set_link(&change.path, change.after.as_deref(), self.record.tag()),
            Change::Rights(change) => permissions::set_rights(&change.path, &change.after),
            Change::Trust(change) => self.hands.trust(self.machine, change),
            // A folder that somebody has put something into stays.
            Change::EmptyFolder { path } => {
                _ = os::remove_folder(files::follow_folder(path));
                Ok(())
            }
            Change::Folder { .. } | Change::Rows(_) => Ok(()),
        }
    }

    /// Changes rows; a mark tells a rollback that some may have changed.
    fn change_rows(&self, change: &RowsChange, number: usize) -> Result<(), Stopped> {
        let mark = || self.record.keep_whole(self.machine, number, b"");
        database::carry_out(self.machine, change, change.after, mark).map_err(Stopped::Database)
    }

    fn write_file(&self, change: &FileChange, mark: impl Fn() -> Result<(), FileError>) -> Result<(), FileError> {
        let path = &change.path;
        if change.access == Access::Secret && change.before.is_some() {
            hold(change, self.record)?;
            files::sync_folder_of(path)?;
        }
        let Some(content) = &change.after else {
            return if change.access == Access::Secret { Ok(()) } else { self.hands.remove(path, self.record.tag()) };
        };
        let attributes = attributes_for(self.machine, change);
        self.hands.write(path, content, &attributes, self.record.tag(), mark)
    }
}

/// The attributes of a file that is written: its own, or those of a new one.
pub(super) fn attributes_for(machine: &Machine, change: &FileChange) -> Attributes {
    Attributes::of(&change.path).unwrap_or_else(|_| machine.attributes_of_new(&change.path, change.access))
}

/// Keeps the whole old content of a file, before it is written in place.
pub(super) fn keep_before(
    machine: &Machine,
    record: &Record,
    change: &FileChange,
    number: usize,
) -> Result<(), FileError> {
    let before = change.before.as_deref().map_or(&[][..], Vec::as_slice);
    record.keep_whole(machine, number, before)
}

pub(super) fn make_folder(machine: &Machine, path: &Utf8Path, access: Access) -> Result<(), FileError> {
    let _rights = caller::rights_for(path);
    make_unsafe_folder(machine, path, access)?;
    files::sync_folder_of(path)
}

/// The same without making sure that it is on the disk.
pub(super) fn make_unsafe_folder(machine: &Machine, path: &Utf8Path, access: Access) -> Result<(), FileError> {
    let _rights = caller::rights_for(path);
    let path = &files::follow_folder(path);
    match os::make_folder(path, access) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(FileError::at(path)(error)),
        _ => {}
    }
    if access == Access::Project {
        machine.give_project(path)?;
    } else {
        machine.give_to_keeper(path)?;
    }
    Ok(())
}

/// Keeps the old content of a secret file until the change set is done. The caller syncs its folder.
pub(super) fn hold(change: &FileChange, record: &Record) -> Result<(), FileError> {
    let (path, held) = (&change.path, held(&change.path, record));
    // A second name first: during the replacement there is always a key.
    if change.after.is_some() && os::hard_link(path, &held).is_ok() {
        return Ok(());
    }
    os::rename(path, &held).map_err(FileError::at(path))
}

/// The place where a secret file is held until the change set is done: records never hold its content.
pub(super) fn held(path: &Utf8Path, record: &Record) -> Utf8PathBuf {
    files::temporary(path, &format!("held-{}", record.tag()))
}

/// Removes what is left once a change set is done: secrets that were held, temporary files,
/// empty folders. If something can't be removed, the next command tries again.
pub(super) fn clean_up(machine: &Machine, record: &Record, history: &Utf8Path) {
    let mut is_clean = true;
    for step in &record.steps {
        let RecordedChange::File(RecordedFile { path, access, after, .. }) = &step.change else { continue };
        let _rights = caller::rights_for(path);
        if *access == Access::Secret {
            is_clean &= unless_gone(os::remove_file(held(path, record))).is_ok();
        }
        // A file that was removed had no temporary file.
        if after.is_some()
            && let Ok(real) = files::follow(path)
        {
            is_clean &= unless_gone(os::remove_file(files::temporary(&real, record.tag()))).is_ok();
        }
        // A folder of yandro's own goes with its last file; up to the first that isn't empty.
        if after.is_none() && machine.is_keepers(path) {
            let is_below = |folder: &&Utf8Path| machine.is_keepers(folder) && **folder != machine.places.data;
            let mut folders = path.ancestors().skip(1).take_while(is_below);
            _ = folders.try_for_each(|folder| unless_gone(os::remove_folder(folder)));
        }
    }
    if is_clean {
        record.clear_whole(history);
        record.close(history);
    }
}

/// A file that is gone already needs no removal.
fn unless_gone(removed: std::io::Result<()>) -> std::io::Result<()> {
    removed.or_else(|error| if error.kind() == std::io::ErrorKind::NotFound { Ok(()) } else { Err(error) })
}
