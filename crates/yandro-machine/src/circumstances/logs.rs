//! Log lines of servers and security modules, written while a site is asked.

use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Seek as _, SeekFrom};

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use yandro_core::LogLine;

use crate::files;
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

    /// The entries that were added since and are about a name: those that name no other host.
    pub fn added(&self, names: &[String]) -> Vec<LogLine> {
        let mut found = Vec::new();
        for (path, from) in &self.0 {
            let Some((text, first)) = tail(path, *from) else { continue };
            let mut entries: Vec<LogLine> = Vec::new();
            for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
                match entries.last_mut() {
                    // Further lines of the same entry.
                    Some(entry) if !is_first(line) => entry.text.extend(["\n", line]),
                    _ => entries.push(LogLine { file: path.clone(), number: first + number, text: line.to_owned() }),
                }
            }
            let is_other = |text: &str| {
                let host = text.split("host: \"").nth(1).and_then(|rest| rest.split('"').next());
                host.is_some_and(|host| names.iter().all(|own| own != host.split(':').next().unwrap_or(host)))
            };
            // The owner is at the end of the line.
            entries.retain(|entry| !is_other(&entry.text) && !is_notice(&entry.text));
            for entry in &mut entries {
                let end = entry.text.match_indices('\n').nth(LONGEST).map(|(at, _)| at);
                entry.text.truncate(end.unwrap_or(entry.text.len()));
            }
            found.append(&mut entries);
        }
        found
    }
}

/// How many lines of an entry count beyond its first: a trace may have hundreds.
const LONGEST: usize = 8;

/// Whether a line is the first of an entry: it begins with a time, as `[Fri Nov 27 …` or `2026/11/27 …`.
fn is_first(line: &str) -> bool {
    line.starts_with('[') || line.as_bytes().get(4) == Some(&b'/') && line.starts_with(|c: char| c.is_ascii_digit())
}

/// Lines that tell of no fault.
fn is_notice(line: &str) -> bool {
    [":notice]", ":info]", ":debug]", "[notice]", "[info]", "[debug]"].iter().any(|level| line.contains(level))
}

/// The text behind a place in a file, and the number of the line that begins there.
fn tail(path: &Utf8Path, from: u64) -> Option<(String, usize)> {
    let mut file = files::open_regular(path).ok()?;
    if file.metadata().ok()?.len() <= from {
        return None;
    }
    let mut before = BufReader::with_capacity(1 << 16, file.by_ref().take(from));
    let mut lines = 0;
    loop {
        let buffer = before.fill_buf().ok()?;
        if buffer.is_empty() {
            break;
        }
        lines += buffer.split(|byte| *byte == b'\n').count() - 1;
        let length = buffer.len();
        before.consume(length);
    }
    file.seek(SeekFrom::Start(from)).ok()?;
    let mut added = Vec::new();
    file.take(MOST).read_to_end(&mut added).ok()?;
    Some((String::from_utf8_lossy(&added).into_owned(), lines + 1))
}

/// The last line of a log's end that has one of these words.
pub(super) fn last_line(path: &Utf8Path, words: &[&str]) -> Option<LogLine> {
    let from = fs::metadata(path).ok()?.len().saturating_sub(MOST);
    let (text, first) = tail(path, from)?;
    let (number, line) =
        text.lines().enumerate().filter(|(_, line)| words.iter().any(|word| line.contains(word))).last()?;
    Some(LogLine { file: path.to_owned(), number: first + number, text: line.to_owned() })
}

/// How old a guard's line may be that is about what is seen now, in seconds: the kernel doesn't repeat each at once.
const RECENT: i64 = 600;

/// The last line of the last minutes in which a guard of the system kept somebody from a folder.
pub(super) fn confined(machine: &Machine, root: Option<&Utf8Path>, now: OffsetDateTime) -> Option<String> {
    const LOGS: [&str; 3] = ["/var/log/audit/audit.log", "/var/log/kern.log", "/var/log/syslog"];
    let root = root?;
    let as_written = machine.places.inside(root);
    for log in LOGS {
        let path = machine.path(log);
        let Ok(text) = files::read_end(&path, MOST) else { continue };
        let is_denial = |line: &&str| is_denial(line, &as_written) && is_recent(line, now);
        if let Some(line) = text.lines().rev().find(is_denial) {
            return Some(format!("{path}: {}", line.trim()));
        }
    }
    None
}

/// Whether a security module's line is about a folder. `AppArmor` names the path; `SELinux` usually only its last
/// part, and the program.
fn is_denial(line: &str, folder: &Utf8Path) -> bool {
    const SERVERS: [&str; 3] = ["httpd", "apache2", "nginx"];
    let value = |name: &str| line.split_once(&format!(" {name}=\""))?.1.split('"').next();
    if line.contains("apparmor=\"DENIED\"") {
        return line.contains(folder.as_str());
    }
    let is_part = |name: &str| name.starts_with("index.") || folder.components().any(|part| part.as_str() == name);
    line.contains("avc:  denied")
        && (line.contains(folder.as_str())
            || value("comm").is_some_and(|program| SERVERS.contains(&program)) && value("name").is_some_and(is_part))
}

/// Whether a line of the kernel's audit is of the last minutes: it bears its time as `audit(SECONDS.MILLISECONDS:SERIAL)`.
fn is_recent(line: &str, now: OffsetDateTime) -> bool {
    let seconds = line.split_once("audit(").and_then(|(_, rest)| rest.split(['.', ':']).next());
    let at = seconds.and_then(|seconds| seconds.parse::<i64>().ok());
    at.is_some_and(|at| (now.unix_timestamp() - at).abs() <= RECENT)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn added_log_lines_have_their_numbers() {
        let folder = tempfile::tempdir().unwrap();
        let path = Utf8PathBuf::from_path_buf(folder.path().join("error.log")).unwrap();
        // Longer than what is read at once, and no UTF-8.
        let before: Vec<u8> = b"low \xff tide\n".repeat(9_000);
        fs::write(&path, &before).unwrap();
        let marked = Marked::of(vec![path.clone(), path.with_file_name("gone.log")]);
        let of_another = format!("[x] long{}, host: \"depot.test\"\n", "\n#1 tide()".repeat(40));
        let added = "[x] high, host: \"depot.test:443\"\n[x] high\nand low, host: \"saltmarsh.test\"\n[core:notice] x\n2026/11/27 no host\n".to_owned() + &of_another + &of_another.replace("depot", "saltmarsh");
        fs::write(&path, [&before, added.as_bytes()].concat()).unwrap();
        let found = marked.added(&["saltmarsh.test".to_owned()]);
        assert_eq!((found.len(), found[2].text.lines().count()), (3, 9), "a trace is cut where it is shown");
        let told: Vec<(usize, &str)> = found[..2].iter().map(|line| (line.number, line.text.as_str())).collect();
        assert_eq!(told, [(9_002, "[x] high\nand low, host: \"saltmarsh.test\""), (9_005, "2026/11/27 no host")]);
    }

    #[test]
    fn a_guards_line_is_about_a_folder_by_its_path_or_by_its_name() {
        let avc = |comm: &str, name: &str| {
            format!(
                "type=AVC msg=audit(1794999990.123:45): avc:  denied  {{ read }} for  pid=9 comm=\"{comm}\" name=\"{name}\" dev=\"dm-0\" ino=7 tcontext=unconfined_u:object_r:user_home_t:s0"
            )
        };
        let armor =
            "audit: apparmor=\"DENIED\" operation=\"open\" profile=\"nginx\" name=\"/home/ada/saltmarsh/index.html\"";
        let folder = Utf8Path::new("/home/ada/saltmarsh");
        for (line, expected) in [
            (avc("httpd", "ada"), true),
            (avc("nginx", "index.html"), true),
            (avc("httpd", "tides"), false),
            (avc("sshd", "saltmarsh"), false),
            (avc("sshd", "x").replace("dev=", "path=\"/home/ada/saltmarsh/x\" dev="), true),
            (armor.to_owned(), true),
            (armor.replace("saltmarsh", "depot"), false),
            (armor.replace("DENIED", "ALLOWED"), false),
        ] {
            assert_eq!(is_denial(&line, folder), expected, "{line}");
        }
    }

    #[test]
    fn a_guards_line_of_long_ago_is_about_something_else() {
        let now = OffsetDateTime::from_unix_timestamp(1_795_000_000).unwrap();
        assert!(is_recent("type=AVC msg=audit(1794999990.123:45): avc:  denied", now));
        for old in ["kernel: audit: type=1400 audit(1794990000.1:2): apparmor=\"DENIED\"", "audit(x)", ""] {
            assert!(!is_recent(old, now), "{old}");
        }
    }
}
