//! Putting a change set back, after a failure or after the process was ended.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Access, Role, ServerId};

use super::control::ControlError;
use super::control::{Controls, OnWait, ServerAction};
use super::hands::Reach;
use super::hands::{Escalate, Hands, Helped, by_need};
use super::lock::Lock;
use super::record::{Record, RecordError, RecordedChange, RecordedFile};
use super::records;
use super::steps::{clean_up, held};
use crate::caller;
use crate::database::{self, DatabaseError};
use crate::files::{self, FileError};
use crate::interrupt;
use crate::machine::Machine;
use crate::os;
use crate::permissions;
use crate::probe;
use crate::trust::stores;

/// A failed rollback.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PutBackError {
    /// A file operation failed.
    #[error("{0}")]
    File(#[from] FileError),
    /// The database of the application can't be changed back.
    #[error("the rows of the database could not be changed back: {0}")]
    Database(#[from] DatabaseError),
    /// Somebody else has changed the file since.
    #[error("{0}: somebody else changed it meanwhile; it was left as it is")]
    Foreign(Utf8PathBuf),
    /// The server was not reloaded with its old configuration.
    #[error("the server could not be reloaded with its old configuration: {0}")]
    BringUp(ControlError),
    /// The trust store was not brought back.
    #[error("the trust store could not be brought back: {0}")]
    Trust(ControlError),
}

/// The state of the servers after a rollback.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RolledBack {
    /// Servers that had ended, and were started again.
    pub started: Vec<ServerId>,
    /// Servers that refuse their present files, with their messages: yandro did not touch them, and
    /// those that run still use the files that they read before.
    pub refused: Vec<(ServerId, String)>,
    /// The versions of php-fpm that don't read their pools again, with their messages.
    pub php: Box<[(String, String)]>,
}

impl RolledBack {
    /// Notes for the user, a sentence per server.
    pub fn notes(&self) -> Vec<String> {
        let started = self.started.iter().map(|id| format!("{id} had ended and was started again"));
        let refused = self.refused.iter().map(|(id, words)| {
            format!(
                "{id} refuses its files as they are now and was not reloaded; if it runs, it still uses the files that it read before. In its own words:\n  {}",
                words.replace('\n', "\n  ")
            )
        });
        let php = self.php.iter().map(|(version, words)| {
            format!(
                "the php-fpm of PHP {version} was not reloaded; if it runs, it still has the pools that it read before. In its own words:\n  {}",
                words.replace('\n', "\n  ")
            )
        });
        started.chain(refused).chain(php).collect()
    }
}

/// A change set that an earlier command had left unfinished.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recovered {
    /// The command, as typed.
    pub command: String,
    /// When, RFC 3339.
    pub at: String,
    /// The state of the servers.
    pub servers: RolledBack,
}

/// The result of a recovery.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recovery {
    /// The change sets that were rolled back.
    pub recovered: Vec<Recovered>,
    /// Records that can't be read and were set aside, by their new names, with whether the change
    /// set of each was complete.
    pub damaged: Vec<(Utf8PathBuf, bool)>,
}

/// The servers of a rollback.
pub(super) struct TouchedServers<'s> {
    /// Servers that may run on the new configuration, in the order of their reloads.
    pub(super) touched: &'s Controls<'s>,
    /// Servers that ran before the change.
    pub(super) ran: &'s [ServerId],
    /// Whether this very process applied the change: then a server that didn't run before was
    /// started by it.
    pub(super) is_own_process: bool,
}

impl TouchedServers<'_> {
    /// Brings the servers back to their old configuration, the last one first.
    fn go_back(&self, on_wait: OnWait<'_>) -> Result<RolledBack, PutBackError> {
        let mut done = RolledBack::default();
        for (id, server) in self.touched.iter().rev() {
            let (ran, runs) = (self.ran.contains(id), server.is_running());
            if !ran && !runs {
                continue;
            }
            if !ran && self.is_own_process {
                server.stop(on_wait).map_err(PutBackError::BringUp)?;
                continue;
            }
            if let Err(error) = server.test() {
                done.refused.push((*id, error.to_string()));
                continue;
            }
            let action = server.start_or_reload(on_wait).map_err(PutBackError::BringUp)?;
            if action == ServerAction::Started {
                done.started.push(*id);
            }
        }
        Ok(done)
    }
}

/// Rolls everything back that a record speaks of, whatever part of it was done, and takes the
/// record away.
pub(super) fn put_back(
    machine: &Machine,
    hands: &Hands<'_>,
    record: &Record,
    servers: &TouchedServers<'_>,
    on_wait: OnWait<'_>,
) -> Result<RolledBack, PutBackError> {
    // A reload under way still opens the files that are about to go.
    for (_, server) in servers.touched {
        server.wait_until_idle(on_wait);
    }
    let foreign = steps_back(machine, hands, record)?;
    let mut php = Vec::new();
    if machine.is_real() {
        for version in Role::php_versions(record.steps.iter().map(|step| &step.role)) {
            if let Err(error) = hands.reload_php(machine, version) {
                php.push((version.to_owned(), error.to_string()));
            }
        }
    }
    let rolled_back = RolledBack { php: php.into(), ..servers.go_back(on_wait)? };
    if machine.is_real()
        && let Some(store) = record.trust
    {
        // Also if no file had to be restored: the store may have read the change.
        if !os::is_root() {
            hands.prepare(&[store.folder().into()], Reach::Files);
        }
        hands.refresh(store).map_err(PutBackError::Trust)?;
    }
    // A cache that can't be flushed expires by itself.
    _ = hands.flush(&record.flush);
    let history = machine.history();
    record.clear_whole(&history);
    record.forget(&history)?;
    foreign.map_or(Ok(rolled_back), |path| Err(PutBackError::Foreign(path)))
}

/// Takes the steps back in reverse; gives a file that holds somebody else's content and was left.
fn steps_back(machine: &Machine, hands: &Hands<'_>, record: &Record) -> Result<Option<Utf8PathBuf>, PutBackError> {
    let history = machine.history();
    let mut foreign = None;
    for (number, step) in record.steps.iter().enumerate().rev() {
        let _rights = caller::rights_for(step.path());
        match &step.change {
            // A folder that somebody put something into stays.
            RecordedChange::Folder { path, .. } => _ = os::remove_folder(files::follow_folder(path)),
            RecordedChange::EmptyFolder { path, mode: Some(mode) } if !path.exists() => {
                let real = files::follow_folder(path);
                os::make_folder_with(&real, *mode).map_err(FileError::at(path))?;
                machine.give_project(&real)?;
            }
            RecordedChange::EmptyFolder { .. } => {}
            RecordedChange::Trust(change) => {
                if stores::is_trusted(machine, change).map_err(FileError::from)? == change.after {
                    hands.trust(machine, &change.clone().inverse())?;
                }
            }
            RecordedChange::Rows(change) => {
                if record.kept_whole(&history, number)?.is_some() {
                    database::carry_out(machine, &change.clone().inverse(), false, || Ok(()))?;
                }
            }
            RecordedChange::Rights(change) => {
                if permissions::rights_of(&change.path).is_ok_and(|now| now == change.after) {
                    permissions::set_rights(&change.path, &change.before)?;
                }
            }
            RecordedChange::Link { path, before, after } => {
                hands.remove_left(path, record.tag());
                let now = files::read_link_if_there(path)?;
                if now == *after && now != *before {
                    hands.set_link(path, before.as_deref(), record.tag())?;
                }
            }
            RecordedChange::File(file) => {
                let whole = record.kept_whole(&history, number)?;
                if !file_back(hands, record, file, whole)? {
                    foreign = Some(file.path.clone());
                }
            }
        }
    }
    Ok(foreign)
}

/// Puts one file back; `false` when somebody else's content is in it. `whole` is its old
/// content, if it was being written in place and may be half.
fn file_back(
    hands: &Hands<'_>,
    record: &Record,
    file: &RecordedFile,
    whole: Option<Vec<u8>>,
) -> Result<bool, PutBackError> {
    let path = &file.path;
    let real = files::follow(path)?;
    hands.remove_left(&real, record.tag());
    if file.access == Access::Secret && file.before.is_some() {
        let held = held(path, record);
        if held.exists() {
            os::rename(&held, path).map_err(FileError::at(path))?;
            // A rename between two names of one file does nothing (POSIX).
            if held.exists() {
                os::remove_file(&held).map_err(FileError::at(&held))?;
            }
            files::sync_folder_of(path)?;
        }
        return Ok(true);
    }
    let now = files::read_if_there(path)?;
    let digest = now.as_deref().map(files::fingerprint);
    if digest == file.before {
        return Ok(true);
    }
    let old = match (whole, &now) {
        (Some(whole), _) => whole,
        _ if digest != file.after => return Ok(false),
        (None, Some(now)) => record.old_content(file, now),
        (None, None) => record.removed_content(file).to_vec(),
    };
    if let Some(attributes) = &file.attributes {
        hands.write(path, &old, attributes, record.tag(), || Ok(()))?;
    } else {
        hands.remove(path, record.tag())?;
    }
    Ok(true)
}

/// Finishes or rolls back what an earlier command had begun and not ended.
///
/// # Errors
/// When something can't be rolled back; the record then stays, to be tried again.
pub fn recover(
    machine: &Machine,
    _lock: &Lock,
    servers: &Controls<'_>,
    escalate: &dyn Escalate,
    on_wait: OnWait<'_>,
) -> Result<Recovery, PutBackError> {
    let _held = interrupt::HeldSignals::new();
    let mut recovery = Recovery::default();
    let history = machine.history();
    for path in records::records(&history, "new") {
        let _rights = caller::rights_for(&path);
        // Not even begun: the record itself was being written.
        os::remove_file(&path).map_err(FileError::at(&path))?;
    }
    for path in records::records(&history, "begun").into_iter().rev() {
        let Some(record) = read_or_set_aside(&path, &mut recovery, RecordProgress::Begun)? else { continue };
        let hands = Hands::new(escalate, on_wait);
        let controls: Vec<_> = servers.iter().filter(|(id, _)| record.servers.contains(id)).copied().collect();
        let needs_root = controls.iter().any(|(_, server)| server.needs_root());
        let is_helped = needs_root && hands.prepare(&[], Reach::Server);
        let helped: Vec<Helped<'_, '_>> = controls.iter().map(|(id, control)| hands.helped(*id, *control)).collect();
        let controls = if is_helped { by_need(&controls, &helped) } else { controls };
        let ran: Vec<ServerId> = record.ran.iter().copied().collect();
        let servers = TouchedServers { touched: &controls, ran: &ran, is_own_process: false };
        let servers = put_back(machine, &hands, &record, &servers, on_wait)?;
        for site in record.site_changes().iter().filter_map(|change| change.after.as_ref()) {
            if let Some(root) = site.document_root() {
                probe::sweep_proofs(&root, record.pid);
            }
        }
        recovery.recovered.push(Recovered { command: record.command.clone(), at: record.at.clone(), servers });
    }
    for path in records::records(&history, "tidying") {
        if let Some(record) = read_or_set_aside(&path, &mut recovery, RecordProgress::Complete)? {
            clean_up(machine, &record, &history);
        }
    }
    Ok(recovery)
}

/// How far a change set came.
#[derive(Clone, Copy, PartialEq, Eq)]
enum RecordProgress {
    Begun,
    Complete,
}

/// Reads a record; one that is damaged is set aside.
fn read_or_set_aside(
    path: &Utf8Path,
    recovery: &mut Recovery,
    progress: RecordProgress,
) -> Result<Option<Record>, PutBackError> {
    match Record::read(path) {
        Ok(record) => Ok(Some(record)),
        Err(RecordError::File(error)) => Err(error.into()),
        Err(RecordError::Damaged) => {
            recovery.damaged.push((records::set_aside(path)?, progress == RecordProgress::Complete));
            Ok(None)
        }
    }
}

/// Whether there is something to recover: quick, for commands that change nothing.
pub fn is_unfinished(machine: &Machine) -> bool {
    ["begun", "tidying", "new"].iter().any(|state| !records::records(&machine.history(), state).is_empty())
}
