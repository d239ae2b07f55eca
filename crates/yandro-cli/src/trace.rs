//! `-vv`: each program that is run and each file that is read or written, on standard error.

use std::io;

use tracing_subscriber::fmt::MakeWriter;

use crate::view::{plain, progress};

/// Standard error, to which nothing goes that a terminal obeys.
struct EscapedErrors;

impl io::Write for EscapedErrors {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let text = plain(&String::from_utf8_lossy(bytes));
        progress::aside(|| io::stderr().write_all(text.as_bytes())).map(|()| bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl MakeWriter<'_> for EscapedErrors {
    type Writer = Self;

    fn make_writer(&self) -> Self {
        Self
    }
}

/// Begins the trace, from the second `-v` on.
pub(crate) fn begin(verbose: u8) {
    if verbose < 2 {
        return;
    }
    let trace = tracing_subscriber::fmt().with_max_level(tracing::Level::DEBUG).without_time().with_level(false);
    // Only one trace can be begun, and this is it.
    _ = trace.with_ansi(false).with_writer(EscapedErrors).try_init();
}
