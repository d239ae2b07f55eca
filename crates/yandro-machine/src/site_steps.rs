//! Running the commands of a site, as the person, with their output kept.

use std::io;
use std::process::{Child, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{SiteStep, System};

use crate::caller;
use crate::interrupt;
use crate::machine::Machine;
use crate::os;

/// How often a running command is looked at.
const LOOK: Duration = Duration::from_millis(20);

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepEnd {
    /// With this exit status; none if a signal ended it.
    Status(Option<i32>),
    /// It took longer than it may.
    TooLong,
    /// The person ended it.
    Interrupted,
}

/// Where a command runs, and with what.
#[derive(Debug)]
pub struct StepPlace<'s> {
    /// The folder.
    pub folder: &'s Utf8Path,
    /// Further variables of its environment.
    pub variables: &'s [(String, String)],
    /// The file that gets what it prints; it is written anew by the first step and added to by the others.
    pub output: &'s Utf8Path,
}

/// Runs a command in a project's folder, with the rights of the person, until it ends or its time is over. It reads
/// nothing.
///
/// # Errors
/// When it can't be started, or its output not be kept.
pub fn run(machine: &Machine, step: &SiteStep, place: &StepPlace<'_>) -> io::Result<StepEnd> {
    let (program, arguments): (Utf8PathBuf, Vec<String>) = if step.shell {
        let (shell, flag) = if System::HERE == System::Windows { ("cmd", "/C") } else { ("/bin/sh", "-c") };
        (shell.into(), vec![flag.to_owned(), step.words.join(" ")])
    } else {
        (step.words.first().map(Utf8PathBuf::from).unwrap_or_default(), step.words[1..].to_vec())
    };
    let output = {
        let _rights = caller::rights_for(place.output);
        os::journal_file(place.output)?
    };
    machine.give_to_keeper(place.output).map_err(|error| error.source)?;
    let mut command = caller::command(&program)?;
    command.args(arguments).current_dir(place.folder).envs(place.variables.iter().cloned());
    command.stdin(Stdio::null()).stdout(output.try_clone()?).stderr(output);
    // Ctrl-C is answered here, so that nothing of it stays.
    let _held = interrupt::HeldSignals::new();
    let mut child = os::own_group(&mut command).spawn()?;
    let limit = Duration::from_secs(u64::from(step.minutes) * 60);
    Ok(match ended(&mut child, limit)? {
        Some(status) => StepEnd::Status(status.code()),
        None if interrupt::came() => StepEnd::Interrupted,
        None => StepEnd::TooLong,
    })
}

/// Waits for a command; ends it with all that it started when its time is over or the person wants it.
fn ended(child: &mut Child, limit: Duration) -> io::Result<Option<ExitStatus>> {
    let began = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status));
        }
        if began.elapsed() > limit || interrupt::came() {
            os::end_group(child);
            return Ok(None);
        }
        std::thread::sleep(LOOK);
    }
}

#[cfg(all(test, unix))]
mod tests {
    use std::process::Command;

    use super::*;

    #[test]
    fn a_command_ends_with_all_that_it_started_when_its_time_is_over() {
        let mut command = Command::new("/bin/sh");
        let mut child = os::own_group(command.args(["-c", "sleep 600 & sleep 600"])).spawn().unwrap();
        assert_eq!(ended(&mut child, Duration::from_millis(300)).unwrap(), None);
        let group = i32::try_from(child.id()).unwrap();
        let group = rustix::process::Pid::from_raw(group).unwrap();
        let is_gone = || rustix::process::test_kill_process_group(group).is_err();
        let began = Instant::now();
        while !is_gone() && began.elapsed() < Duration::from_secs(30) {
            std::thread::sleep(LOOK);
        }
        assert!(is_gone(), "something of the command still runs");
        let mut quick = os::own_group(&mut Command::new("/bin/true")).spawn().unwrap();
        assert!(ended(&mut quick, Duration::from_secs(600)).unwrap().unwrap().success());
    }
}
