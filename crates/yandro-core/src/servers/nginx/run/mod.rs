//! A configuration as nginx reads it: includes followed, server blocks of the `http` context
//! with where they listen and by which names they answer.

use std::collections::BTreeMap;

use crate::config::{Answering, ConfigFault, Files, Place, VirtualHost};
use crate::logs::{AccessLog, TookField};
use crate::server_path::ServerPath;

mod lines;
mod listen;
mod logs;
mod walk;

use lines::AnsweringLine;
pub use listen::ListenOn;
use logs::NamedLog;

/// A configuration that was run through.
#[derive(Clone, Debug, Default)]
pub struct NginxRun {
    /// The server blocks, in order.
    pub servers: Vec<ServerBlock>,
    /// The files that were read, in the order of their first reading.
    pub files: Vec<ServerPath>,
    /// Includes within `http`, with their wildcards, absolute; in order.
    pub includes: Vec<ServerPath>,
    /// User of the workers.
    pub user: Option<String>,
    /// The file that keeps the number of the main process.
    pub pid_file: Option<ServerPath>,
    /// The size of the buckets of names (`server_names_hash_bucket_size`), where it is said, and
    /// its place.
    pub name_bucket: Option<(usize, Place)>,
    /// Error logs of blocks without `error_log`.
    error_logs: ErrorLogs,
    /// The folder that relative paths of logs start from (`nginx -p`): the one above `conf`. `None` if it isn't known,
    /// as with the main files of distributions.
    prefix: Option<ServerPath>,
    /// The files that `access_log` names within `http`; `None` without that directive.
    access_logs: Option<Vec<NamedLog>>,
    /// The formats of logs by their names (`log_format`).
    formats: BTreeMap<String, String>,
    /// Lines of `http` itself that may answer requests.
    lines: Vec<AnsweringLine>,
    /// The fault that ended the run before its end.
    pub fault: Option<ConfigFault>,
}

/// The files that `error_log` names outside of server blocks: those within `http` take the place of the others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct ErrorLogs {
    /// At the top.
    main: Vec<String>,
    /// Within `http`.
    http: Vec<String>,
}

/// A `server` block.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerBlock {
    /// Addresses that it listens on; without `listen` port 80 of all addresses.
    pub listens: Vec<ListenOn>,
    /// Its error logs, if it names any.
    error_logs: Vec<String>,
    /// Its logs of requests, if it names any: empty if it has them off.
    access_logs: Option<Vec<NamedLog>>,
    /// Its lines that may answer requests.
    lines: Vec<AnsweringLine>,
    /// The rest of it, in the form that all servers have.
    pub host: VirtualHost,
}

impl NginxRun {
    /// Runs through the configuration whose main file this is.
    pub fn run(main: &ServerPath, files: &dyn Files) -> Self {
        walk::walked(main, files, false)
    }

    /// The file that keeps the number of the main process, as a main file says, read no further than that.
    pub(crate) fn pid_file_of(main: &ServerPath, files: &dyn Files) -> Option<ServerPath> {
        walk::walked(main, files, true).pid_file
    }

    /// The files in which requests to a server block are logged.
    pub fn access_logs(&self, block: &ServerBlock) -> Vec<AccessLog> {
        match &block.access_logs {
            Some(own) => self.files(own, false),
            None => self.shared_access_logs(),
        }
    }

    /// The files in which requests are logged unless a block says otherwise.
    pub fn shared_access_logs(&self) -> Vec<AccessLog> {
        let usual = if self.prefix.is_some() { PLAIN_ACCESS_LOG } else { ACCESS_LOG };
        let usual = NamedLog { path: usual.to_owned(), format: String::new() };
        self.files(self.access_logs.as_deref().unwrap_or(&[usual]), true)
    }

    /// The logs that are files: no variable is in their names, and they aren't the system's.
    fn files(&self, logs: &[NamedLog], is_shared: bool) -> Vec<AccessLog> {
        let is_file = |log: &&NamedLog| !log.path.contains('$') && !log.path.starts_with("syslog:");
        let log = |log: &NamedLog| {
            let took = self.formats.get(&log.format).and_then(|format| TookField::of_format(format));
            Some(AccessLog { path: self.log_path(&log.path)?, is_shared, took })
        };
        logs.iter().filter(is_file).filter_map(log).collect()
    }

    /// The absolute path of a log; `None` for a relative one if the folder that it starts from isn't known.
    pub fn log_path(&self, path: &str) -> Option<ServerPath> {
        let path = ServerPath::from(path.to_owned());
        if path.is_absolute() { Some(path) } else { self.prefix.as_ref().map(|prefix| prefix.join(path)) }
    }

    /// The files in which errors of a server block are written, as they are named there.
    pub fn error_logs<'c>(&'c self, block: &'c ServerBlock) -> &'c [String] {
        [&block.error_logs, &self.error_logs.http, &self.error_logs.main]
            .into_iter()
            .find(|logs| !logs.is_empty())
            .map_or(&[], |logs| &logs[..])
    }

    /// The server blocks by address.
    pub fn answering(&self) -> Vec<Answering<'_>> {
        let mut found: Vec<(Answering<'_>, bool)> = Vec::new();
        for server in &self.servers {
            for listen in &server.listens {
                match found.iter_mut().find(|(own, _)| own.address == listen.address) {
                    // A block comes once for each address; its own `listen` lines follow one another.
                    Some((own, _)) if own.hosts.last().is_some_and(|host| host.place == server.host.place) => {}
                    Some((own, has_default)) => {
                        if listen.is_default && !*has_default {
                            own.default = own.hosts.len();
                            *has_default = true;
                        }
                        own.hosts.push(&server.host);
                    }
                    None => {
                        let own = Answering { address: listen.address.clone(), hosts: vec![&server.host], default: 0 };
                        found.push((own, listen.is_default));
                    }
                }
            }
        }
        found.into_iter().map(|(own, _)| own).collect()
    }
}

/// The server block of an address that answers a name: the one that has it exactly, by the longest
/// wildcard at the beginning, by the longest at the end, or by the first regular expression, or
/// else the default (nginx manual, "Server names").
pub fn answering_name<'h>(at: &Answering<'h>, name: &str) -> Option<&'h VirtualHost> {
    let name = name.to_ascii_lowercase();
    let named = || at.hosts.iter().flat_map(|host| host.name.iter().chain(&host.aliases).map(move |own| (*host, own)));
    let exact = named().find(|(_, own)| own.eq_ignore_ascii_case(&name) || own.strip_prefix('.') == Some(&name));
    let longest = |fits: &dyn Fn(&str) -> bool| {
        let mut best: Option<(&VirtualHost, usize)> = None;
        for (host, own) in named().filter(|(_, own)| !own.starts_with('~') && fits(&own.to_ascii_lowercase())) {
            let length = own.trim_start_matches(['*', '.']).len();
            if best.is_none_or(|(_, other)| length > other) {
                best = Some((host, length));
            }
        }
        best.map(|(host, _)| host)
    };
    let leading = |own: &str| {
        let suffix = own.strip_prefix('*').unwrap_or(own);
        suffix.starts_with('.') && name.ends_with(suffix)
    };
    let trailing =
        |own: &str| own.strip_suffix('*').is_some_and(|prefix| prefix.ends_with('.') && name.starts_with(prefix));
    let fits_regex = |own: &str| {
        let expression = own.strip_prefix('~').map(|own| format!("(?i){own}"));
        expression.is_some_and(|own| regex_lite::Regex::new(&own).is_ok_and(|regex| regex.is_match(&name)))
    };
    exact
        .map(|(host, _)| host)
        .or_else(|| longest(&leading))
        .or_else(|| longest(&trailing))
        .or_else(|| named().find(|(_, own)| fits_regex(own)).map(|(host, _)| host))
        .or_else(|| at.hosts.get(at.default).copied())
}

/// The log of requests where no `access_log` says otherwise, as distributions build nginx.
const ACCESS_LOG: &str = "/var/log/nginx/access.log";
/// The same as its makers build it, below its prefix.
const PLAIN_ACCESS_LOG: &str = "logs/access.log";

#[cfg(test)]
mod tests;
