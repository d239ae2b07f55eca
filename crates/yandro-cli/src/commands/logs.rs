//! `yandro logs`.

use std::io::ErrorKind;
use std::time::Duration;

use time::format_description::well_known::Rfc3339;
use time::macros::format_description;
use time::{OffsetDateTime, UtcOffset};
use yandro_core::{HostName, LogEntry, LogEvent, ServerId, Site, access_entry, error_entry};
use yandro_machine::circumstances::{Followed, LogKind, SiteLog, site_logs};

use super::rename::own_site;
use super::serve::requests;
use crate::args::LogsArgs;
use crate::as_root::as_root;
use crate::context::{Context, now, stamp};
use crate::error::CommandError;
use crate::signals;
use crate::view::{BAD, DIM, Data, GOOD, Outcome, Tone, Ui, WARN, data};

/// How often the files are looked at for new lines.
const LOOK: Duration = Duration::from_millis(200);

/// How the requests of a check name their client.
const CHECK: &str = "compatible; yandro-check/";

data! {
    /// Data of `yandro logs`: one for each line.
    struct LogLine {
        /// When it was written, RFC 3339.
        time: Option<String>,
        /// `access` or `error`.
        log: &'static str,
        /// The client's address.
        client: Option<String>,
        /// Method and path.
        request: Option<String>,
        status: Option<u16>,
        bytes: Option<u64>,
        /// How long the request took, in milliseconds, if the format has that.
        took: Option<f64>,
        /// The text after the combined format, such as the time that the answer took.
        rest: Option<String>,
        /// The level of an error.
        level: Option<String>,
        /// The whole line.
        line: String,
    }
}

impl Data for LogLine {}

/// A line, with the kind of log that it is from.
type Line = (LogKind, LogEntry);

/// An open log, and the state of its reading.
struct Open {
    log: SiteLog,
    followed: Followed,
    /// Whether the last line was printed: further lines of an error belong to it.
    goes_on: bool,
}

pub(crate) fn run<'c>(context: &'c Context, args: &'c LogsArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    let (_, list) = context.list()?;
    let site = own_site(&list, &name)?;
    let since = args.since.as_deref().map(moment).transpose()?;
    let logs = logs(context, site)?;
    let may_have_own = context.server_of_site(site) != ServerId::BuiltIn;
    let mut reader =
        Reader { site: site.clone(), errors: args.errors, may_have_own, checks: ui.verbose, zone: UtcOffset::UTC };
    let (mut open, first) = reader.open(logs, ui)?;
    let skipped = if since.is_some() { 0 } else { first.len().saturating_sub(args.last) };
    let is_new = |entry: &LogEntry| since.is_none_or(|since| entry.at.is_some_and(|at| at >= since));
    for (kind, entry) in first.iter().skip(skipped).filter(|(_, entry)| is_new(entry)) {
        print(ui, *kind, entry);
    }
    if args.once {
        return Ok(Outcome::printed());
    }
    let runtime = signals::runtime()?;
    runtime.block_on(signals::unless_interrupted(async {
        loop {
            tokio::time::sleep(LOOK).await;
            for own in &mut open {
                // A file that can't be read for a moment, as while it is rotated, is read later.
                for line in own.followed.added().unwrap_or_default() {
                    if let Some(entry) = reader.entry(&own.log, &mut own.goes_on, &line) {
                        print(ui, own.log.kind, &entry);
                    }
                }
            }
        }
    }));
    Ok(Outcome::printed())
}

/// The logs of the site, or why there are none.
fn logs(context: &Context, site: &Site) -> Result<Vec<SiteLog>, CommandError> {
    let name = &site.name;
    let server = context.server_of_site(site);
    let Some(found) = context.server(server) else {
        if server == ServerId::BuiltIn {
            return Ok(of_built_in(context));
        }
        return Err(
            CommandError::usage(format!("yandro doesn't configure the server of `{name}`")).hint("read its logs there")
        );
    };
    let logs = site_logs(&context.machine, found, site);
    if logs.is_empty() {
        return Err(CommandError::usage(format!("`{name}` writes no logs"))
            .hint(format!("have it write some: yandro map {name} --logs usual")));
    }
    Ok(logs)
}

/// The logs of the built-in server, which has the requests of all its sites and what their applications say.
fn of_built_in(context: &Context) -> Vec<SiteLog> {
    let log = |kind, path, took| SiteLog { path, kind, is_shared: true, took };
    let access = log(LogKind::Access, requests::path(&context.machine), requests::took());
    let errors = log(LogKind::Error, context.machine.places.error_log(), None);
    // A server of an earlier version has made no error log.
    if errors.path.exists() { vec![access, errors] } else { vec![access] }
}

/// Chooses the lines to print.
struct Reader {
    site: Site,
    errors: bool,
    /// Whether the site can have logs that no other site writes into.
    may_have_own: bool,
    /// Whether the requests of `yandro check` are printed as well.
    checks: bool,
    /// The zone of the error logs' times: that of the requests.
    zone: UtcOffset,
}

impl Reader {
    /// Opens the logs that can be read, and gives their last lines by time.
    fn open(&mut self, logs: Vec<SiteLog>, ui: &mut Ui) -> Result<(Vec<Open>, Vec<Line>), CommandError> {
        let (mut open, mut first) = (Vec::new(), Vec::new());
        let mut forbidden = None;
        // Requests first: they tell the zone.
        for log in logs {
            let (followed, lines) = match Followed::open(&log.path) {
                Ok(opened) => opened,
                Err(error) if error.source.kind() == ErrorKind::PermissionDenied => {
                    forbidden = Some(log.path);
                    continue;
                }
                Err(error) => return Err(error.into()),
            };
            let mut own = Open { log, followed, goes_on: false };
            let count = first.len();
            for line in &lines {
                first.extend(self.entry(&own.log, &mut own.goes_on, line).map(|entry| (own.log.kind, entry)));
            }
            let is_silent = count == first.len() && own.log.kind == LogKind::Access;
            if own.log.is_shared && is_silent && self.may_have_own {
                ui.note(&format!(
                    "{} is the log of several sites. To give this site a separate one: yandro map {} --logs FOLDER",
                    own.log.path, self.site.name
                ));
            }
            open.push(own);
        }
        match forbidden {
            Some(path) if open.is_empty() => {
                return Err(CommandError::not_made(format!("you may not read {path}"))
                    .hint(format!("read it as root: {}", as_root(&["logs", self.site.name.as_str()])))
                    .hint(format!(
                        "or have the logs in a folder of yours: yandro map {} --logs FOLDER",
                        self.site.name
                    )));
            }
            Some(path) => ui.note(&format!("you may not read {path}")),
            None => {}
        }
        Ok((open, by_time(first)))
    }

    /// The entry of a line, if it is this site's and wanted.
    fn entry(&mut self, log: &SiteLog, goes_on: &mut bool, line: &str) -> Option<LogEntry> {
        let entry = match log.kind {
            LogKind::Access => access_entry(line, log.took.as_ref()),
            LogKind::Error => error_entry(line, self.zone),
        };
        if let (LogKind::Access, Some(at)) = (log.kind, entry.at) {
            self.zone = at.offset();
        }
        let is_further = log.kind == LogKind::Error && entry.event == LogEvent::Other;
        if !is_further {
            let is_own = match entry.event.host() {
                Some(host) => self.site.names().any(|name| name.as_str() == host),
                None => !log.is_shared,
            };
            let is_check =
                matches!(&entry.event, LogEvent::Request { agent: Some(agent), .. } if agent.contains(CHECK));
            *goes_on = is_own && (!self.errors || entry.event.is_fault()) && (self.checks || !is_check);
        }
        goes_on.then_some(entry)
    }
}

/// The lines of several logs in the order of their times. Further lines of an error have none, and stay behind it.
fn by_time(lines: Vec<Line>) -> Vec<Line> {
    let mut last = OffsetDateTime::UNIX_EPOCH;
    let mut timed: Vec<(OffsetDateTime, Line)> = Vec::with_capacity(lines.len());
    for line in lines {
        last = line.1.at.unwrap_or(last);
        timed.push((last, line));
    }
    timed.sort_by_key(|(at, _)| *at);
    timed.into_iter().map(|(_, line)| line).collect()
}

fn print(ui: &mut Ui, kind: LogKind, entry: &LogEntry) {
    if ui.is_data() {
        let mut value = serde_json::to_value(line_data(kind, entry)).unwrap_or_default();
        value["version"] = LogLine::VERSION.into();
        ui.json(&value);
        return;
    }
    let clock = entry.at.and_then(|at| at.format(format_description!("[hour]:[minute]:[second]")).ok());
    let clock = clock.unwrap_or_else(|| " ".repeat(8));
    ui.print(&match &entry.event {
        LogEvent::Request { client, request, status, bytes, rest, .. } => {
            let tone = tone(*status);
            let size = bytes.map(|bytes| format!("  {bytes} bytes")).unwrap_or_default();
            let took = entry.took.map(|took| format!("  {}", milliseconds(took))).unwrap_or_default();
            // The time is a part of it.
            let rest = if rest.is_empty() || !took.is_empty() { String::new() } else { format!("  {rest}") };
            format!("{DIM}{clock}{DIM:#}  {tone}{status}{tone:#}  {request}{DIM}{took}{size}  {client}{rest}{DIM:#}")
        }
        LogEvent::Error { level, message, .. } => {
            let tone = if entry.event.is_fault() { BAD } else { DIM };
            format!("{DIM}{clock}{DIM:#}  {tone}{level}{tone:#}  {message}")
        }
        LogEvent::Other => format!("{clock}  {}", entry.text),
    });
}

/// A time as people read it.
fn milliseconds(took: Duration) -> String {
    let micros = took.as_micros();
    if micros < 10_000 {
        format!("{}.{} ms", micros / 1000, micros % 1000 / 100)
    } else {
        format!("{} ms", micros / 1000)
    }
}

fn tone(status: u16) -> Tone {
    match status {
        200..300 => GOOD,
        300..400 => DIM,
        400..500 => WARN,
        _ => BAD,
    }
}

fn line_data(kind: LogKind, entry: &LogEntry) -> LogLine {
    let mut data = LogLine {
        time: entry.at.map(stamp),
        log: if kind == LogKind::Access { "access" } else { "error" },
        client: None,
        request: None,
        status: None,
        bytes: None,
        took: entry.took.map(|took| took.as_secs_f64() * 1000.0),
        rest: None,
        level: None,
        line: entry.text.clone(),
    };
    match &entry.event {
        LogEvent::Request { client, request, status, bytes, rest, .. } => {
            data.client = Some(client.clone());
            data.request = Some(request.clone());
            data.status = Some(*status);
            data.bytes = *bytes;
            data.rest = Some(rest.clone()).filter(|rest| !rest.is_empty());
        }
        LogEvent::Error { level, .. } => data.level = Some(level.clone()),
        LogEvent::Other => {}
    }
    data
}

/// The moment that `--since` names.
fn moment(text: &str) -> Result<OffsetDateTime, CommandError> {
    if let Ok(at) = OffsetDateTime::parse(text, &Rfc3339) {
        return Ok(at);
    }
    let error = || {
        CommandError::usage(format!("`{text}` is not a time"))
            .hint("write how long ago, as 10m, 2h or 1d, or a time as 2026-11-30T08:00:00Z")
    };
    let unit = text.chars().last().ok_or_else(error)?;
    let number: u32 = text[..text.len() - unit.len_utf8()].parse().map_err(|_| error())?;
    let seconds = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3600,
        'd' => 86400,
        _ => return Err(error()),
    };
    Ok(now() - Duration::from_secs(u64::from(number) * seconds))
}
