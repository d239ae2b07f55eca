//! The caller's end.

use std::io::{self, BufRead as _, BufReader, Write as _};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use super::{HelperAnswer, Request};
use crate::changes::control::OnWait;

/// The helper, as its caller has it. It ends when this is dropped.
pub(in crate::changes) struct Helper {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
}

impl Helper {
    pub(in crate::changes) fn start(mut command: Command) -> io::Result<Self> {
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
        let input = child.stdin.take().expect("it is piped");
        let output = BufReader::new(child.stdout.take().expect("it is piped"));
        let mut helper = Self { child, input, output };
        match helper.answer() {
            Ok(HelperAnswer::Ready) => Ok(helper),
            _ => Err(io::Error::new(io::ErrorKind::PermissionDenied, "sudo did not give root")),
        }
    }

    pub(in crate::changes) fn ask(&mut self, request: &Request, on_wait: OnWait<'_>) -> io::Result<HelperAnswer> {
        let mut line = serde_json::to_vec(request)?;
        line.push(b'\n');
        self.input.write_all(&line)?;
        self.input.flush()?;
        let answer = loop {
            match self.answer()? {
                HelperAnswer::Waiting { what } => on_wait(&what),
                answer => break answer,
            }
        };
        match answer {
            HelperAnswer::Failed { errno } => Err(io::Error::from_raw_os_error(errno)),
            HelperAnswer::Refused { words } if matches!(request, Request::Change { .. } | Request::Clean { .. }) => {
                Err(io::Error::new(io::ErrorKind::PermissionDenied, words))
            }
            answer => Ok(answer),
        }
    }

    fn answer(&mut self) -> io::Result<HelperAnswer> {
        let mut line = String::new();
        if self.output.read_line(&mut line)? == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the helper has ended"));
        }
        Ok(serde_json::from_str(&line)?)
    }
}

impl Drop for Helper {
    fn drop(&mut self) {
        // Its input ends with us, and so does it.
        _ = self.child.kill();
        _ = self.child.wait();
    }
}
