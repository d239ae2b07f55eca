//! The way through a configuration: files in the order in which nginx reads them, blocks by what is around them.

use super::lines::{AnsweringLine, is_for_asked};
use super::logs::add_log;
use super::{ListenOn, NginxRun, ServerBlock};
use crate::config::{ConfigFault, Directive, Files, ParseError, Place, VirtualHost, files_of};
use crate::server_path::ServerPath;
use crate::servers::nginx::parse::{Piece, Pieces};

/// How deep includes may nest.
const DEEPEST: usize = 64;

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

impl BlockContext {
    /// Whether a directive there can say something of what is kept.
    fn matters(self) -> bool {
        !matches!(self, Self::Other | Self::Location { is_root: false, is_asked: false })
    }
}

struct NginxWalk<'f> {
    files: &'f dyn Files,
    /// The folder of the main file: where relative includes start from.
    prefix: ServerPath,
    depth: usize,
    /// Whether it ends when it knows the file of the process's number, which may be said once only.
    is_for_pid: bool,
    done: NginxRun,
}

/// Runs through the configuration whose main file this is; with `is_for_pid`, no further than to the file of the
/// process's number.
pub(super) fn walked(main: &ServerPath, files: &dyn Files, is_for_pid: bool) -> NginxRun {
    let prefix = main.parent().unwrap_or_else(ServerPath::root);
    let mut walk = NginxWalk { files, prefix, depth: 0, is_for_pid, done: NginxRun::default() };
    let conf = main.parent().filter(|folder| folder.file_name() == Some("conf"));
    walk.done.prefix = conf.and_then(|conf| conf.parent());
    walk.done.fault = match files.read(main) {
        Some(bytes) => walk.file(main, &bytes, BlockContext::Main).err(),
        None => Some(ConfigFault::new(Place { file: main.to_string(), line: 1 }, "the main file can't be read")),
    };
    walk.done
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
        // The blocks around the place, the innermost last.
        let mut around = vec![context];
        let mut pieces = Pieces::of(bytes);
        let fault = |error: ParseError| ConfigFault {
            place: Place { file: path.to_string(), line: error.excerpt.position.line },
            message: error.message,
            excerpt: Some(error.excerpt),
        };
        while let Some(piece) = pieces.next().map_err(fault)? {
            let context = around.last().copied().unwrap_or(context);
            match piece {
                Piece::Directive if self.is_for_pid && context != BlockContext::Main => {}
                Piece::Directive if pieces.is("include") => self.include(&pieces.statement(), path, context)?,
                Piece::Directive if context.matters() => self.directive(&pieces.statement(), path, context),
                Piece::Open => around.push(self.open(&mut pieces, path, context)),
                Piece::Close if around.pop() == Some(BlockContext::Server) => {
                    self.done.servers.last_mut().into_iter().for_each(ServerBlock::finish);
                }
                Piece::Directive | Piece::Close => {}
            }
            if self.is_for_pid && self.done.pid_file.is_some() {
                break;
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

    /// Takes in the beginning of a block. Gives what it is.
    fn open(&mut self, pieces: &mut Pieces<'_>, file: &ServerPath, context: BlockContext) -> BlockContext {
        let is_if = || pieces.is("if");
        match context {
            BlockContext::Main if pieces.is("http") && !self.is_for_pid => BlockContext::Http,
            BlockContext::Http if pieces.is("server") => {
                let place = Place { file: file.to_string(), line: pieces.statement().line };
                self.done.servers.push(ServerBlock::at(place));
                BlockContext::Server
            }
            BlockContext::Server if pieces.is("location") => {
                let own = pieces.statement();
                BlockContext::Location { is_root: own.values().eq(["/"]), is_asked: is_for_asked(own.values()) }
            }
            // Whether its condition holds shows only in a request.
            BlockContext::Server if is_if() => BlockContext::Location { is_root: false, is_asked: true },
            BlockContext::Location { is_asked, .. } if is_if() || pieces.is("location") => {
                BlockContext::Location { is_root: false, is_asked }
            }
            _ => BlockContext::Other,
        }
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

impl ServerBlock {
    /// One that begins at a place, with nothing in it yet.
    fn at(place: Place) -> Self {
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
        Self { listens: Vec::new(), error_logs: Vec::new(), access_logs: None, lines: Vec::new(), host }
    }

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
