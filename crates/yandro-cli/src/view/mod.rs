//! Everything that is printed.

pub(crate) mod change;
pub(crate) mod check;
mod log;
mod outcome;
pub(crate) mod progress;
pub(crate) mod rows;
mod table;
mod tone;

use std::io::Write;

use anstream::{AutoStream, ColorChoice};
use camino::Utf8Path;
use supports_hyperlinks::Stream;
use yandro_core::HostName;

pub(crate) use outcome::{Data, Outcome, data};
pub(crate) use table::{Cell, FixedTable, Table, width_of};
use tone::{Rendering, rendered};
pub(crate) use tone::{Tone, plain};

use serde_json::json;

use crate::error::{CommandError, Status};
use crate::global::{Color, Global};

pub(crate) const GOOD: Tone = Tone::GOOD;
pub(crate) const BAD: Tone = Tone::BAD;
pub(crate) const WARN: Tone = Tone::WARN;
pub(crate) const DIM: Tone = Tone::DIM;
pub(crate) const STRONG: Tone = Tone::STRONG;
pub(crate) const COMMAND: Tone = Tone::COMMAND;

/// Standard output and standard error, as the options want them.
pub(crate) struct Ui {
    out: std::io::Stdout,
    err: std::io::Stderr,
    pub(crate) json: bool,
    quiet: bool,
    on_out: Rendering,
    on_err: Rendering,
    /// How wide the terminal is that shows standard output, in columns.
    width: Option<usize>,
    pub(crate) verbose: bool,
    is_plain: bool,
    /// The file that takes all messages instead.
    log: Option<log::Log>,
    /// Why standard output couldn't be written, if it couldn't.
    failed: Option<std::io::Error>,
    /// Notes that come after the result.
    later: Vec<String>,
}

impl Ui {
    pub(crate) fn new(global: &Global) -> Self {
        let choice = match global.color {
            _ if global.plain_output => ColorChoice::Never,
            Color::Auto => ColorChoice::Auto,
            Color::Always => ColorChoice::Always,
            Color::Never => ColorChoice::Never,
        };
        Self {
            out: std::io::stdout(),
            err: std::io::stderr(),
            on_out: Rendering {
                styles: choose(choice, &std::io::stdout()) != ColorChoice::Never,
                links: !global.plain_output && supports_hyperlinks::on(Stream::Stdout),
            },
            on_err: Rendering {
                styles: choose(choice, &std::io::stderr()) != ColorChoice::Never,
                links: !global.plain_output && supports_hyperlinks::on(Stream::Stderr),
            },
            width: if global.plain_output { None } else { terminal_width() },
            json: global.json,
            quiet: global.quiet,
            verbose: global.verbose > 0,
            is_plain: global.plain_output,
            log: None,
            failed: None,
            later: Vec::new(),
        }
    }

    /// Has a file take all messages from now on.
    ///
    /// # Errors
    /// When it can't be written.
    pub(crate) fn write_to(&mut self, file: &Utf8Path) -> std::io::Result<()> {
        self.log = Some(log::Log::open(file)?);
        Ok(())
    }

    /// Whether only errors and findings are wanted.
    pub(crate) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether the result is to be JSON.
    pub(crate) fn is_data(&self) -> bool {
        self.json
    }

    /// A result, for people: not printed with `--quiet` or `--json`.
    pub(crate) fn say(&mut self, text: &str) {
        if !self.quiet && !self.json {
            self.print(text);
        }
    }

    /// A result, whatever the options.
    pub(crate) fn print(&mut self, text: &str) {
        if let Some(log) = &mut self.log {
            let written = log.write(&plain(text));
            return self.note_failure(written);
        }
        let text = rendered(text, self.on_out);
        let written = progress::aside(|| write_line(&mut self.out.lock(), &text));
        self.note_failure(written);
    }

    /// Draws a text over what the terminal shows.
    pub(crate) fn redraw(&mut self, text: &str) {
        let text = format!("\x1b[H\x1b[2J{}\n", rendered(text, self.on_out));
        let written = self.out.lock().write_all(text.as_bytes());
        self.note_failure(written);
    }

    /// A line on standard error. A user who doesn't see it misses a note.
    fn tell(&mut self, text: &str) {
        if let Some(log) = &mut self.log {
            let written = log.write(&plain(text));
            return self.note_failure(written);
        }
        let text = rendered(text, self.on_err);
        _ = progress::aside(|| write_line(&mut self.err.lock(), &text));
    }

    /// Binary output, unchanged.
    pub(crate) fn bytes(&mut self, bytes: &[u8]) {
        let written = self.out.lock().write_all(bytes);
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
        for note in std::mem::take(&mut self.later) {
            self.note(&note);
        }
        let flushed = self.out.flush();
        self.note_failure(flushed);
        match self.failed.take().filter(|error| error.kind() != std::io::ErrorKind::BrokenPipe) {
            Some(error) => {
                self.tell(&format!("{BAD}error:{BAD:#} standard output could not be written: {error}"));
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
        self.print(&table.render(self.width));
    }

    /// Begins work whose progress is shown if it takes long.
    pub(crate) fn work(&self, words: &str) -> progress::Work {
        progress::begin(words, !self.quiet && !self.is_plain)
    }

    /// How wide the terminal is, if standard output is one.
    pub(crate) fn width(&self) -> Option<usize> {
        self.width
    }

    /// A note in addition to the result.
    pub(crate) fn note(&mut self, text: &str) {
        if !self.quiet {
            self.tell(&format!("{DIM}note:{DIM:#} {text}"));
        }
    }

    /// A note that comes after the result.
    pub(crate) fn note_later(&mut self, text: Option<String>) {
        self.later.extend(text);
    }

    /// Something that was wrong, whatever the options.
    pub(crate) fn warn(&mut self, text: &str) {
        self.tell(&format!("{WARN}found:{WARN:#} {text}"));
    }

    /// A failure and what fixes it; with `--json` on standard output as well.
    pub(crate) fn error(&mut self, error: &CommandError) {
        if self.json {
            self.json(&json!({
                "error": { "code": error.code, "message": error.message, "fix": error.hints },
            }));
        }
        self.tell(&format!("{BAD}error:{BAD:#} {}", error.message));
        for hint in &error.hints {
            self.tell(&format!("{COMMAND}fix:{COMMAND:#} {hint}"));
        }
    }

    /// A value as JSON on one line.
    pub(crate) fn json(&mut self, value: &serde_json::Value) {
        self.print(&json_text(value));
    }

    /// The same of a value that is text already.
    pub(crate) fn json_text(&mut self, text: &str) {
        self.print(&tone::json(text));
    }
}

/// How long a text is, in bytes, of which the system makes several writes anyway.
const LONG: usize = 64 << 10;

/// Writes a text and a line end: at once, so that lines of several processes don't mix.
fn write_line(out: &mut impl Write, text: &str) -> std::io::Result<()> {
    if text.len() > LONG {
        return out.write_all(text.as_bytes()).and_then(|()| out.write_all(b"\n"));
    }
    out.write_all(format!("{text}\n").as_bytes())
}

/// A value as JSON, in which no string holds what a terminal obeys.
pub(crate) fn json_text(value: &serde_json::Value) -> String {
    tone::json(&value.to_string()).into_owned()
}

/// Tells the user what takes long, on standard error.
pub(crate) fn on_wait(is_quiet: bool) -> impl Fn(&str) {
    move |what| {
        if !is_quiet && !progress::now(&format!("waiting for {what}")) {
            // A user who doesn't see it waits all the same.
            _ = writeln!(std::io::stderr(), "note: waiting for {}", plain(what));
        }
    }
}

/// The width of the terminal, if standard output is one.
fn terminal_width() -> Option<usize> {
    let (terminal_size::Width(width), _) = terminal_size::terminal_size_of(std::io::stdout())?;
    Some(usize::from(width)).filter(|width| *width > 0)
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
