//! Everything that is printed.

pub(crate) mod change;
pub(crate) mod check;
mod table;

use std::io::Write as _;

use anstream::adapter::strip_str;
use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use yandro_core::name::HostName;

pub(crate) use table::{Cell, Table};

use serde_json::json;

use crate::args::{Color, Global};
use crate::error::{CommandError, Status};

pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const WARN: Style = AnsiColor::Yellow.on_default();
pub(crate) const DIM: Style = Style::new().dimmed();
pub(crate) const STRONG: Style = Style::new().bold();
pub(crate) const COMMAND: Style = AnsiColor::Cyan.on_default();

/// Standard output and standard error, as the options want them.
pub(crate) struct Ui {
    out: AutoStream<std::io::Stdout>,
    err: AutoStream<std::io::Stderr>,
    pub(crate) json: bool,
    quiet: bool,
    styled: bool,
    pub(crate) verbose: bool,
    /// Why standard output couldn't be written, if it couldn't.
    failed: Option<std::io::Error>,
}

impl Ui {
    pub(crate) fn new(global: &Global) -> Self {
        let choice = match global.color {
            Color::Auto => ColorChoice::Auto,
            Color::Always => ColorChoice::Always,
            Color::Never => ColorChoice::Never,
        };
        Self {
            out: AutoStream::new(std::io::stdout(), choose(choice, &std::io::stdout())),
            err: AutoStream::new(std::io::stderr(), choose(choice, &std::io::stderr())),
            styled: choose(choice, &std::io::stdout()) != ColorChoice::Never,
            json: global.json,
            quiet: global.quiet,
            verbose: global.verbose,
            failed: None,
        }
    }

    /// Whether what is printed has colours.
    pub(crate) fn is_styled(&self) -> bool {
        self.styled
    }

    /// Whether only errors and findings are wanted.
    pub(crate) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// A result, for people: not printed with `--quiet` or `--json`.
    pub(crate) fn say(&mut self, text: &str) {
        if !self.quiet && !self.json {
            self.print(text);
        }
    }

    /// A result, whatever the options.
    pub(crate) fn print(&mut self, text: &str) {
        // A single write, so that lines of several processes don't mix.
        let written = if self.styled {
            self.out.write_all(format!("{text}\n").as_bytes())
        } else {
            self.plain(&strip_str(text).to_string())
        };
        self.note_failure(written);
    }

    /// Binary output, unchanged.
    pub(crate) fn bytes(&mut self, bytes: &[u8]) {
        let written = self.out.as_inner().lock().write_all(bytes);
        self.note_failure(written);
    }

    fn note_failure(&mut self, written: std::io::Result<()>) {
        if let Err(error) = written {
            self.failed.get_or_insert(error);
        }
    }

    /// The exit status once all is printed: that of the command, or [`Status::NotPrinted`] if its output is
    /// lost. A reader that closes the pipe early, as `head` does, is fine.
    pub(crate) fn finish(&mut self, status: Status) -> Status {
        let flushed = self.out.flush();
        self.note_failure(flushed);
        match self.failed.take().filter(|error| error.kind() != std::io::ErrorKind::BrokenPipe) {
            Some(error) => {
                _ = writeln!(self.err, "{BAD}error:{BAD:#} standard output could not be written: {error}");
                if status == Status::Well { Status::NotPrinted } else { status }
            }
            None => status,
        }
    }

    /// A table, for people.
    pub(crate) fn table(&mut self, table: &Table) {
        if self.quiet || self.json {
            return;
        }
        let text = table.render(self.styled);
        if self.styled {
            self.print(&text);
        } else {
            let written = self.plain(&text);
            self.note_failure(written);
        }
    }

    /// Writes a text without styles, with a line end, at once.
    fn plain(&mut self, text: &str) -> std::io::Result<()> {
        self.out.as_inner().lock().write_all(format!("{text}\n").as_bytes())
    }

    /// Something worth knowing, beside the result.
    pub(crate) fn note(&mut self, text: &str) {
        if !self.quiet {
            _ = writeln!(self.err, "{DIM}note:{DIM:#} {text}");
        }
    }

    /// Something that was wrong, whatever the options.
    pub(crate) fn warn(&mut self, text: &str) {
        _ = writeln!(self.err, "{WARN}found:{WARN:#} {text}");
    }

    /// A failure and what fixes it; with `--json` on standard output as well.
    pub(crate) fn error(&mut self, error: &CommandError) {
        if self.json {
            self.json(&json!({
                "error": { "code": error.code, "message": error.message, "fix": error.hints },
            }));
        }
        _ = writeln!(self.err, "{BAD}error:{BAD:#} {}", error.message);
        for hint in &error.hints {
            _ = writeln!(self.err, "{COMMAND}to mend it:{COMMAND:#} {hint}");
        }
    }

    /// A value as JSON on one line.
    pub(crate) fn json(&mut self, value: &serde_json::Value) {
        self.print(&value.to_string());
    }
}

/// Tells the user what takes long, on standard error.
pub(crate) fn on_wait(is_quiet: bool) -> impl Fn(&str) {
    move |what| {
        if !is_quiet {
            // A user who doesn't see it waits all the same.
            _ = writeln!(std::io::stderr(), "note: waiting for {what}");
        }
    }
}

fn choose(choice: ColorChoice, stream: &impl anstream::stream::RawStream) -> ColorChoice {
    match choice {
        ColorChoice::Auto => AutoStream::choice(stream),
        choice => choice,
    }
}

/// A name as people read it; one that has another form on the wire with that form.
pub(crate) fn both_ways(name: &HostName) -> String {
    let unicode = name.to_unicode();
    if unicode == name.as_str() { unicode } else { format!("{unicode} ({name})") }
}

/// `1 site`, `2 sites`.
pub(crate) fn count(number: usize, noun: &str) -> String {
    if number == 1 { format!("1 {noun}") } else { format!("{number} {noun}s") }
}
