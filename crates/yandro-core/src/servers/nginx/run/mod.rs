//! A configuration as nginx reads it: includes followed, server blocks of the `http` context
//! with where they listen and by which names they answer.

use std::collections::BTreeMap;

use super::parse;
use crate::config::{Answering, ConfigFault, Directive, Files, Node, Place, Section, VirtualHost, files_of};
use crate::logs::{AccessLog, TookField};
use crate::server_path::ServerPath;

mod lines;
mod listen;
mod logs;

use lines::{AnsweringLine, is_for_asked};
pub use listen::ListenOn;
use logs::{NamedLog, add_log};

/// How deep includes may nest.
const DEEPEST: usize = 64;

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

#[derive(Clone, Copy, PartialEq, Eq)]
enum BlockContext {
    Main,
    Http,
    Server,
    /// A block within a server: whether it is at its root (`location /`), and whether it answers what a check asks for.
    Location {
        is_root: bool,
        is_asked: bool,
    },
    Other,
}

struct NginxWalk<'f> {
    files: &'f dyn Files,
    /// The folder of the main file: where relative includes start from.
    prefix: ServerPath,
    depth: usize,
    done: NginxRun,
}

impl NginxRun {
    /// Runs through the configuration whose main file this is.
    pub fn run(main: &ServerPath, files: &dyn Files) -> Self {
        let prefix = main.parent().unwrap_or_else(ServerPath::root);
        let mut walk = NginxWalk { files, prefix, depth: 0, done: Self::default() };
        let conf = main.parent().filter(|folder| folder.file_name() == Some("conf"));
        walk.done.prefix = conf.and_then(|conf| conf.parent());
        walk.done.fault = match files.read(main) {
            Some(bytes) => walk.file(main, &bytes, BlockContext::Main).err(),
            None => Some(ConfigFault::new(Place { file: main.to_string(), line: 1 }, "the main file can't be read")),
        };
        walk.done
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

type Walked = Result<(), ConfigFault>;

impl NginxWalk<'_> {
    fn file(&mut self, path: &ServerPath, bytes: &[u8], context: BlockContext) -> Walked {
        if !self.done.files.iter().any(|seen| seen == path) {
            self.done.files.push(path.to_owned());
        }
        if bytes.starts_with(b"\xef\xbb\xbf") {
            let message = "the file begins with a byte order mark, which the server refuses";
            return Err(ConfigFault::new(Place { file: path.to_string(), line: 1 }, message));
        }
        let tree = parse(bytes).map_err(|error| ConfigFault {
            place: Place { file: path.to_string(), line: error.excerpt.position.line },
            message: error.message,
            excerpt: Some(error.excerpt),
        })?;
        self.nodes(&tree.nodes, path, context)
    }

    fn nodes(&mut self, nodes: &[Node], file: &ServerPath, context: BlockContext) -> Walked {
        for node in nodes {
            match node {
                Node::Directive(own) if own.is("include") => self.include(own, file, context)?,
                Node::Directive(own) => self.directive(own, file, context),
                Node::Section(own) => self.section(own, file, context)?,
            }
        }
        Ok(())
    }

    fn include(&mut self, own: &Directive, file: &ServerPath, context: BlockContext) -> Walked {
        let fault = |message: String| ConfigFault::new(Place { file: file.to_string(), line: own.line }, message);
        let path = own.values().next().ok_or_else(|| fault("`include` names no file".into()))?;
        if self.depth >= DEEPEST {
            return Err(fault("includes are nested too deep: does a file include itself?".into()));
        }
        let pattern = self.prefix.join(path);
        if context == BlockContext::Http {
            self.done.includes.push(pattern.clone());
        }
        let found = files_of(self.files, &pattern);
        if found.is_none() && !path.contains(['*', '?', '[']) {
            return Err(fault(format!("`{path}` is included, and there is no such file")));
        }
        self.depth += 1;
        for included in found.unwrap_or_default() {
            let bytes = self.files.read(&included).ok_or_else(|| fault(format!("`{included}` can't be read")))?;
            self.file(&included, &bytes, context)?;
        }
        self.depth -= 1;
        Ok(())
    }

    fn section(&mut self, own: &Section, file: &ServerPath, context: BlockContext) -> Walked {
        let name = own.open.name.as_str();
        let inner = match (context, name) {
            (BlockContext::Main, "http") => BlockContext::Http,
            (BlockContext::Http, "server") => {
                let place = Place { file: file.to_string(), line: own.open.line };
                let host = VirtualHost {
                    addresses: Vec::new(),
                    name: None,
                    aliases: Vec::new(),
                    document_root: None,
                    instead: None,
                    tls: false,
                    place,
                    guards: Vec::new(),
                };
                self.done.servers.push(ServerBlock {
                    listens: Vec::new(),
                    error_logs: Vec::new(),
                    access_logs: None,
                    lines: Vec::new(),
                    host,
                });
                self.nodes(&own.nodes, file, BlockContext::Server)?;
                if let Some(server) = self.done.servers.last_mut() {
                    server.finish();
                }
                return Ok(());
            }
            (BlockContext::Server, "location") => BlockContext::Location {
                is_root: own.open.values().eq(["/"]),
                is_asked: is_for_asked(own.open.values()),
            },
            // Whether its condition holds shows only in a request.
            (BlockContext::Server, "if") => BlockContext::Location { is_root: false, is_asked: true },
            (BlockContext::Location { is_asked, .. }, "if" | "location") => {
                BlockContext::Location { is_root: false, is_asked }
            }
            _ => BlockContext::Other,
        };
        self.nodes(&own.nodes, file, inner)
    }

    fn directive(&mut self, own: &Directive, file: &ServerPath, context: BlockContext) {
        let first = || own.values().next().map(str::to_owned);
        let line = |is_inner| AnsweringLine::of(own, file, is_inner);
        match context {
            BlockContext::Http => self.done.lines.extend(line(false)),
            BlockContext::Server | BlockContext::Location { is_asked: true, .. } => {
                let is_inner = context != BlockContext::Server;
                self.done.servers.last_mut().into_iter().for_each(|server| server.lines.extend(line(is_inner)));
            }
            _ => {}
        }
        match (context, own.name.as_str()) {
            (BlockContext::Main, "user") => self.done.user = first(),
            (BlockContext::Main, "error_log") => self.done.error_logs.main.extend(first()),
            (BlockContext::Http, "error_log") => self.done.error_logs.http.extend(first()),
            (BlockContext::Http, "log_format") => {
                let mut words = own.values();
                let name = words.next().unwrap_or_default().to_owned();
                // How values are escaped is said before the format.
                let parts = words.filter(|word| !word.starts_with("escape="));
                self.done.formats.insert(name, parts.collect());
            }
            (BlockContext::Http, "access_log") => add_log(&mut self.done.access_logs, own),
            (BlockContext::Main, "pid") => self.done.pid_file = first().map(|path| self.prefix.join(path)),
            (BlockContext::Http, "server_names_hash_bucket_size") => {
                let place = Place { file: file.to_string(), line: own.line };
                self.done.name_bucket = first().and_then(|size| size.parse().ok()).map(|size| (size, place));
            }
            (BlockContext::Server | BlockContext::Location { is_root: true, .. }, _) => {
                if let Some(server) = self.done.servers.last_mut() {
                    server.take(own, context == BlockContext::Server);
                }
            }
            _ => {}
        }
    }
}

/// The log of requests where no `access_log` says otherwise, as distributions build nginx.
const ACCESS_LOG: &str = "/var/log/nginx/access.log";
/// The same as its makers build it, below its prefix.
const PLAIN_ACCESS_LOG: &str = "logs/access.log";

impl ServerBlock {
    fn take(&mut self, own: &Directive, is_direct: bool) {
        let first = || own.values().next().map(str::to_owned);
        match own.name.as_str() {
            "listen" if is_direct => self.listens.extend(ListenOn::of(own)),
            "server_name" if is_direct => {
                let mut names = own.values().map(str::to_owned);
                if self.host.name.is_none() {
                    self.host.name = names.next();
                }
                self.host.aliases.extend(names);
            }
            "root" => self.host.document_root = first(),
            "error_log" => self.error_logs.extend(first()),
            "access_log" if is_direct => add_log(&mut self.access_logs, own),
            "proxy_pass" => self.host.instead = first(),
            "return" if own.values().next().is_some_and(|code| code.starts_with('3')) => {
                let to = own.values().nth(1).map_or_else(|| "redirects".to_owned(), |to| format!("redirects to {to}"));
                self.host.instead.get_or_insert(to);
            }
            "ssl" => self.host.tls |= first().as_deref() == Some("on"),
            _ => {}
        }
    }

    fn finish(&mut self) {
        if self.listens.is_empty() {
            self.listens.push(ListenOn { address: "*:80".into(), is_default: false, tls: false });
        }
        self.host.tls |= self.listens.iter().any(|listen| listen.tls);
        self.host.addresses = self.listens.iter().map(|listen| listen.address.clone()).collect();
    }
}

#[cfg(test)]
mod tests;
