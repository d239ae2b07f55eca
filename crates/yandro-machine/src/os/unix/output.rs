//! The output of other programs, and programs with all that they start.

use std::io::{self, Read};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, ChildStderr, ChildStdout, Command};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, Signal, kill_process_group};

/// How much of a program's output is kept, in bytes. The rest is read and dropped.
const KEPT: usize = 1 << 20;
/// How long one look at a program's output takes, if it says nothing and doesn't end.
const LOOK: Timespec = Timespec { tv_sec: 0, tv_nsec: 10_000_000 };

/// Has a program start in a group of processes of its own, so that Ctrl-C in the terminal doesn't reach it.
pub(crate) fn own_group(command: &mut Command) -> &mut Command {
    command.process_group(0)
}

/// Ends a program that was started so, and all that it started.
pub(crate) fn end_group(child: &mut Child) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
        _ = kill_process_group(group, Signal::KILL);
    }
    _ = child.wait();
}

/// The environment of a program whose own it needs nothing of.
pub(crate) fn clean_environment() -> Vec<(&'static str, String)> {
    vec![("PATH", "/usr/sbin:/usr/bin:/sbin:/bin".to_owned()), ("LC_ALL", "C.UTF-8".to_owned())]
}

/// A program's output, read while it runs.
pub(crate) struct Output {
    out: Option<ChildStdout>,
    err: Option<ChildStderr>,
    /// What it said so far: on standard output, and as errors.
    pub(crate) said: [Vec<u8>; 2],
}

impl Output {
    /// The output of a program whose pipes nobody else has.
    ///
    /// # Errors
    /// When the pipes can't be read without waiting.
    pub(crate) fn of(child: &mut Child) -> io::Result<Self> {
        let (out, err) = (child.stdout.take(), child.stderr.take());
        if let Some(out) = &out {
            rustix::io::ioctl_fionbio(out, true)?;
        }
        if let Some(err) = &err {
            rustix::io::ioctl_fionbio(err, true)?;
        }
        Ok(Self { out, err, said: [Vec::new(), Vec::new()] })
    }

    /// Takes in what a program said that has ended: it is all there.
    pub(crate) fn read_rest(&mut self) {
        self.read();
    }

    /// Waits a moment for output and takes in what is there.
    pub(crate) fn read(&mut self) {
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
