//! The logs of the built-in server: its requests, in the combined format with the host before and the time after it, and
//! what applications say on the side, in the format of nginx's error log.

use std::fs::OpenOptions;
use std::io::{self, Write as _};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use time::macros::format_description;
use yandro_core::TookField;
use yandro_machine::Machine;
use yandro_serve::{Answered, OnAnswered, Report, Reports};

use crate::error::CommandError;

/// Beyond this length, in bytes, the file is put aside as `access.log.1`.
const LONGEST: u64 = 10_000_000;
/// How many requests wait to be written. Further ones aren't logged: the server doesn't wait for its log.
const WAITING: usize = 20_000;
/// How long requests are gathered before they are written together.
const GATHER: Duration = Duration::from_millis(20);
/// The format, in the words of Apache httpd.
const FORMAT: &str = "%v %h %l %u %t \"%r\" %>s %B \"%{Referer}i\" \"%{User-Agent}i\" %D";

/// The file of requests.
pub(crate) fn path(machine: &Machine) -> Utf8PathBuf {
    machine.places.data.join("logs/access.log")
}

/// Where its lines have the time that a request took.
pub(crate) fn took() -> Option<TookField> {
    TookField::of_format(FORMAT)
}

/// The requests that wait to be written, and whether there will be more.
#[derive(Default)]
struct Waiting {
    requests: Reports,
    is_over: bool,
}

/// What is shared with the thread that writes.
type Shared = Arc<(Mutex<Waiting>, Condvar)>;

/// Writes the logs until it is dropped; then it has written everything.
pub(super) struct RequestLog {
    shared: Shared,
    writing: Option<JoinHandle<()>>,
}

impl RequestLog {
    /// Opens the logs.
    ///
    /// # Errors
    /// When a file can't be made.
    pub(super) fn open(machine: &Machine) -> Result<Self, CommandError> {
        let paths = [path(machine), machine.places.error_log()];
        for path in &paths {
            if !path.exists() {
                machine.write_private(path, b"")?;
            }
        }
        let shared = Shared::default();
        let own = shared.clone();
        let writing = std::thread::spawn(move || write_all(&own, &paths));
        Ok(Self { shared, writing: Some(writing) })
    }

    /// What takes each request.
    pub(super) fn taker(&self) -> OnAnswered {
        let shared = self.shared.clone();
        Arc::new(move |report: &Report| {
            let mut waiting = shared.0.lock().unwrap_or_else(PoisonError::into_inner);
            if waiting.requests.len() < WAITING {
                waiting.requests.add(report);
            }
            // The thread is awake otherwise.
            if waiting.requests.len() == 1 {
                shared.1.notify_one();
            }
        })
    }
}

impl Drop for RequestLog {
    fn drop(&mut self) {
        self.shared.0.lock().unwrap_or_else(PoisonError::into_inner).is_over = true;
        self.shared.1.notify_one();
        if let Some(writing) = self.writing.take() {
            // It doesn't panic, and if it did there would be nothing to write.
            _ = writing.join();
        }
    }
}

fn write_all(shared: &Shared, [access, error]: &[Utf8PathBuf; 2]) {
    // Its room and that of the requests in waiting are exchanged each time.
    let mut taken = Reports::default();
    loop {
        let is_idle = |waiting: &mut Waiting| waiting.requests.is_empty() && !waiting.is_over;
        let waiting = shared.0.lock().unwrap_or_else(PoisonError::into_inner);
        let waiting = shared.1.wait_while(waiting, is_idle).unwrap_or_else(PoisonError::into_inner);
        let is_over = waiting.is_over;
        drop(waiting);
        if !is_over {
            std::thread::sleep(GATHER);
        }
        let mut waiting = shared.0.lock().unwrap_or_else(PoisonError::into_inner);
        std::mem::swap(&mut taken, &mut waiting.requests);
        let is_over = waiting.is_over;
        drop(waiting);
        let requests = taken.read();
        let lines: String = requests.iter().map(line).collect();
        let said: String = requests.iter().filter_map(said).collect();
        // The server goes on if the disk is full or the folder is gone.
        _ = write(access, &lines);
        _ = write(error, &said);
        if is_over {
            return;
        }
    }
}

/// Adds lines. The file is open only for that: on Windows its folder can't be removed otherwise.
fn write(path: &Utf8Path, lines: &str) -> io::Result<()> {
    if lines.is_empty() {
        return Ok(());
    }
    let open = || OpenOptions::new().append(true).create(true).open(path);
    let mut file = open()?;
    if file.metadata()?.len() > LONGEST {
        drop(file);
        std::fs::rename(path, format!("{path}.1"))?;
        file = open()?;
    }
    file.write_all(lines.as_bytes())
}

fn line(answered: &Answered) -> String {
    let format = format_description!("[day]/[month repr:short]/[year]:[hour]:[minute]:[second] +0000");
    let time = OffsetDateTime::from(answered.at).format(format).unwrap_or_default();
    let Answered { host, client, request, status, bytes, referer, agent, took, .. } = answered;
    let (host, request) = (escaped(host).replace(' ', "_"), escaped(request));
    let field = |field: &Option<String>| escaped(field.as_deref().unwrap_or("-"));
    let host = if host.is_empty() { "-".to_owned() } else { host };
    format!(
        "{host} {client} - - [{time}] \"{request}\" {status} {bytes} \"{}\" \"{}\" {}\n",
        field(referer),
        field(agent),
        took.as_micros()
    )
}

/// The lines of what an application said. The first says for which request; further ones, as of a stack, follow it.
fn said(answered: &Answered) -> Option<String> {
    let mut words = answered.said.trim().lines().map(str::trim_end);
    let first = words.next().filter(|first| !first.is_empty())?;
    let format = format_description!("[year]/[month]/[day] [hour]:[minute]:[second]");
    let time = OffsetDateTime::from(answered.at).format(format).unwrap_or_default();
    let Answered { host, client, request, .. } = answered;
    let mut lines = format!(
        "{time} [{}] 0#0: {}, client: {client}, request: \"{}\", host: \"{}\"\n",
        level(&answered.said),
        escaped_controls(first),
        escaped(request),
        escaped(host)
    );
    for word in words {
        // Further lines begin with a space, and never pass for a line of their own.
        lines += &format!(" {}\n", escaped_controls(word));
    }
    Some(lines)
}

/// How bad it is, in PHP's own words.
fn level(said: &str) -> &'static str {
    let has = |words: &[&str]| words.iter().any(|word| said.contains(word));
    if has(&["PHP Fatal", "PHP Parse", "Uncaught"]) {
        "error"
    } else if has(&["PHP Warning"]) {
        "warn"
    } else if has(&["PHP Notice", "PHP Deprecated"]) {
        "notice"
    } else {
        "error"
    }
}

/// A text without control characters, but for tabs.
fn escaped_controls(text: &str) -> String {
    let escape = |letter: char| match letter {
        letter if letter.is_control() && letter != '\t' => letter.escape_unicode().to_string(),
        letter => letter.to_string(),
    };
    text.chars().map(escape).collect()
}

/// A text that can end neither its quotes nor its line.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '"' | '\\' => out.extend(['\\', letter]),
            letter if letter.is_control() => out.extend(letter.escape_unicode()),
            letter => out.push(letter),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use yandro_core::{LogEvent, access_entry, error_entry};

    use super::*;

    #[test]
    fn a_request_is_read_as_it_was_written_whatever_it_says() {
        let answered = Answered {
            host: "saltmarsh.test".into(),
            client: [127, 0, 0, 1].into(),
            request: "GET /tide\"s HTTP/1.1".into(),
            status: 404,
            bytes: 12,
            referer: None,
            agent: Some("x\" 200 1 \"\n127.0.0.1 - - [".into()),
            took: Duration::from_micros(1234),
            at: std::time::UNIX_EPOCH,
            said: "PHP message: PHP Fatal error:  no tide\nStack trace:\n2026/12/01 00:00:00 [error] 0#0: x".into(),
        };
        let line = line(&answered);
        assert_eq!(line.lines().count(), 1);
        let entry = access_entry(line.trim_end(), took().as_ref());
        assert_eq!(entry.took, Some(answered.took));
        assert!(entry.at.is_some());
        let LogEvent::Request { host, client, status, bytes, .. } = entry.event else { panic!("{line}") };
        assert_eq!(
            (host.as_deref(), client.as_str(), status, bytes),
            (Some("saltmarsh.test"), "127.0.0.1", 404, Some(12))
        );
        let said = said(&answered).unwrap();
        let entries: Vec<_> = said.lines().map(|line| error_entry(line, time::UtcOffset::UTC)).collect();
        let LogEvent::Error { level, host, message } = &entries[0].event else { panic!("{said}") };
        assert_eq!((level.as_str(), host.as_deref()), ("error", Some("saltmarsh.test")), "{said}");
        assert!(message.starts_with("PHP message: PHP Fatal error:  no tide"), "{said}");
        assert!(entries[1..].iter().all(|entry| entry.event == LogEvent::Other), "{said}");
    }

    #[test]
    fn a_long_log_is_put_aside() {
        let folder = tempfile::tempdir().unwrap();
        let path = Utf8PathBuf::from_path_buf(folder.path().join("access.log")).unwrap();
        std::fs::write(&path, vec![b'x'; usize::try_from(LONGEST).unwrap() + 1]).unwrap();
        write(&path, "- 127.0.0.1 - - [\n").unwrap();
        assert!(path.with_extension("log.1").exists());
        assert!(std::fs::read_to_string(&path).unwrap().starts_with("- 127.0.0.1 - - ["));
    }
}
