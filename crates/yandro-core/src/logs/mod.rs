//! Lines of web servers' logs: requests, and errors.

#[cfg(test)]
mod tests;
mod took;

use core::time::Duration;

pub use took::TookField;

use time::macros::format_description;
use time::{OffsetDateTime, PrimitiveDateTime, UtcOffset};

use crate::server_path::ServerPath;

/// A log of requests, as a configuration names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccessLog {
    /// The file, as the server sees it.
    pub path: ServerPath,
    /// Whether other sites write into it, too.
    pub is_shared: bool,
    /// Where its format has the time that a request took.
    pub took: Option<TookField>,
}

/// A line of a log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogEntry {
    /// When it was written; `None` if the line doesn't say.
    pub at: Option<OffsetDateTime>,
    /// The event that it records.
    pub event: LogEvent,
    /// How long the request took, if the format has that.
    pub took: Option<Duration>,
    /// The line itself.
    pub text: String,
}

/// The event that a line of a log records.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LogEvent {
    /// A request, in the combined format or one that begins like it.
    Request {
        /// The host that the line begins with, as in `vhost_combined`.
        host: Option<String>,
        /// The client's address.
        client: String,
        /// Method and path, as they were sent.
        request: String,
        /// The status of the answer (RFC 9110 section 15).
        status: u16,
        /// The length of the answer in bytes, if there was one.
        bytes: Option<u64>,
        /// The client's name for itself (RFC 9110 section 10.1.5), if the format has it.
        agent: Option<String>,
        /// The text after the combined format: often the time that the answer took.
        rest: String,
    },
    /// A line of an error log.
    Error {
        /// Its level: `error`, `warn`, `notice` and so on.
        level: String,
        /// The host of the request that it is about, if the line says so.
        host: Option<String>,
        /// The message, without time, level and process; of nginx with the request in parentheses.
        message: String,
    },
    /// Anything else, as a further line of an error.
    Other,
}

impl LogEvent {
    /// Whether it tells of a fault: a status of 400 and more, or an error above the level of a notice.
    pub fn is_fault(&self) -> bool {
        match self {
            Self::Request { status, .. } => *status >= 400,
            Self::Error { level, .. } => !["notice", "info", "debug"].contains(&level.as_str()),
            Self::Other => false,
        }
    }

    /// The host that it is about, if the line says so.
    pub fn host(&self) -> Option<&str> {
        match self {
            Self::Request { host, .. } | Self::Error { host, .. } => host.as_deref(),
            Self::Other => None,
        }
    }
}

/// Reads a line of a log of requests; `took` is where its format has the time that a request took.
pub fn access_entry(line: &str, took: Option<&TookField>) -> LogEntry {
    let parsed = request(line);
    let (at, event) = parsed.map_or((None, LogEvent::Other), |(at, event)| (at, event));
    let took = match &event {
        LogEvent::Request { rest, .. } => took.and_then(|field| field.read(rest)),
        _ => None,
    };
    LogEntry { at, event, took, text: line.to_owned() }
}

/// The parts of `[HOST:PORT] CLIENT IDENTITY USER [TIME] "REQUEST" STATUS BYTES "REFERER" "AGENT" REST`.
fn request(line: &str) -> Option<(Option<OffsetDateTime>, LogEvent)> {
    let (head, rest) = line.split_once(" [")?;
    let (time, rest) = rest.split_once("] \"")?;
    let (request, rest) = quoted(rest)?;
    let mut words = rest.trim_start().splitn(3, ' ');
    let status = words.next()?.parse().ok().filter(|status| (100..1000).contains(status))?;
    let bytes = words.next().and_then(|bytes| bytes.parse().ok());
    let (agent, rest) = behind_bytes(words.next().unwrap_or_default());
    let agent = agent.map(str::to_owned);
    let heads: Vec<&str> = head.split(' ').collect();
    let (host, client) = match heads[..] {
        [host, client, _, _, ..] => (Some(host.split(':').next().unwrap_or(host).to_owned()), client),
        [client, ..] => (None, client),
        [] => return None,
    };
    let at = OffsetDateTime::parse(
        time,
        format_description!(
            "[day]/[month repr:short]/[year]:[hour]:[minute]:[second] [offset_hour sign:mandatory][offset_minute]"
        ),
    );
    let mut parts = request.split(' ');
    let words = [parts.next().unwrap_or_default(), parts.next().unwrap_or_default()].join(" ");
    let event = LogEvent::Request {
        host,
        client: client.to_owned(),
        request: words.trim().to_owned(),
        status,
        bytes,
        agent,
        rest: rest.trim().to_owned(),
    };
    Some((at.ok(), event))
}

/// The client's name and the text after the combined format, from what follows the length of the answer.
fn behind_bytes(mut rest: &str) -> (Option<&str>, &str) {
    let mut agent = None;
    // The page before, then the client's name.
    for _ in 0..2 {
        if let Some((text, behind)) = rest.strip_prefix('"').and_then(quoted) {
            (agent, rest) = (Some(text), behind.trim_start());
        }
    }
    (agent, rest)
}

/// The same, from what follows the quote before the request.
fn behind_request(text: &str) -> Option<(Option<&str>, &str)> {
    let (_, rest) = quoted(text)?;
    Some(behind_bytes(rest.trim_start().splitn(3, ' ').nth(2).unwrap_or_default()))
}

/// The text up to the next quote without a backslash before it, and what follows.
fn quoted(text: &str) -> Option<(&str, &str)> {
    let mut is_escaped = false;
    for (at, c) in text.char_indices() {
        match c {
            '"' if !is_escaped => return Some((&text[..at], &text[at + 1..])),
            '\\' => is_escaped = !is_escaped,
            _ => is_escaped = false,
        }
    }
    None
}

/// Reads a line of an error log of Apache httpd or nginx, whose times are those of the server's zone.
pub fn error_entry(line: &str, zone: UtcOffset) -> LogEntry {
    let parsed = httpd_error(line).or_else(|| nginx_error(line));
    let (at, event) = parsed.map_or((None, LogEvent::Other), |(at, event)| (at, event));
    LogEntry { at: at.map(|at| at.assume_offset(zone)), event, took: None, text: line.to_owned() }
}

/// `[Mon Nov 30 20:08:18.123456 2026] [MODULE:LEVEL] [pid …] [client …] MESSAGE`.
fn httpd_error(line: &str) -> Option<(Option<PrimitiveDateTime>, LogEvent)> {
    let (time, mut rest) = line.strip_prefix('[')?.split_once("] [")?;
    let (level, behind) = rest.split_once("] ")?;
    let level = level.rsplit(':').next().unwrap_or(level).to_owned();
    rest = behind;
    while let Some(inner) = rest.strip_prefix('[') {
        rest = inner.split_once("] ").map_or("", |(_, behind)| behind);
    }
    // Fractions of a second.
    let words: Vec<&str> = time.split_whitespace().collect();
    let [_, month, day, clock, year] = words[..] else { return None };
    let clock = clock.split('.').next().unwrap_or(clock);
    let text = format!("{year} {month} {day:0>2} {clock}");
    let at = PrimitiveDateTime::parse(
        &text,
        format_description!("[year] [month repr:short] [day] [hour]:[minute]:[second]"),
    );
    Some((at.ok(), LogEvent::Error { level, host: None, message: rest.to_owned() }))
}

/// `2026/11/30 20:08:18 [LEVEL] PID#TID: *CONNECTION MESSAGE, client: …, server: …, request: "…", host: "…"`.
fn nginx_error(line: &str) -> Option<(Option<PrimitiveDateTime>, LogEvent)> {
    let (time, rest) = line.split_once(" [")?;
    let at =
        PrimitiveDateTime::parse(time, format_description!("[year]/[month]/[day] [hour]:[minute]:[second]")).ok()?;
    let (level, rest) = rest.split_once("] ")?;
    let message = rest.split_once(": ").map_or(rest, |(_, message)| message);
    let message = match message.strip_prefix('*').and_then(|rest| rest.split_once(' ')) {
        Some((number, message)) if number.bytes().all(|byte| byte.is_ascii_digit()) => message,
        _ => message,
    };
    let value = |name: &str| rest.split(name).nth(1).and_then(|rest| rest.split('"').next());
    let host = value("host: \"").map(|host| host.split(':').next().unwrap_or(host).to_owned());
    // The request and its client follow.
    let message = message.split(", client: ").next().unwrap_or(message);
    let request = value(", request: \"").and_then(|request| request.rsplit_once(' ')).map(|(request, _)| request);
    let message = request.map_or_else(|| message.to_owned(), |request| format!("{message} ({request})"));
    Some((Some(at), LogEvent::Error { level: level.to_owned(), host, message }))
}
