//! The log of the built-in server's requests, in the combined format with the host before and the time after it.

use std::fs::OpenOptions;
use std::io::{self, BufWriter, Write as _};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};

use camino::{Utf8Path, Utf8PathBuf};
use time::macros::format_description;
use yandro_core::TookField;
use yandro_machine::Machine;
use yandro_serve::{Answered, OnAnswered};

use crate::context::now;
use crate::error::CommandError;

/// Beyond this length, in bytes, the file is put aside as `access.log.1`.
const LONGEST: u64 = 10_000_000;
/// How many requests wait to be written. Further ones aren't logged: the server doesn't wait for its log.
const WAITING: usize = 10_000;
/// The format, in the words of Apache httpd.
const FORMAT: &str = "%v %h %l %u %t \"%r\" %>s %B \"%{Referer}i\" \"%{User-Agent}i\" %D";

/// The file.
pub(crate) fn path(machine: &Machine) -> Utf8PathBuf {
    machine.places.data.join("logs/access.log")
}

/// Where its lines have the time that a request took.
pub(crate) fn took() -> Option<TookField> {
    TookField::of_format(FORMAT)
}

/// Opens the log, and gives what writes a line for each request.
///
/// # Errors
/// When the file can't be made.
pub(super) fn log(machine: &Machine) -> Result<OnAnswered, CommandError> {
    let path = path(machine);
    if !path.exists() {
        machine.write_private(&path, b"")?;
    }
    let (send, received): (SyncSender<Answered>, Receiver<Answered>) = sync_channel(WAITING);
    std::thread::spawn(move || {
        while let Ok(first) = received.recv() {
            // A disk that is full, or a folder that is gone, is no reason to stop serving.
            _ = write(&path, std::iter::once(first).chain(received.try_iter()));
        }
    });
    Ok(Arc::new(move |answered| match send.try_send(answered) {
        Ok(()) | Err(TrySendError::Full(_) | TrySendError::Disconnected(_)) => {}
    }))
}

/// Adds lines for requests. The file is open only for that: on Windows its folder can't be removed otherwise.
fn write(path: &Utf8Path, requests: impl Iterator<Item = Answered>) -> io::Result<()> {
    let open = || OpenOptions::new().append(true).create(true).open(path);
    let mut file = open()?;
    if file.metadata()?.len() > LONGEST {
        drop(file);
        std::fs::rename(path, format!("{path}.1"))?;
        file = open()?;
    }
    let mut out = BufWriter::new(file);
    for answered in requests {
        out.write_all(line(&answered).as_bytes())?;
    }
    out.flush()
}

fn line(answered: &Answered) -> String {
    let format = format_description!("[day]/[month repr:short]/[year]:[hour]:[minute]:[second] +0000");
    let time = now().format(format).unwrap_or_default();
    let Answered { host, client, request, status, bytes, referer, agent, took } = answered;
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
    use std::time::Duration;

    use yandro_core::{LogEvent, access_entry};

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
    }

    #[test]
    fn a_long_log_is_put_aside() {
        let folder = tempfile::tempdir().unwrap();
        let path = Utf8PathBuf::from_path_buf(folder.path().join("access.log")).unwrap();
        std::fs::write(&path, vec![b'x'; usize::try_from(LONGEST).unwrap() + 1]).unwrap();
        let answered = Answered {
            host: String::new(),
            client: [127, 0, 0, 1].into(),
            request: "GET / HTTP/2.0".into(),
            status: 200,
            bytes: 0,
            referer: None,
            agent: None,
            took: Duration::ZERO,
        };
        write(&path, std::iter::once(answered)).unwrap();
        assert!(path.with_extension("log.1").exists());
        assert!(std::fs::read_to_string(&path).unwrap().starts_with("- 127.0.0.1 - - ["));
    }
}
