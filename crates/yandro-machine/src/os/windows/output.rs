//! The output of other programs, and programs with all that they start.

use std::io::{self, Read};
use std::os::windows::process::CommandExt as _;
use std::process::{Child, Command};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::Duration;

use yandro_sys::windows::processes;

use super::children;

/// How much of a program's output is kept, in bytes. The rest is read and dropped.
const KEPT: usize = 1 << 20;
/// How long one look at a program's output takes, if it says nothing and doesn't end.
const LOOK: Duration = Duration::from_millis(10);
/// How long nothing comes from a program that has ended, until all counts as read.
const SILENCE: Duration = Duration::from_secs(2);
/// `CREATE_NEW_PROCESS_GROUP`.
const NEW_GROUP: u32 = 0x200;
/// `CREATE_NO_WINDOW`.
const NO_WINDOW: u32 = 0x0800_0000;

/// Starts a program in a new process group, so that Ctrl-C in the console doesn't reach it.
pub(crate) fn own_group(command: &mut Command) -> &mut Command {
    command.creation_flags(NEW_GROUP | NO_WINDOW)
}

/// Ends a program that was started so, and all that it started.
pub(crate) fn end_group(child: &mut Child) {
    let mut pending: Vec<i32> = i32::try_from(child.id()).into_iter().collect();
    while let Some(pid) = pending.pop() {
        pending.extend(children(pid));
        _ = processes::end(pid.cast_unsigned());
    }
    _ = child.wait();
}

/// The environment of a program whose own it needs nothing of: where the system and its folders are, without which
/// few programs start, and the user's folders.
pub(crate) fn clean_environment() -> Vec<(&'static str, String)> {
    const KEPT: [&str; 13] = [
        "SystemRoot",
        "SystemDrive",
        "windir",
        "ComSpec",
        "PATHEXT",
        "TEMP",
        "TMP",
        "USERPROFILE",
        "APPDATA",
        "LOCALAPPDATA",
        "ProgramData",
        "ProgramFiles",
        "NUMBER_OF_PROCESSORS",
    ];
    let mut kept: Vec<(&'static str, String)> =
        KEPT.into_iter().filter_map(|name| Some((name, std::env::var(name).ok()?))).collect();
    let system = kept.first().map_or_else(|| r"C:\Windows".to_owned(), |(_, value)| value.clone());
    kept.push(("PATH", format!(r"{system}\System32;{system}")));
    kept
}

/// A program's output, read while it runs: each pipe by a thread, as pipes can't be waited for here.
pub(crate) struct Output {
    parts: Receiver<(usize, Vec<u8>)>,
    /// Output so far: standard output, standard error.
    pub(crate) said: [Vec<u8>; 2],
}

impl Output {
    /// The output of a program whose pipes nobody else has.
    ///
    /// # Errors
    /// When no thread is to be had.
    pub(crate) fn of(child: &mut Child) -> io::Result<Self> {
        let (sender, parts) = channel();
        let out = child.stdout.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>);
        let err = child.stderr.take().map(|pipe| Box::new(pipe) as Box<dyn Read + Send>);
        for (which, pipe) in [out, err].into_iter().enumerate() {
            let (Some(mut pipe), sender) = (pipe, sender.clone()) else { continue };
            std::thread::Builder::new().spawn(move || {
                let mut part = [0; 1 << 14];
                while let Ok(length @ 1..) = pipe.read(&mut part) {
                    if sender.send((which, part[..length].to_vec())).is_err() {
                        return;
                    }
                }
            })?;
        }
        Ok(Self { parts, said: [Vec::new(), Vec::new()] })
    }

    /// Takes in what a program said that has ended, once the threads have read it. A server that it started may have
    /// the pipes still: silence ends it, too.
    pub(crate) fn read_rest(&mut self) {
        self.take(SILENCE);
    }

    /// Waits a moment for output and takes in what is there.
    pub(crate) fn read(&mut self) {
        if self.take(LOOK) == RecvTimeoutError::Disconnected {
            // Both ends are closed, and the program is about to end.
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    /// Takes in parts until none comes for a time, or none can come any more.
    fn take(&mut self, silence: Duration) -> RecvTimeoutError {
        loop {
            match self.parts.recv_timeout(silence) {
                Ok((which, part)) => {
                    let room = KEPT.saturating_sub(self.said[which].len());
                    self.said[which].extend_from_slice(&part[..part.len().min(room)]);
                }
                Err(end) => return end,
            }
        }
    }
}
