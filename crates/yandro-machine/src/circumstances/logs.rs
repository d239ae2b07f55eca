//! What servers and the system's guard write down while a site is asked.

use std::fs::{self, File};
use std::io::{Read as _, Seek as _, SeekFrom};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::check::LogLine;

use crate::machine::Machine;

/// How much of what was added to a log is read, in bytes.
const MOST: u64 = 1 << 16;

/// The error logs of a site's server, as long as they were at a moment: what is added later is of
/// the requests that come later.
#[derive(Debug, Default)]
pub struct Marked(Vec<(Utf8PathBuf, u64)>);

impl Marked {
    pub(super) fn of(logs: Vec<Utf8PathBuf>) -> Self {
        let length = |path: &Utf8PathBuf| fs::metadata(path).map_or(0, |meta| meta.len());
        Self(logs.into_iter().map(|path| (path.clone(), length(&path))).collect())
    }

    /// The lines that were added since and are about a name: those that name no other host.
    pub fn added(&self, names: &[String]) -> Vec<LogLine> {
        let mut found = Vec::new();
        for (path, from) in &self.0 {
            let Some((text, first)) = tail(path, *from) else { continue };
            for (number, line) in text.lines().enumerate() {
                let host = line.split("host: \"").nth(1).and_then(|rest| rest.split('"').next());
                let is_other =
                    host.is_some_and(|host| names.iter().all(|own| own != host.split(':').next().unwrap_or(host)));
                if !is_other && !line.trim().is_empty() && !is_notice(line) {
                    found.push(LogLine { file: path.clone(), number: first + number, text: line.to_owned() });
                }
            }
        }
        found
    }
}

/// Lines that tell of no fault.
fn is_notice(line: &str) -> bool {
    [":notice]", ":info]", ":debug]", "[notice]", "[info]", "[debug]"].iter().any(|level| line.contains(level))
}

/// What stands behind a place in a file, and the number of the line that begins there.
fn tail(path: &Utf8Path, from: u64) -> Option<(String, usize)> {
    let mut file = File::open(path).ok()?;
    let length = file.metadata().ok()?.len();
    if length <= from {
        return None;
    }
    let mut before = String::new();
    // A log of some gigabytes is not read for the sake of a number.
    let counted = from.min(64 << 20);
    file.by_ref().take(counted).read_to_string(&mut before).ok()?;
    file.seek(SeekFrom::Start(from)).ok()?;
    let mut added = Vec::new();
    file.take(MOST).read_to_end(&mut added).ok()?;
    Some((String::from_utf8_lossy(&added).into_owned(), before.matches('\n').count() + 1))
}

/// The files that `error_log` directives of a text name.
pub(super) fn nginx_error_logs(text: &str) -> Vec<Utf8PathBuf> {
    let of = |line: &str| {
        let rest = line.trim().strip_prefix("error_log ")?;
        let path = rest.trim_end_matches(';').split_whitespace().next()?.trim_matches('"');
        path.starts_with('/').then(|| path.into())
    };
    text.lines().filter_map(of).collect()
}

/// The last line in which a guard of the system kept somebody from a folder.
pub(super) fn confined(machine: &Machine, root: Option<&Utf8Path>) -> Option<String> {
    const LOGS: [&str; 3] = ["/var/log/audit/audit.log", "/var/log/kern.log", "/var/log/syslog"];
    let root = root?;
    let as_written = machine.places.inside(root);
    for log in LOGS {
        let path = machine.path(log);
        let from = fs::metadata(&path).map_or(0, |meta| meta.len().saturating_sub(MOST));
        let Some((text, _)) = tail(&path, from) else { continue };
        let is_denial = |line: &&str| {
            (line.contains("apparmor=\"DENIED\"") || line.contains("avc:  denied"))
                && line.contains(as_written.as_str())
        };
        if let Some(line) = text.lines().rev().find(is_denial) {
            return Some(format!("{path}: {}", line.trim()));
        }
    }
    None
}
