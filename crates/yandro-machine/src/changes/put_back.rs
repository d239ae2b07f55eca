//! Putting a change set back, after a failure or after the process was ended.

use std::fs;
use std::os::unix::fs::DirBuilderExt as _;

use camino::Utf8PathBuf;
use yandro_core::plan::Access;

use super::carry_out::{Controls, clean_up, held};
use super::hands::{Escalate, Hands, Helped, by_need};
use super::lock::Lock;
use super::record::{self, Record, RecordedFile, RecordedStep};
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::permissions;
use crate::trust::stores;

/// What could not be put back.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PutBackError {
    /// A file operation failed.
    #[error("{0}")]
    File(#[from] FileError),
    /// Somebody else has changed the file since.
    #[error("{0}: somebody else changed it meanwhile; it was left as it is")]
    Foreign(Utf8PathBuf),
    /// The server was not reloaded with its old configuration.
    #[error("the server could not be reloaded with its old configuration: {0}")]
    BringUp(String),
    /// The trust store was not brought back.
    #[error("the trust store could not be brought back: {0}")]
    Trust(String),
}

/// A change set that an earlier command had left unfinished.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recovered {
    /// The command, as typed.
    pub command: String,
    /// When, RFC 3339.
    pub at: String,
}

/// Puts everything back that a record speaks of, whatever part of it was done, and
/// takes the record away.
pub(super) fn put_back(
    machine: &Machine,
    hands: &Hands<'_>,
    record: &Record,
    servers: &Controls<'_>,
) -> Result<(), PutBackError> {
    let history = machine.history();
    let mut foreign = None;
    for (number, step) in record.steps.iter().enumerate().rev() {
        match step {
            // A folder that somebody put something into stays.
            RecordedStep::Folder { path, .. } => _ = fs::remove_dir(path),
            RecordedStep::EmptyFolder { path, mode: Some(mode) } if !path.exists() => {
                fs::DirBuilder::new().mode(*mode).create(path).map_err(FileError::at(path))?;
                machine.give_project(path)?;
            }
            RecordedStep::EmptyFolder { .. } => {}
            RecordedStep::Trust(change) => {
                if stores::is_trusted(machine, change).map_err(FileError::from)? == change.after {
                    stores::carry_out(machine, &change.clone().inverse()).map_err(FileError::from)?;
                }
            }
            RecordedStep::Rights(change) => {
                if permissions::rights_of(&change.path).is_ok_and(|now| now == change.after) {
                    permissions::set_rights(&change.path, &change.before)?;
                }
            }
            RecordedStep::Link { path, before, after } => {
                hands.remove_left(&files::temporary(path, record.tag()));
                let now = files::read_link_if_there(path)?;
                if now == *after && now != *before {
                    hands.set_link(path, before.as_deref(), record.tag())?;
                }
            }
            RecordedStep::File(file) => {
                let whole = record.kept_whole(&history, number)?;
                if !file_back(hands, record, file, whole)? {
                    foreign = Some(file.path.clone());
                }
            }
        }
    }
    for (_, server) in servers {
        server.bring_up().map_err(PutBackError::BringUp)?;
    }
    if let Some(store) = record.trust.filter(|_| machine.is_real()) {
        // Also where no file had to be put back: the store may have taken it up all the same.
        if !rustix::process::geteuid().is_root() {
            hands.prepare(&[store.folder().into()], false);
        }
        hands.refresh(store).map_err(PutBackError::Trust)?;
    }
    // What can't forget now forgets by itself after a while.
    _ = hands.flush(&record.flush);
    record.clear_whole(&history);
    record.forget(&history)?;
    foreign.map_or(Ok(()), |path| Err(PutBackError::Foreign(path)))
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
    hands.remove_left(&files::temporary(&real, record.tag()));
    if file.access == Access::Secret && file.before.is_some() {
        let held = held(path, record);
        if held.exists() {
            fs::rename(&held, path).map_err(FileError::at(path))?;
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
        hands.remove(path)?;
    }
    Ok(true)
}

/// Finishes or puts back what an earlier command had begun and not ended.
///
/// # Errors
/// When something can't be put back; the record then stays, to be tried again.
pub fn recover(
    machine: &Machine,
    _lock: &Lock,
    servers: &Controls<'_>,
    escalate: &dyn Escalate,
) -> Result<Vec<Recovered>, PutBackError> {
    let mut recovered = Vec::new();
    let history = machine.history();
    for path in record::records(&history, "new") {
        // Not even begun: the record itself was being written.
        fs::remove_file(&path).map_err(FileError::at(&path))?;
    }
    for path in record::records(&history, "begun").into_iter().rev() {
        let record = Record::read(&path)?;
        let hands = Hands::new(escalate);
        let controls: Vec<_> = servers.iter().filter(|(kind, _)| record.servers.contains(kind)).copied().collect();
        let needs_root = controls.iter().any(|(_, server)| server.needs_root());
        let is_helped = needs_root && hands.prepare(&[], true);
        // One that doesn't run takes its configuration up when it is started.
        let controls: Vec<_> = controls.into_iter().filter(|(_, server)| server.is_running()).collect();
        let helped: Vec<Helped<'_, '_>> = controls.iter().map(|(kind, own)| hands.helped(*kind, *own)).collect();
        let controls = if is_helped { by_need(&controls, &helped) } else { controls };
        put_back(machine, &hands, &record, &controls)?;
        recovered.push(Recovered { command: record.command.clone(), at: record.at.clone() });
    }
    for path in record::records(&history, "tidying") {
        clean_up(machine, &Record::read(&path)?, &history);
    }
    Ok(recovered)
}

/// Whether there is something to recover: quick, for commands that change nothing.
pub fn is_unfinished(machine: &Machine) -> bool {
    ["begun", "tidying", "new"].iter().any(|state| !record::records(&machine.history(), state).is_empty())
}
