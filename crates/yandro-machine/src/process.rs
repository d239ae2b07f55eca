//! Running other programs: by absolute path, with a clean environment, without a shell.
//!
//! Every program has a time limit, is read while it runs, and has a separate process group,
//! so that Ctrl-C in the terminal reaches yandro only.

use std::fs;
use std::io::{self, Read, Write as _};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, Signal, kill_process_group};
use zeroize::Zeroizing;

use crate::caller;
use crate::permissions::user_name;
use crate::traced::Traced;

/// How long any program may run before it is ended.
const LIMIT: Duration = Duration::from_secs(120);
/// How much of a program's output is kept, in bytes. The rest is read and dropped.
const KEPT: usize = 1 << 20;
/// How long one look at a program's output takes, if it says nothing and doesn't end.
const LOOK: Timespec = Timespec { tv_sec: 0, tv_nsec: 10_000_000 };

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
/// debuggers (prctl(2), `PR_SET_DUMPABLE`). Programs that it starts are as they always were.
pub fn keep_memory_to_itself() {
    // A system that refuses makes no dumps of ours any worse.
    _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
}

/// A program with a clean environment.
fn clean(program: &Utf8Path) -> Command {
    cleaned(Command::new(program))
}

fn cleaned(mut command: Command) -> Command {
    let caller = command.get_envs().find(|(name, _)| *name == caller::VARIABLE);
    let caller = caller.and_then(|(name, value)| Some((name.to_owned(), value?.to_owned())));
    command.env_clear().envs(caller).env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("LC_ALL", "C.UTF-8");
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
    let ran = pipes.ran(program, arguments, status);
    ProgramError::check(program, Ok(ran)).map(|()| written)
}

fn finish(command: Command, program: &Utf8Path, arguments: &[&str], input: &[u8], limit: Duration) -> io::Result<Ran> {
    let (pipes, status) = finish_pipes(command, arguments, input, limit)?;
    Ok(pipes.ran(program, arguments, status))
}

fn finish_pipes(
    mut command: Command,
    arguments: &[&str],
    input: &[u8],
    limit: Duration,
) -> io::Result<(Pipes, ExitStatus)> {
    let stdin = if input.is_empty() { Stdio::null() } else { Stdio::piped() };
    command.args(arguments).process_group(0).stdin(stdin).stdout(Stdio::piped()).stderr(Stdio::piped());
    let traced = Traced::new(&command);
    let mut child = command.spawn().inspect_err(|error| traced.not_started(error))?;
    if let Some(mut stdin) = child.stdin.take() {
        // A program that ends without reading says itself why.
        _ = stdin.write_all(input);
    }
    let mut pipes = Pipes::of(&mut child)?;
    let began = Instant::now();
    let status = loop {
        pipes.read();
        if let Some(status) = child.try_wait()? {
            pipes.read();
            traced.ended(status);
            break status;
        }
        if began.elapsed() > limit {
            end(&mut child);
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
    command.args(arguments).process_group(0).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
    let traced = Traced::new(&command);
    let mut child = command.spawn().inspect_err(|error| traced.not_started(error))?;
    let mut pipes = Pipes::of(&mut child)?;
    let began = Instant::now();
    let mut up_since: Option<Instant> = None;
    loop {
        pipes.read();
        if let Some(status) = child.try_wait()? {
            pipes.read();
            traced.ended(status);
            return Ok(pipes.ran(program, arguments, status));
        }
        up_since = if is_up() { up_since.or(Some(Instant::now())) } else { None };
        if up_since.is_some_and(|since| since.elapsed() > FOREGROUND) {
            return Ok(pipes.ran(program, arguments, ExitStatus::default()));
        }
        if began.elapsed() > LIMIT {
            end(&mut child);
            return Err(io::Error::new(io::ErrorKind::TimedOut, format!("did not start within {} s", LIMIT.as_secs())));
        }
    }
}

/// How long a server runs before a starter that hasn't ended counts as the server itself.
const FOREGROUND: Duration = Duration::from_secs(1);

/// Ends a program and all that it started.
fn end(child: &mut Child) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
        _ = kill_process_group(group, Signal::KILL);
    }
    _ = child.wait();
}

/// A program's output, read while it runs.
struct Pipes {
    out: Option<std::process::ChildStdout>,
    err: Option<std::process::ChildStderr>,
    said: [Vec<u8>; 2],
}

impl Pipes {
    fn of(child: &mut Child) -> io::Result<Self> {
        let (out, err) = (child.stdout.take(), child.stderr.take());
        if let Some(out) = &out {
            rustix::io::ioctl_fionbio(out, true)?;
        }
        if let Some(err) = &err {
            rustix::io::ioctl_fionbio(err, true)?;
        }
        Ok(Self { out, err, said: [Vec::new(), Vec::new()] })
    }

    /// Waits a moment for output and takes in what is there.
    fn read(&mut self) {
        let mut fds = Vec::new();
        fds.extend(self.out.as_ref().map(|out| PollFd::new(out, PollFlags::IN)));
        fds.extend(self.err.as_ref().map(|err| PollFd::new(err, PollFlags::IN)));
        if fds.is_empty() {
            // Both ends are closed, and the program is about to end.
            std::thread::sleep(Duration::from_millis(1));
            return;
        }
        _ = poll(&mut fds, Some(&LOOK));
        if self.out.as_mut().is_some_and(|out| is_at_end(out, &mut self.said[0])) {
            self.out = None;
        }
        if self.err.as_mut().is_some_and(|err| is_at_end(err, &mut self.said[1])) {
            self.err = None;
        }
    }

    fn ran(self, program: &Utf8Path, arguments: &[&str], status: ExitStatus) -> Ran {
        Ran {
            command: format!("{program} {}", arguments.join(" ")),
            succeeded: status.success(),
            words: String::from_utf8_lossy(&self.said.concat()).trim().to_owned(),
        }
    }
}

/// Takes in what a pipe holds now; whether its other end is closed.
fn is_at_end(pipe: &mut impl Read, said: &mut Vec<u8>) -> bool {
    let mut part = [0; 1 << 14];
    loop {
        match pipe.read(&mut part) {
            Ok(0) => return true,
            Ok(length) => {
                let room = KEPT.saturating_sub(said.len());
                said.extend_from_slice(&part[..length.min(room)]);
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return error.kind() != io::ErrorKind::WouldBlock,
        }
    }
}

/// Whether a process sleeps and no signal waits for it, so that it isn't at work on one.
/// `None` where that can't be seen.
pub(crate) fn is_idle(pid: Pid) -> Option<bool> {
    let status = fs::read_to_string(format!("/proc/{}/status", pid.as_raw_nonzero())).ok()?;
    let field = |name: &str| status.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
    let is_none = |name| field(name).is_none_or(|mask| mask.bytes().all(|digit| digit == b'0'));
    // S is sleeping, I idle, T stopped (proc(5)).
    Some(field("State:")?.starts_with(['S', 'I', 'T']) && is_none("SigPnd:") && is_none("ShdPnd:"))
}

/// Whether a signal has stopped a process, which takes another one to go on (proc(5): state T).
pub(crate) fn is_stopped(pid: u32) -> bool {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    text.rsplit_once(')').is_some_and(|(_, rest)| rest.trim_start().starts_with('T'))
}

/// The owner of a process.
pub(crate) fn owner(pid: Pid) -> Option<u32> {
    use std::os::unix::fs::MetadataExt as _;
    fs::metadata(format!("/proc/{}", pid.as_raw_nonzero())).ok().map(|meta| meta.uid())
}

/// The name of the user who owns a process.
pub fn owner_name(pid: i32) -> Option<String> {
    owner(Pid::from_raw(pid)?).map(user_name)
}

/// The process that started a process.
pub fn parent(pid: i32) -> Option<i32> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // After the name in parentheses, which may hold anything: the state, then the parent.
    text.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse().ok()
}

/// The processes that a process has started.
pub(crate) fn children(pid: rustix::process::Pid) -> Vec<String> {
    let pid = pid.as_raw_nonzero();
    let text = fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
    text.split_whitespace().map(str::to_owned).collect()
}

/// When a process began.
pub fn began(pid: i32) -> Option<SystemTime> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The twenty-second field (proc(5)), in ticks since the machine was started.
    let ticks: u64 = text.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()?;
    // Told to the hundredth of a second, unlike the moment of the start itself.
    let uptime = fs::read_to_string("/proc/uptime").ok()?;
    let uptime: f64 = uptime.split(' ').next()?.parse().ok()?;
    let since = Duration::from_millis(ticks * 1000 / rustix::param::clock_ticks_per_second());
    SystemTime::now().checked_sub(Duration::try_from_secs_f64(uptime).ok()?)?.checked_add(since)
}

/// When the youngest of a process's own processes began; of one without, when it did itself.
pub(crate) fn youngest_child(pid: i32) -> Option<SystemTime> {
    let children = children(rustix::process::Pid::from_raw(pid)?);
    let youngest = children.iter().filter_map(|child| began(child.parse().ok()?)).max();
    youngest.or_else(|| began(pid))
}

/// The first of these programs that is there.
pub fn find(candidates: &[&str]) -> Option<Utf8PathBuf> {
    candidates.iter().map(Utf8PathBuf::from).find(|path| path.is_file())
}
