//! Running other programs: by absolute path, with a clean environment, without a shell.

use std::io::{self, Read as _, Write as _};
use std::process::{Command, Stdio};
use std::time::{Duration, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};

/// What a program said and how it ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ran {
    /// The command line, for messages.
    pub command: String,
    /// Whether it ended with status 0.
    pub succeeded: bool,
    /// What it said on standard output and standard error.
    pub words: String,
}

/// Keeps the memory of this process, which may hold a key, out of core dumps and other users'
/// debuggers (prctl(2), `PR_SET_DUMPABLE`). Programs that it starts are as they always were.
pub fn keep_memory_to_itself() {
    // A system that refuses makes no dumps of ours any worse.
    _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
}

/// Runs a program to its end.
///
/// # Errors
/// When it can't be started.
pub fn run(program: &Utf8Path, arguments: &[&str]) -> io::Result<Ran> {
    let mut command = Command::new(program);
    command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("LC_ALL", "C.UTF-8");
    finish(command, program, arguments)
}

/// Runs a program to its end with the environment of this process: for commands that a person
/// named, and never as another user.
///
/// # Errors
/// When it can't be started.
pub fn run_with_environment(program: &Utf8Path, arguments: &[&str]) -> io::Result<Ran> {
    finish(Command::new(program), program, arguments)
}

/// Runs a program to its end, and gives it something to read.
///
/// # Errors
/// When it can't be started, or stops reading.
pub fn run_with_input(program: &Utf8Path, arguments: &[&str], input: &[u8]) -> io::Result<Ran> {
    let mut command = Command::new(program);
    command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("LC_ALL", "C.UTF-8");
    command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn()?;
    // What is read here is far below what a pipe holds: nobody waits for anybody.
    if let Some(mut stdin) = child.stdin.take() {
        _ = stdin.write_all(input);
    }
    Ok(ran(program, arguments, &child.wait_with_output()?))
}

fn ran(program: &Utf8Path, arguments: &[&str], output: &std::process::Output) -> Ran {
    let words = [output.stdout.as_slice(), &output.stderr].concat();
    Ran {
        command: format!("{program} {}", arguments.join(" ")),
        succeeded: output.status.success(),
        words: String::from_utf8_lossy(&words).trim().to_owned(),
    }
}

fn finish(mut command: Command, program: &Utf8Path, arguments: &[&str]) -> io::Result<Ran> {
    let output = command.args(arguments).stdin(Stdio::null()).output()?;
    Ok(ran(program, arguments, &output))
}

/// Runs a program that leaves another one running, and gives what it said until it ended itself:
/// what stays behind may hold on to its standard error.
///
/// # Errors
/// When it can't be started.
pub fn run_starter(program: &Utf8Path, arguments: &[&str]) -> io::Result<Ran> {
    let mut child = Command::new(program)
        .args(arguments)
        .env_clear()
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .env("LC_ALL", "C.UTF-8")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()?;
    let status = child.wait()?;
    let mut words = Vec::new();
    if let Some(mut said) = child.stderr.take() {
        rustix::io::ioctl_fionbio(&said, true)?;
        // The end is where nothing more is there, whoever may still be able to write.
        _ = said.read_to_end(&mut words);
    }
    Ok(Ran {
        command: format!("{program} {}", arguments.join(" ")),
        succeeded: status.success(),
        words: String::from_utf8_lossy(&words).trim().to_owned(),
    })
}

/// The process that started a process.
pub fn parent(pid: i32) -> Option<i32> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // After the name in parentheses, which may hold anything: the state, then the parent.
    text.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse().ok()
}

/// The processes that a process has started.
pub(crate) fn children(pid: rustix::process::Pid) -> Vec<String> {
    let pid = pid.as_raw_nonzero();
    let text = std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
    text.split_whitespace().map(str::to_owned).collect()
}

/// When a process began.
pub fn began(pid: i32) -> Option<SystemTime> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The twenty-second field (proc(5)), in ticks since the machine was started.
    let ticks: u64 = text.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()?;
    // Told to the hundredth of a second, unlike the moment of the start itself.
    let uptime = std::fs::read_to_string("/proc/uptime").ok()?;
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
