//! Doing the steps.

use std::fs;
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::plan::{Access, ChangeSet, FileChange, Step};
use yandro_core::site::ServerId;
use yandro_core::system::Cache;

use super::hands::{Escalate, Hands, Helped, by_need, may_change, may_write};
use super::lock::Lock;
use super::originals;
use super::put_back::{PutBackError, put_back};
use super::record::{self, Record, RecordedFile, RecordedStep};
use crate::files::{self, Attributes, FileError};
use crate::machine::Machine;
use crate::permissions;
use crate::trust::stores;

/// A server's own test of its configuration, and its reload.
pub trait ServerControl {
    /// Lets the server judge its configuration.
    ///
    /// # Errors
    /// The server's own words.
    fn test(&self) -> Result<(), String>;

    /// Reloads the server without cutting connections, or starts it if it isn't running.
    ///
    /// # Errors
    /// The words of the program that failed.
    fn bring_up(&self) -> Result<BroughtUp, String>;

    /// Whether it runs.
    fn is_running(&self) -> bool;

    /// Whether this user may not do that.
    fn needs_root(&self) -> bool {
        !rustix::process::geteuid().is_root()
    }
}

/// The control of servers by their kind.
pub type Controls<'c> = [(ServerId, &'c dyn ServerControl)];

/// What a server needed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case", tag = "how")]
pub enum BroughtUp {
    /// It ran, and was reloaded.
    Reloaded,
    /// It didn't run, and was started.
    Started,
    /// Nobody named a command that has it take its configuration up.
    Untold,
}

/// What was done beside the steps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CarriedOut {
    /// What each server needed that was asked.
    pub brought_up: Vec<(ServerId, BroughtUp)>,
    /// The caches that didn't forget, with the words of the program that failed.
    pub unflushed: Vec<(Cache, String)>,
}

/// Why a change set was not carried out.
#[derive(Debug)]
pub enum CarryOutError<E> {
    /// This user may not do all of it. Nothing was changed.
    NotPermitted {
        /// What may not be written.
        paths: Vec<Utf8PathBuf>,
        /// Whether the server may not be tested and reloaded, either.
        server: bool,
    },
    /// This was changed by somebody else since it was read. Nothing was changed.
    ChangedMeanwhile(Utf8PathBuf),
    /// A step failed, and what had been done was put back, or not.
    Failed {
        /// What failed.
        cause: Cause<E>,
        /// Whether everything is as it was.
        put_back: Result<(), PutBackError>,
    },
}

/// What failed.
#[derive(Debug)]
pub enum Cause<E> {
    /// A file operation.
    File(FileError),
    /// The server refused its configuration, in its own words.
    Test(String),
    /// It refused it before anything was changed, too.
    BrokenBefore(String),
    /// The server was not reloaded or started, in its own words.
    BringUp(String),
    /// The trust store was not brought up to date, in the program's own words.
    Trust(String),
    /// The proof.
    Proof(E),
}

/// Carries a change set out: record, steps, the server's test, its reload, the proof.
///
/// The caller holds the lock from before it observed the machine.
///
/// # Errors
/// A [`CarryOutError`]; in every case but a failed put-back, everything is as it was.
pub fn carry_out<E>(
    machine: &Machine,
    _lock: &Lock,
    set: &ChangeSet,
    servers: &Controls<'_>,
    escalate: &dyn Escalate,
    at: String,
    prove: impl FnOnce() -> Result<(), E>,
) -> Result<CarriedOut, CarryOutError<E>> {
    for step in &set.steps {
        if !is_as_observed(machine, step) {
            return Err(CarryOutError::ChangedMeanwhile(step.path().to_owned()));
        }
    }
    if set.is_empty() {
        return prove()
            .map(|()| CarriedOut::default())
            .map_err(|seen| CarryOutError::Failed { cause: Cause::Proof(seen), put_back: Ok(()) });
    }
    let hands = Hands::new(escalate);
    let forbidden = forbidden(set);
    let controls: Vec<_> = servers.iter().filter(|(kind, _)| set.servers.contains(kind)).copied().collect();
    let needs_root = controls.iter().any(|(_, server)| server.needs_root());
    let others = others_rights(set);
    if !others.is_empty() {
        return Err(CarryOutError::NotPermitted { paths: others, server: false });
    }
    if (!forbidden.is_empty() || needs_root) && !hands.prepare(&forbidden, needs_root) {
        return Err(CarryOutError::NotPermitted { paths: forbidden, server: needs_root });
    }
    let were_running: Vec<ServerId> =
        controls.iter().filter(|(_, server)| server.is_running()).map(|(kind, _)| *kind).collect();
    let helped: Vec<Helped<'_, '_>> = controls.iter().map(|(kind, own)| hands.helped(*kind, *own)).collect();
    let controls = by_need(&controls, &helped);
    let history = machine.history();
    let untouched = |error| CarryOutError::Failed { cause: Cause::File(error), put_back: Ok(()) };
    machine.make_own_folder(&history).map_err(untouched)?;
    let record = Record::new(record::next_id(&history), at, set).map_err(untouched)?;
    originals::keep(machine, set).map_err(untouched)?;
    record.begin(machine, &history).map_err(untouched)?;

    let mut brought_up = Vec::new();
    let mut unflushed = Vec::new();
    let done = (|| {
        do_steps(machine, &hands, &record, set).map_err(Cause::File)?;
        for (_, server) in &controls {
            server.test().map_err(Cause::Test)?;
        }
        for (kind, server) in &controls {
            // Should this fail halfway, the old configuration has to be brought up, too.
            brought_up.push((*kind, BroughtUp::Reloaded));
            let how = server.bring_up().map_err(Cause::BringUp)?;
            brought_up.last_mut().expect("it was pushed").1 = how;
        }
        if let Some(store) = set.trust.filter(|_| machine.is_real()) {
            hands.refresh(store).map_err(Cause::Trust)?;
        }
        unflushed = hands.flush(&set.flush);
        prove().map_err(Cause::Proof)?;
        record.finish(&history).map_err(Cause::File)
    })();
    match done {
        Ok(()) => {
            clean_up(machine, &record, &history);
            Ok(CarriedOut { brought_up, unflushed })
        }
        Err(cause) => {
            // One that never ran, and doesn't now, has nothing to go back to.
            let is_touched = |(kind, server): &&(ServerId, &dyn ServerControl)| {
                !brought_up.is_empty() && (were_running.contains(kind) || server.is_running())
            };
            let touched: Vec<_> = controls.iter().filter(is_touched).copied().collect();
            let put_back = put_back(machine, &hands, &record, &touched);
            // Whose fault it is shows when all is as it was.
            let is_asked = put_back.is_ok() && matches!(cause, Cause::Test(_));
            let again = controls.iter().filter(|_| is_asked).find_map(|(_, server)| server.test().err());
            let cause = again.map_or(cause, Cause::BrokenBefore);
            Err(CarryOutError::Failed { cause, put_back })
        }
    }
}

/// The files and links that this user may not write, of those that change.
fn forbidden(set: &ChangeSet) -> Vec<Utf8PathBuf> {
    let mut found: Vec<Utf8PathBuf> = Vec::new();
    for step in &set.steps {
        if let Step::EmptyFolder { .. } | Step::Rights(_) | Step::Trust(_) = step {
            continue;
        }
        let path = files::follow(step.path()).unwrap_or_else(|_| step.path().to_owned());
        // A file in a folder that may not be written can still be written in place.
        let in_place =
            matches!(step, Step::File(FileChange { before: Some(_), after: Some(_), .. })) && may_write(&path);
        if !may_change(&path) && !in_place {
            found.push(step.path().to_owned());
        }
    }
    found
}

/// The files and folders whose rights change and are not this user's to change.
fn others_rights(set: &ChangeSet) -> Vec<Utf8PathBuf> {
    let own = rustix::process::geteuid();
    let is_others = |path: &Utf8Path| !own.is_root() && path.metadata().is_ok_and(|meta| meta.uid() != own.as_raw());
    let rights = set.steps.iter().filter(|step| matches!(step, Step::Rights(_)));
    rights.map(Step::path).filter(|path| is_others(path)).map(Utf8Path::to_owned).collect()
}

/// Whether a path is still as it was when the change set was planned.
fn is_as_observed(machine: &Machine, step: &Step) -> bool {
    match step {
        Step::Folder { .. } | Step::EmptyFolder { .. } => true,
        Step::Rights(change) => permissions::rights_of(&change.path).is_ok_and(|now| now == change.before),
        Step::Trust(change) => stores::is_trusted(machine, change).is_ok_and(|now| now == change.before),
        Step::File(change) => files::holds(&change.path, change.before.as_deref().map(Vec::as_slice)),
        Step::Link(change) => files::read_link_if_there(&change.path).is_ok_and(|now| now == change.before),
    }
}

fn do_steps(machine: &Machine, hands: &Hands<'_>, record: &Record, set: &ChangeSet) -> Result<(), FileError> {
    // The folders come from the record, which knows the missing ones on the way;
    // each stands before whatever goes into it.
    let mut planned = set.steps.iter().filter(|step| !matches!(step, Step::Folder { .. }));
    for (number, recorded) in record.steps.iter().enumerate() {
        if let RecordedStep::Folder { path, access } = recorded {
            make_folder(machine, path, *access)?;
            continue;
        }
        match planned.next().expect("the record has one step for each planned one") {
            Step::File(change) => write_file(machine, hands, record, change, || {
                record.keep_whole(machine, number, change.before.as_deref().map_or(&[], Vec::as_slice))
            })?,
            Step::Link(change) => hands.set_link(&change.path, change.after.as_deref(), record.tag())?,
            Step::Rights(change) => permissions::set_rights(&change.path, &change.after)?,
            Step::Trust(change) => stores::carry_out(machine, change)?,
            // What somebody has put into it keeps it.
            Step::EmptyFolder { path } => _ = fs::remove_dir(path),
            Step::Folder { .. } => {}
        }
    }
    Ok(())
}

pub(super) fn make_folder(machine: &Machine, path: &Utf8Path, access: Access) -> Result<(), FileError> {
    match fs::DirBuilder::new().mode(access.folder_mode()).create(path) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(FileError::at(path)(error)),
        _ => {}
    }
    if access == Access::Project {
        machine.give_project(path)?;
    } else {
        machine.give_to_keeper(path)?;
    }
    files::sync_folder_of(path)
}

fn write_file(
    machine: &Machine,
    hands: &Hands<'_>,
    record: &Record,
    change: &FileChange,
    mark: impl Fn() -> Result<(), FileError>,
) -> Result<(), FileError> {
    let path = &change.path;
    if change.access == Access::Secret && change.before.is_some() {
        let held = held(path, record);
        fs::rename(path, &held).map_err(FileError::at(path))?;
        files::sync_folder_of(path)?;
    }
    let Some(content) = &change.after else {
        return if change.access == Access::Secret { Ok(()) } else { hands.remove(path) };
    };
    let attributes = match Attributes::of(path) {
        Ok(attributes) => attributes,
        Err(_) => machine.attributes_of_new(path, change.access),
    };
    hands.write(path, content, &attributes, record.tag(), mark)
}

/// Where a secret file is held until the change set is done: its content goes into no record.
pub(super) fn held(path: &Utf8Path, record: &Record) -> Utf8PathBuf {
    files::temporary(path, &format!("held-{}", record.tag()))
}

/// What is left once a change set is done: secrets that were held, temporary files,
/// folders that are empty. If something can't be removed, the next command tries again.
pub(super) fn clean_up(machine: &Machine, record: &Record, history: &Utf8Path) {
    let mut is_clean = true;
    for step in &record.steps {
        let RecordedStep::File(RecordedFile { path, access, after, .. }) = step else { continue };
        if *access == Access::Secret {
            is_clean &= unless_gone(fs::remove_file(held(path, record))).is_ok();
        }
        if let Ok(real) = files::follow(path) {
            is_clean &= unless_gone(fs::remove_file(files::temporary(&real, record.tag()))).is_ok();
        }
        // A folder of yandro's own goes with its last file; up to the first that isn't empty.
        if after.is_none() && machine.is_keepers(path) {
            let is_below = |folder: &&Utf8Path| machine.is_keepers(folder) && **folder != machine.places.data;
            let mut folders = path.ancestors().skip(1).take_while(is_below);
            _ = folders.try_for_each(|folder| unless_gone(fs::remove_dir(folder)));
        }
    }
    if is_clean {
        record.clear_whole(history);
        record.close(history);
    }
}

/// What is gone already needs no removal.
fn unless_gone(removed: std::io::Result<()>) -> std::io::Result<()> {
    removed.or_else(|error| if error.kind() == std::io::ErrorKind::NotFound { Ok(()) } else { Err(error) })
}
