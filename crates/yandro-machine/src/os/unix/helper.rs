//! The program that runs with root's rights, and the streams between it and the one that asked for it.

use std::io::{self, BufReader};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use camino::Utf8Path;

use super::HelperStreams;

/// The command that begins a program with root's rights: sudo's; `None` without it.
pub(crate) fn with_all_rights(program: &Path) -> Option<Command> {
    let sudo = ["/usr/bin/sudo", "/bin/sudo"].into_iter().find(|sudo| Path::new(sudo).is_file())?;
    let mut command = Command::new(sudo);
    command.arg("--").arg(program);
    Some(command)
}

/// A helper that was started. It ends when this is dropped.
#[derive(Debug)]
pub(crate) struct Elevated {
    child: Child,
    /// Requests to the helper.
    pub(crate) input: ChildStdin,
    /// Answers of the helper.
    pub(crate) output: BufReader<ChildStdout>,
}

impl Elevated {
    /// Starts the command that has root start it (sudo).
    ///
    /// # Errors
    /// When it can't be started.
    pub(crate) fn start(mut command: Command, _: &str) -> io::Result<Self> {
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
        let input = child.stdin.take().expect("it is piped");
        let output = BufReader::new(child.stdout.take().expect("it is piped"));
        Ok(Self { child, input, output })
    }
}

impl Drop for Elevated {
    fn drop(&mut self) {
        // Its input ends with us, and so does it.
        _ = self.child.kill();
        _ = self.child.wait();
    }
}

/// The helper's standard streams. They don't identify the caller: sudo does, by a variable.
///
/// # Errors
/// None.
#[expect(clippy::unnecessary_wraps, reason = "on Windows there may be no pipe")]
pub(crate) fn helper_streams(_: Option<&str>) -> io::Result<HelperStreams> {
    let (input, output) = (Box::new(io::stdin().lock()), Box::new(io::stdout().lock()));
    Ok(HelperStreams { input, output, caller: None })
}

/// The folder of the helper's record, which only root can change.
pub(crate) fn helper_folder() -> &'static Utf8Path {
    Utf8Path::new("/var/lib/yandro/helper")
}

/// Makes a folder that everybody may read and only root change, and missing ones above it.
///
/// # Errors
/// As mkdir(2).
pub(crate) fn make_guarded_folders(path: &Utf8Path) -> io::Result<()> {
    super::make_folders(path, yandro_core::Access::Public)
}
