//! The caller's end.

use std::io::{self, BufRead as _, Write as _};
use std::process::Command;

use super::{HelperAnswer, Request};
use crate::changes::control::OnWait;
use crate::fresh::nonce;
use crate::os::Elevated;

/// The helper, as its caller has it. It ends when this is dropped.
pub(in crate::changes) struct Helper(Elevated);

impl Helper {
    pub(in crate::changes) fn start(command: Command) -> io::Result<Self> {
        let mut helper = Self(Elevated::start(command, &nonce())?);
        match helper.answer() {
            Ok(HelperAnswer::Ready) => Ok(helper),
            _ => Err(io::Error::new(io::ErrorKind::PermissionDenied, "the rights were not given")),
        }
    }

    pub(in crate::changes) fn ask(&mut self, request: &Request, on_wait: OnWait<'_>) -> io::Result<HelperAnswer> {
        let mut line = serde_json::to_vec(request)?;
        line.push(b'\n');
        self.0.input.write_all(&line)?;
        self.0.input.flush()?;
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
        if self.0.output.read_line(&mut line)? == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the helper has ended"));
        }
        Ok(serde_json::from_str(&line)?)
    }
}
