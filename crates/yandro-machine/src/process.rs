//! Running other programs: by absolute path, with a clean environment, without a shell.

use std::io;
use std::process::{Command, Stdio};

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

/// Runs a program to its end.
///
/// # Errors
/// When it can't be started.
pub fn run(program: &Utf8Path, arguments: &[&str]) -> io::Result<Ran> {
    let output = Command::new(program)
        .args(arguments)
        .env_clear()
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .env("LC_ALL", "C.UTF-8")
        .stdin(Stdio::null())
        .output()?;
    let words = [output.stdout, output.stderr].concat();
    Ok(Ran {
        command: format!("{program} {}", arguments.join(" ")),
        succeeded: output.status.success(),
        words: String::from_utf8_lossy(&words).trim().to_owned(),
    })
}

/// The first of these programs that is there.
pub fn find(candidates: &[&str]) -> Option<Utf8PathBuf> {
    candidates.iter().map(Utf8PathBuf::from).find(|path| path.is_file())
}
