//! Starting a php-fpm that is installed and doesn't run.

use std::time::{Duration, Instant};

use super::installed::{installed, program_of};
use crate::changes::ControlError;
use crate::files;
use crate::machine::Machine;
use crate::process::{self, ProgramError, RunAs};

/// How long it has to listen.
const PATIENCE: Duration = Duration::from_secs(20);
/// How often it is looked at.
const LOOK: Duration = Duration::from_millis(50);

/// Starts the php-fpm of a version by the system's own way, and waits until it listens. Root's.
///
/// # Errors
/// When there is none, others than root can change it, or it says why it doesn't run.
pub(crate) fn start(machine: &Machine, version: &str) -> Result<(), ControlError> {
    let program = program_of(machine, version).ok_or(ControlError::NoCommand)?;
    let path = program.path();
    if !files::only_root_changes(&path) {
        return Err(ControlError::Said(format!("others than root can change {path}, and root doesn't start it")));
    }
    let words = program.start_words(machine);
    let (starter, arguments) = words.split_first().ok_or(ControlError::NoCommand)?;
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let listens = || installed(machine).iter().any(|php| php.version == version && php.listens);
    let ran = process::run_starter(starter.as_str().into(), &arguments, RunAs::Own, listens);
    ProgramError::check(starter, ran)?;
    let began = Instant::now();
    while !listens() {
        if began.elapsed() > PATIENCE {
            return Err(ControlError::NotUp);
        }
        std::thread::sleep(LOOK);
    }
    Ok(())
}
