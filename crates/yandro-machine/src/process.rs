//! Running other programs: by absolute path, with a clean environment, without a shell.
//!
//! Every program has a time limit, is read while it runs, and has a separate process group,
//! so that Ctrl-C in the terminal reaches yandro only.

use std::io::{self, Write as _};
use std::process::{Command, ExitStatus, Stdio};
use std::time::{Duration, Instant, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use zeroize::Zeroizing;

use crate::caller;
use crate::os::{self, Output};
use crate::permissions::user_name;
use crate::traced::Traced;

/// How long any program may run before it is ended.
const LIMIT: Duration = Duration::from_secs(120);
/// A program's output and exit status.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ran {
    /// The command line, for messages.
    pub command: String,
    /// Whether it ended with status 0.
    pub succeeded: bool,
    /// Standard output and standard error.
    pub words: String,
}

/// A program that did not do what it was run for.
#[derive(Debug, thiserror::Error)]
pub enum ProgramError {
    /// It could not be run, or not to its end.
    #[error("{program}: {source}")]
    NotRun {
        /// As it was called.
        program: String,
        /// The system's words.
        source: io::Error,
    },
    /// It ended with an error.
    #[error("{command}: {words}")]
    Failed {
        /// The command line.
        command: String,
        /// Its output.
        words: String,
    },
}

impl ProgramError {
    /// Checks a program's result: `Ok` if it succeeded.
    ///
    /// # Errors
    /// When it was not run, or failed.
    pub fn check(program: impl std::fmt::Display, ran: io::Result<Ran>) -> Result<(), Self> {
        let ran = ran.map_err(|source| Self::NotRun { program: program.to_string(), source })?;
        let Ran { command, words, succeeded } = ran;
        if succeeded { Ok(()) } else { Err(Self::Failed { command, words }) }
    }
}

/// With whose rights a program runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunAs {
    /// This process's rights.
    Own,
    /// Under sudo those of the user who called it.
    Callers,
}

impl RunAs {
    /// The caller's, unless a program is root's.
    pub fn unless(is_roots: bool) -> Self {
        if is_roots { Self::Own } else { Self::Callers }
    }

    fn command(self, program: &Utf8Path) -> io::Result<Command> {
        match self {
            Self::Own => Ok(Command::new(program)),
            Self::Callers => caller::command(program),
        }
    }
}

/// Keeps the memory of this process, which may hold a key, out of core dumps and other users'
/// debuggers, as far as the system lets it; and its standard streams from servers that it starts.
pub fn keep_memory_to_itself() {
    os::keep_memory_to_itself();
    os::keep_streams_to_itself();
}

/// Leaves the console, for a process that works in the background: on Windows its window is closed.
pub fn leave_console() {
    os::leave_console();
}

/// Leaves the terminal's session, so that nothing of it ends this process.
pub fn leave_session() {
    os::leave_session();
}

/// Has a process end: asked at first, where the system can ask, and ended after a while.
pub fn end(child: &mut std::process::Child, patience: Duration) {
    let asked = i32::try_from(child.id()).is_ok_and(|pid| os::send(pid, os::Signal::Term).is_ok());
    let began = Instant::now();
    while asked && began.elapsed() < patience {
        if !matches!(child.try_wait(), Ok(None)) {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    _ = child.kill();
    _ = child.wait();
}

/// How many files this process may have open; `None` where there is no limit.
pub fn most_open_files() -> Option<u64> {
    os::most_open_files()
}

/// A program with a clean environment.
fn clean(program: &Utf8Path) -> Command {
    cleaned(Command::new(program))
}

fn cleaned(mut command: Command) -> Command {
    let caller = command.get_envs().find(|(name, _)| *name == caller::VARIABLE);
    let caller = caller.and_then(|(name, value)| Some((name.to_owned(), value?.to_owned())));
    command.env_clear().envs(caller).envs(os::clean_environment());
    command
}

/// Runs a program to its end.
///
/// # Errors
/// When it can't be started, or doesn't end within two minutes.
pub fn run(program: &Utf8Path, arguments: &[&str]) -> io::Result<Ran> {
    finish(clean(program), program, arguments, &[], LIMIT)
}

/// Runs a server's own program to its end. Under sudo `rights` may be the caller's.
///
/// # Errors
/// When it can't be started, or doesn't end within two minutes.
pub(crate) fn run_server(program: &Utf8Path, arguments: &[&str], rights: RunAs) -> io::Result<Ran> {
    let command = rights.command(program)?;
    finish(cleaned(command), program, arguments, &[], LIMIT)
}

/// Runs a program to its end with the environment of this process: for commands that a person named. Under sudo
/// `rights` may be the caller's.
///
/// # Errors
/// When it can't be started, or doesn't end within two minutes.
pub fn run_with_environment(program: &Utf8Path, arguments: &[&str], rights: RunAs) -> io::Result<Ran> {
    let command = rights.command(program)?;
    finish(command, program, arguments, &[], LIMIT)
}

/// Runs a program to its end, and gives it something to read, of less than a pipe's 64 kB.
///
/// # Errors
/// When it can't be started, or doesn't end within two minutes.
pub fn run_with_input(program: &Utf8Path, arguments: &[&str], input: &[u8]) -> io::Result<Ran> {
    finish(clean(program), program, arguments, input, LIMIT)
}

/// Runs a program to its end that is given secrets and makes some: `input` to read, of less than a
/// pipe's 64 kB, and one more variable in its environment, which other users can't see (proc(5)).
/// Gives what it wrote to standard output.
///
/// # Errors
/// When it can't be started, doesn't end within two minutes, or fails.
pub(crate) fn run_with_secrets(
    program: &Utf8Path,
    arguments: &[&str],
    input: &[u8],
    (variable, secret): (&str, &str),
) -> Result<Zeroizing<Vec<u8>>, ProgramError> {
    let mut command = clean(program);
    command.env(variable, secret);
    let not_run = |source| ProgramError::NotRun { program: program.to_string(), source };
    let (mut pipes, status) = finish_pipes(command, arguments, input, LIMIT).map_err(not_run)?;
    let written = Zeroizing::new(std::mem::take(&mut pipes.said[0]));
    let ran = ran(program, arguments, &pipes, status);
    ProgramError::check(program, Ok(ran)).map(|()| written)
}

fn finish(command: Command, program: &Utf8Path, arguments: &[&str], input: &[u8], limit: Duration) -> io::Result<Ran> {
    let (pipes, status) = finish_pipes(command, arguments, input, limit)?;
    Ok(ran(program, arguments, &pipes, status))
}

fn finish_pipes(
    mut command: Command,
    arguments: &[&str],
    input: &[u8],
    limit: Duration,
) -> io::Result<(Output, ExitStatus)> {
    let stdin = if input.is_empty() { Stdio::null() } else { Stdio::piped() };
    os::own_group(&mut command).args(arguments).stdin(stdin).stdout(Stdio::piped()).stderr(Stdio::piped());
    let traced = Traced::new(&command);
    let mut child = command.spawn().inspect_err(|error| traced.not_started(error))?;
    if let Some(mut stdin) = child.stdin.take() {
        // A program that ends without reading says itself why.
        _ = stdin.write_all(input);
    }
    let mut pipes = Output::of(&mut child)?;
    let began = Instant::now();
    let status = loop {
        pipes.read();
        if let Some(status) = child.try_wait()? {
            pipes.read_rest();
            traced.ended(status);
            break status;
        }
        if began.elapsed() > limit {
            os::end_group(&mut child);
            return Err(io::Error::new(io::ErrorKind::TimedOut, format!("did not end within {} s", limit.as_secs())));
        }
    };
    Ok((pipes, status))
}

/// Runs a program that leaves a server running, and gives what it said until it ended itself or
/// until `is_up` holds while it stays in the foreground, as nginx does with `daemon off`.
///
/// # Errors
/// When it can't be started, or nothing runs within two minutes.
pub(crate) fn run_starter(
    program: &Utf8Path,
    arguments: &[&str],
    rights: RunAs,
    is_up: impl Fn() -> bool,
) -> io::Result<Ran> {
    let mut command = cleaned(rights.command(program)?);
    os::own_group(&mut command).args(arguments).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
    let traced = Traced::new(&command);
    let mut child = command.spawn().inspect_err(|error| traced.not_started(error))?;
    let mut pipes = Output::of(&mut child)?;
    let began = Instant::now();
    let mut up_since: Option<Instant> = None;
    loop {
        pipes.read();
        if let Some(status) = child.try_wait()? {
            pipes.read_rest();
            traced.ended(status);
            return Ok(ran(program, arguments, &pipes, status));
        }
        up_since = if is_up() { up_since.or(Some(Instant::now())) } else { None };
        if up_since.is_some_and(|since| since.elapsed() > FOREGROUND) {
            return Ok(ran(program, arguments, &pipes, ExitStatus::default()));
        }
        if began.elapsed() > LIMIT {
            os::end_group(&mut child);
            return Err(io::Error::new(io::ErrorKind::TimedOut, format!("did not start within {} s", LIMIT.as_secs())));
        }
    }
}

/// How long a server runs before a starter that hasn't ended counts as the server itself.
const FOREGROUND: Duration = Duration::from_secs(1);

fn ran(program: &Utf8Path, arguments: &[&str], pipes: &Output, status: ExitStatus) -> Ran {
    Ran {
        command: format!("{program} {}", arguments.join(" ")),
        succeeded: status.success(),
        words: String::from_utf8_lossy(&pipes.said.concat()).trim().to_owned(),
    }
}

/// The name of the user who owns a process.
pub fn owner_name(pid: i32) -> Option<String> {
    os::process(pid).map(|found| user_name(found.user))
}

/// The process that started a process.
pub fn parent(pid: i32) -> Option<i32> {
    os::process(pid).map(|found| found.parent)
}

/// When a process began.
pub fn began(pid: i32) -> Option<SystemTime> {
    os::began(pid)
}

/// The program of a process; `None` for one of another user's, where the system doesn't tell.
pub fn program(pid: i32) -> Option<Utf8PathBuf> {
    os::program(pid)
}

/// When the youngest of a process's own processes began; of one without, when it did itself.
pub(crate) fn youngest_child(pid: i32) -> Option<SystemTime> {
    os::children(pid).into_iter().filter_map(began).max().or_else(|| began(pid))
}

/// The command that starts a program with all rights: sudo, or, on Windows, the program itself, which Windows starts after
/// the user's consent. `None` without sudo.
pub fn with_all_rights(program: &std::path::Path) -> Option<Command> {
    os::with_all_rights(program)
}

/// The first of these programs that is there.
pub fn find(candidates: &[&str]) -> Option<Utf8PathBuf> {
    candidates.iter().map(Utf8PathBuf::from).find(|path| path.is_file())
}
