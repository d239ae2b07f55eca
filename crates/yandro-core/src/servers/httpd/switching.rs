//! Switching single lines of the shared files on, each only if it does something.

use core::net::IpAddr;
use std::collections::BTreeMap;
use std::ops::Range;

use crate::server_path::ServerPath;

use super::commented::{commented, commented_includes};
use super::parse::parse;
use super::run::{EventKind, Files as _, Place, matches_path};
use super::shared::{HttpdShared, module_folders, sample};
use super::syntax::quoted;
use crate::config::{Directive, Journal, Switched};
use crate::site::Scheme;
use crate::source::{self, Splice};

/// The changes that meet the needs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Activation {
    /// The files that change, with their new content.
    pub files: BTreeMap<ServerPath, Vec<u8>>,
    /// The lines that change.
    pub journal: Journal,
    /// Effects of the changes, each with its file.
    pub switched: Vec<(ServerPath, Switched)>,
}

/// A need that can't be met.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lack {
    /// A module that is neither loaded nor to be had.
    Module(String),
    /// The configuration is as it is for a reason that is not understood: a line was put where
    /// the server doesn't read it.
    Unreached {
        /// The need.
        what: String,
        /// The file.
        file: ServerPath,
    },
    /// The server would refuse the configuration as it is.
    Broken(Box<super::run::ConfigFault>),
}

/// The shared part as it changes step by step.
pub(super) struct Work {
    pub(super) shared: HttpdShared,
    pub(super) done: Activation,
}

impl Work {
    fn text(&self, file: &ServerPath) -> Vec<u8> {
        self.shared.text(file).unwrap_or_default().to_vec()
    }

    /// Writes a file and runs through the configuration again.
    fn set(&mut self, file: &ServerPath, text: Vec<u8>) {
        self.shared.image.set(file, text.clone());
        self.done.files.insert(file.to_owned(), text);
        self.shared.run();
    }

    /// Puts down what a line of a file does.
    fn did(&mut self, file: &ServerPath, switched: Switched) {
        self.done.switched.push((file.to_owned(), switched));
    }

    /// Takes the comment sign off a line.
    fn switch_on(&mut self, file: &ServerPath, line: &source::Line) {
        let text = self.text(file);
        let was = String::from_utf8_lossy(&text[line.text.clone()]).into_owned();
        let sign = was.find('#').unwrap_or(0);
        let now = format!("{}{}", &was[..sign], was[sign + 1..].trim_start());
        let changed = self.replaced(file, &text, line.text.clone(), &now);
        self.set(file, changed);
    }

    /// The text with another line in the place of one, which goes into the journal.
    fn replaced(&mut self, file: &ServerPath, text: &[u8], line: Range<usize>, now: &str) -> Vec<u8> {
        let was = String::from_utf8_lossy(&text[line.clone()]).into_owned();
        let changed = source::apply(text, &[Splice::replace(line.clone(), now)]);
        self.done.journal.put_down(file, Some(&was), &changed, line.start);
        changed
    }

    /// Puts a line in at the start of a line, or at the end of the file.
    fn add(&mut self, file: &ServerPath, at: usize, line: &str) {
        let text = self.text(file);
        let eol = source::line_end(&text);
        let is_after_open_line = at == text.len() && !text.is_empty() && !text.ends_with(b"\n");
        let insert = if is_after_open_line { format!("{eol}{line}") } else { format!("{line}{eol}") };
        let changed = source::apply(&text, &[Splice::insert(at, insert)]);
        let start = if is_after_open_line { at + eol.len() } else { at };
        self.done.journal.put_down(file, None, &changed, start);
        self.set(file, changed);
    }

    /// The end of a directive's line.
    fn behind(&self, place: &Place) -> usize {
        let text = self.shared.text(&ServerPath::new(&place.file)).unwrap_or_default();
        source::lines(text).nth(place.line.saturating_sub(1)).map_or(text.len(), |line| line.full.end)
    }

    /// The places of the directives of this name outside of sections and macros.
    fn places(&self, name: &str) -> Vec<Place> {
        let directives = self.shared.configuration.main_server(name);
        let places = directives.filter(|event| event.kind == EventKind::Directive).map(|event| event.place.clone());
        places.filter(|place| self.shared.has(&ServerPath::new(&place.file))).collect()
    }

    pub(super) fn load(&mut self, module: &str) -> Result<(), Lack> {
        if self.shared.has_module(module) {
            return Ok(());
        }
        let identifier = format!("{module}_module");
        for file in self.shared.configuration.files.clone() {
            let text = self.text(&file);
            let line = commented(&text).find_map(|(line, words)| {
                let is_it = words.len() == 3 && words[0].eq_ignore_ascii_case("LoadModule") && words[1] == identifier;
                (is_it && self.is_there(&words[2])).then_some(line)
            });
            if let Some(line) = line {
                self.switch_on(&file, &line);
                self.did(&file, Switched::Module(module.to_owned()));
                return if self.shared.has_module(module) { Ok(()) } else { Err(unreached(&identifier, &file)) };
            }
        }
        // If no line loads it, its file may still be next to the other modules' files.
        let base = format!("mod_{module}.so");
        let loads: Vec<_> = self.shared.configuration.main_server("LoadModule").cloned().collect();
        let last = loads.iter().rev().find(|event| self.shared.has(&ServerPath::new(&event.place.file)));
        let beside =
            last.and_then(|event| Some((event, ServerPath::new(event.arguments.get(1)?).with_file_name(&base))));
        let Some((event, path)) = beside.filter(|(_, path)| self.is_listed(path.as_str())) else {
            return Err(Lack::Module(module.to_owned()));
        };
        let file = ServerPath::from(&event.place.file);
        self.add(&file, self.behind(&event.place), &format!("LoadModule {identifier} {}", quoted(path.as_str())));
        self.did(&file, Switched::Module(module.to_owned()));
        if self.shared.has_module(module) { Ok(()) } else { Err(unreached(&identifier, &file)) }
    }

    /// Whether a module's file is where a line says; where the folder is not known it is taken for granted.
    fn is_there(&self, path: &str) -> bool {
        let folder = self.shared.configuration.server_root.join(path).parent();
        folder.and_then(|folder| self.shared.image.list(&folder)).is_none() || self.is_listed(path)
    }

    fn is_listed(&self, path: &str) -> bool {
        let path = self.shared.configuration.server_root.join(path);
        let names = path.parent().and_then(|folder| self.shared.image.list(&folder)).unwrap_or_default();
        path.file_name().is_some_and(|name| names.iter().any(|own| own == name))
            || module_folders(&self.shared.configuration).is_empty()
    }

    /// Whether the configuration asks for the cache of sessions in shared memory, and doesn't have it.
    pub(super) fn needs_shared_cache(&self) -> bool {
        let mut caches = self.shared.configuration.events.iter().filter(|event| event.is("SSLSessionCache"));
        caches.any(|event| event.arguments.first().is_some_and(|cache| cache.starts_with("shmcb")))
            && !self.shared.has_module("socache_shmcb")
    }

    pub(super) fn include(&mut self, sites: &ServerPath) -> Result<(), Lack> {
        if self.shared.includes(sites) {
            return Ok(());
        }
        let sample = sample(sites);
        let mut includes = commented_includes(&self.shared.configuration, &self.shared.image);
        // A file that included itself would never end.
        includes.retain(|include| !matches_path(&include.path, &include.file));
        let has_virtual_hosts = |path: &ServerPath| {
            path.parent() == sites.parent() && path.file_name().is_some_and(|name| name.contains("vhost"))
        };
        let root = self.shared.configuration.server_root.clone();
        let shown = sites.below(&root).unwrap_or_else(|| sites.clone());
        let line = format!("IncludeOptional {}", quoted(shown.as_str()));
        let file = if let Some(include) = includes.iter().find(|include| matches_path(&include.path, &sample)) {
            self.switch_on(&include.file, &include.line);
            self.did(&include.file, Switched::Include { files: include.words.clone(), are_own: true });
            include.file.clone()
        } else if let Some(include) =
            includes.iter().find(|include| has_virtual_hosts(&include.path) && self.shared.has(&include.path))
        {
            // Nobody's virtual host counted so far: yandro's come first, and the main server's
            // pages stay those of names that have none.
            self.switch_on(&include.file, &include.line);
            self.did(&include.file, Switched::Include { files: include.words.clone(), are_own: false });
            self.comment_out_examples(&include.path);
            let text = self.text(&include.path);
            let first = parse(&text).ok().and_then(|tree| Some(tree.nodes.first()?.start()));
            self.add(&include.path, first.unwrap_or(text.len()), &line);
            self.did(&include.path, Switched::Include { files: shown.to_string(), are_own: true });
            include.path.clone()
        } else {
            let active = self.shared.configuration.files.iter().find(|file| has_virtual_hosts(file)).cloned();
            let file = active.unwrap_or_else(|| self.shared.main().to_owned());
            self.add(&file, self.text(&file).len(), &line);
            self.did(&file, Switched::Include { files: shown.to_string(), are_own: true });
            file
        };
        if self.shared.includes(sites) { Ok(()) } else { Err(unreached(&line, &file)) }
    }

    /// The virtual hosts that come with the server as examples would come to life with their
    /// file: their folders are not there, and the server warns of each at every start.
    fn comment_out_examples(&mut self, file: &ServerPath) {
        let mut text = self.text(file);
        let Ok(tree) = parse(&text) else { return };
        let is_example = |name: &str| name.starts_with("dummy-host") && name.ends_with(".example.com");
        let mut lines = Vec::new();
        for host in tree.all("VirtualHost") {
            let mut names = host.directives("ServerName").flat_map(Directive::values);
            let span = host.open.span.start..host.close.end;
            let whole = &text[span.clone()];
            let is_plain = std::str::from_utf8(whole).is_ok() && !whole.contains(&b'\\');
            if names.any(is_example) && is_plain {
                lines.extend(source::lines(whole).map(|line| span.start + line.text.start..span.start + line.text.end));
            }
        }
        // Each line before has become longer by its sign.
        for (longer, line) in lines.iter().enumerate() {
            let line = line.start + longer..line.end + longer;
            let now = format!("#{}", String::from_utf8_lossy(&text[line.clone()]));
            text = self.replaced(file, &text, line, &now);
        }
        if !lines.is_empty() {
            self.set(file, text);
        }
    }

    pub(super) fn listen(&mut self, address: IpAddr, port: u16, scheme: Scheme) -> Result<(), Lack> {
        if self.shared.listens_on(address, port) {
            return Ok(());
        }
        // Beside the port of one address the port of all can't be had.
        let is_shared_out = self.shared.listens.iter().any(|listen| listen.port == port);
        let host = match address {
            _ if !is_shared_out => String::new(),
            IpAddr::V4(address) => format!("{address}:"),
            IpAddr::V6(address) => format!("[{address}]:"),
        };
        let protocol = if scheme == Scheme::Https && port != 443 { " https" } else { "" };
        let line = format!("Listen {host}{port}{protocol}");
        // The first is the likeliest to depend on no module.
        let (file, at) = match self.places("Listen").first() {
            Some(place) => (ServerPath::from(&place.file), self.behind(place)),
            None => (self.shared.main().to_owned(), self.text(self.shared.main()).len()),
        };
        self.add(&file, at, &line);
        self.did(&file, Switched::Listen(format!("{host}{port}")));
        if self.shared.listens_on(address, port) { Ok(()) } else { Err(unreached(&line, &file)) }
    }
}

pub(super) fn unreached(what: &str, file: &ServerPath) -> Lack {
    Lack::Unreached { what: what.to_owned(), file: file.to_owned() }
}
