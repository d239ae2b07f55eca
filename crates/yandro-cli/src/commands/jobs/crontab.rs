//! A line of the user's own crontab, through the program that keeps it (crontab(1)).

use camino::Utf8PathBuf;
use yandro_core::Job;
use yandro_machine::{RunAs, process};

use crate::context::Context;
use crate::error::CommandError;

const PROGRAMS: [&str; 2] = ["/usr/bin/crontab", "/bin/crontab"];

/// The user's crontab, if this user has one of their own here: root's jobs are a file of the system's.
pub(in crate::commands) struct Crontab(Utf8PathBuf);

impl Crontab {
    pub(in crate::commands) fn of(context: &Context) -> Option<Self> {
        let machine = &context.machine;
        if !machine.is_real() || machine.is_root() {
            return None;
        }
        process::find(&PROGRAMS).map(Self)
    }

    /// The table as it is; empty where there is none.
    fn read(&self) -> Result<String, CommandError> {
        let ran = process::run_with_environment(&self.0, &["-l"], RunAs::Own).map_err(CommandError::not_made)?;
        Ok(if ran.succeeded { ran.words } else { String::new() })
    }

    /// Adds a job to the table, or replaces it. Returns whether the table changed.
    pub(in crate::commands) fn install(&self, job: &Job<'_>) -> Result<bool, CommandError> {
        let before = self.read()?;
        let rest = without(&before, job.title);
        let gap = if rest.is_empty() || rest.ends_with('\n') { "" } else { "\n" };
        self.write(&before, &format!("{rest}{gap}{}", job.crontab()))
    }

    /// Takes the job of this title out. Gives whether there was one.
    pub(in crate::commands) fn remove(&self, title: &str) -> Result<bool, CommandError> {
        let before = self.read()?;
        self.write(&before, &without(&before, title))
    }

    /// Whether the table has a job of this title.
    pub(in crate::commands) fn has(&self, title: &str) -> bool {
        self.read().is_ok_and(|text| without(&text, title) != text)
    }

    fn write(&self, before: &str, after: &str) -> Result<bool, CommandError> {
        if before == after {
            return Ok(false);
        }
        let ran = if after.trim().is_empty() {
            process::run_with_environment(&self.0, &["-r"], RunAs::Own)
        } else {
            process::run_with_input(&self.0, &["-"], after.as_bytes())
        };
        let ran = ran.map_err(CommandError::not_made)?;
        if ran.succeeded { Ok(true) } else { Err(CommandError::not_made(format!("crontab: {}", ran.words))) }
    }
}

/// A table without the job of this title: its comment, and the line below.
fn without(table: &str, title: &str) -> String {
    let mark = format!("# {title}");
    let mut lines = table.split_inclusive('\n');
    let mut rest = String::new();
    while let Some(line) = lines.next() {
        if line.trim_end() == mark {
            _ = lines.next();
        } else {
            rest += line;
        }
    }
    rest
}
