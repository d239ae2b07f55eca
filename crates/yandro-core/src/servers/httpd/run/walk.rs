//! Running through the files, line by line.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use crate::server_path::ServerPath;

use super::condition::{names_of_built_in, names_of_loaded, version_matches};
use super::macros::Macro;
use super::{ConfigFault, Event, EventKind, Files, HttpdRun, Place, Start};
use crate::config::files_of;
use crate::servers::httpd::parse::{logical_lines, words};
use crate::source::{self, Excerpt};

/// How deep includes may nest; the server's own limit.
const DEEPEST: usize = 128;

/// A line as it is read: joined, trimmed, up to a NUL.
struct ConfigLine {
    text: String,
    number: usize,
}

struct OpenSection {
    name: String,
    place: Place,
    /// Whether it is a condition, which leaves no event.
    is_condition: bool,
    /// The module that an `<IfModule>` asks for.
    guard: Option<String>,
}

/// Meaning of a missing included file.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Missing {
    IsFault,
    IsFine,
}

pub(super) struct HttpdWalk<'a> {
    files: &'a dyn Files,
    version: [u32; 3],
    modules: BTreeSet<String>,
    defines: BTreeSet<String>,
    variables: BTreeMap<String, String>,
    macros: BTreeMap<String, Macro>,
    open: Vec<OpenSection>,
    depth: usize,
    /// The files that were read.
    seen: HashSet<String>,
    done: HttpdRun,
}

type Walked = Result<(), ConfigFault>;

impl<'a> HttpdWalk<'a> {
    pub(super) fn new(start: &Start, files: &'a dyn Files) -> Self {
        let done = HttpdRun { server_root: start.report.root.clone(), ..HttpdRun::default() };
        Self {
            files,
            version: start.report.version,
            modules: start.report.built_in.iter().flat_map(|source| names_of_built_in(source)).collect(),
            defines: start.defines.iter().cloned().collect(),
            variables: start.environment.clone(),
            macros: BTreeMap::new(),
            open: Vec::new(),
            depth: 0,
            seen: HashSet::new(),
            done,
        }
    }

    pub(super) fn finish(mut self, main: &ServerPath) -> HttpdRun {
        let place = Place { file: main.to_string(), line: 1 };
        self.done.fault = match self.files.read(main) {
            Some(bytes) => self.file(main, &bytes).err(),
            None => Some(ConfigFault::new(place, "the main file can't be read")),
        };
        if let Some(fault) = &mut self.done.fault
            && let Some(bytes) = self.files.read(&ServerPath::new(&fault.place.file))
        {
            fault.excerpt = source::words_of_line(&bytes, fault.place.line).map(|line| Excerpt::new(&bytes, &line));
        }
        self.done.modules = self.modules;
        self.done
    }

    fn file(&mut self, path: &ServerPath, bytes: &[u8]) -> Walked {
        let file = path.to_string();
        if self.seen.insert(file.clone()) {
            self.done.files.push(path.to_owned());
        }
        if bytes.starts_with(b"\xef\xbb\xbf") {
            let message = "the file begins with a byte order mark, which the server refuses";
            return Err(ConfigFault::new(Place { file, line: 1 }, message));
        }
        let lines: Vec<ConfigLine> = logical_lines(bytes)
            .map(|logical| {
                let text = logical.text(bytes);
                let end = text.iter().position(|byte| *byte == 0).unwrap_or(text.len());
                let text = String::from_utf8_lossy(&text[..end]).trim_ascii().to_owned();
                ConfigLine { text, number: logical.last_line }
            })
            .collect();
        self.lines(&file, &lines)
    }

    /// The lines of a file: what it opens it has to close.
    fn lines(&mut self, file: &str, lines: &[ConfigLine]) -> Walked {
        let outer = self.open.len();
        self.lines_within(outer, file, lines)?;
        match self.open.get(outer) {
            Some(left) => Err(ConfigFault::new(left.place.clone(), format!("`<{}>` is never closed", left.name))),
            None => Ok(()),
        }
    }

    /// Lines that may close the sections from `outer` on.
    fn lines_within(&mut self, outer: usize, file: &str, lines: &[ConfigLine]) -> Walked {
        let mut at = 0;
        while at < lines.len() {
            let line = &lines[at];
            at += 1;
            if line.text.is_empty() || line.text.starts_with('#') {
                continue;
            }
            let place = Place { file: file.to_owned(), line: line.number };
            let text = self.resolved(&line.text);
            let first = first_word(&text);
            if let Some(name) = first.strip_prefix("</") {
                self.close(name.trim_end_matches('>'), &place, outer)?;
            } else if let Some(name) = first.strip_prefix('<') {
                let name = name.trim_end_matches('>').to_owned();
                let arguments = section_arguments(&text);
                at = self.section(&name, arguments, place, lines, at)?;
            } else {
                let mut words = all_words(&text);
                if !words.is_empty() {
                    let name = words.remove(0);
                    self.directive(name, words, place)?;
                }
            }
        }
        Ok(())
    }

    fn close(&mut self, name: &str, place: &Place, outer: usize) -> Walked {
        let fault = |message: String| Err(ConfigFault::new(place.clone(), message));
        let is_outer = self.open.len() <= outer;
        let Some(open) = self.open.pop_if(|_| !is_outer) else {
            return fault(format!("`</{name}>` closes a section that is not open"));
        };
        if !open.name.eq_ignore_ascii_case(name) {
            return fault(format!("`</{name}>` closes `<{}>` of line {}", open.name, open.place.line));
        }
        if !open.is_condition {
            self.event(EventKind::Close, open.name, Vec::new(), place.clone());
        }
        Ok(())
    }

    /// Begins a section; gives the line to go on with.
    fn section(
        &mut self,
        name: &str,
        arguments: Vec<String>,
        place: Place,
        lines: &[ConfigLine],
        at: usize,
    ) -> Result<usize, ConfigFault> {
        let lower = name.to_ascii_lowercase();
        let condition = self.condition(&lower, &arguments);
        if condition == Some(false) {
            return skipped(name, lines, at).ok_or_else(|| unclosed(name, place));
        }
        if lower == "macro" {
            let (body, after) = raw_body(name, lines, at).ok_or_else(|| unclosed(name, place.clone()))?;
            self.define_macro(arguments, body, &place);
            return Ok(after);
        }
        // Another language: its lines are none of the server's.
        if lower == "perl" || lower.starts_with("lua") {
            return raw_body(name, lines, at).map(|(_, after)| after).ok_or_else(|| unclosed(name, place));
        }
        let is_condition = condition.is_some();
        let guard = arguments.first().cloned().unwrap_or_default();
        if !is_condition {
            self.event(EventKind::Open, name.to_owned(), arguments, place.clone());
        }
        let is_guard = lower == "ifmodule" && !guard.starts_with('!');
        let guard = is_guard.then_some(guard);
        self.open.push(OpenSection { name: name.to_owned(), place, is_condition, guard });
        Ok(at)
    }

    /// Whether a conditional section counts; `None` if it is none.
    fn condition(&self, lower: &str, arguments: &[String]) -> Option<bool> {
        let first = arguments.first().map_or("", String::as_str);
        let (is_negated, bare) = first.strip_prefix('!').map_or((false, first), |bare| (true, bare));
        let holds = match lower {
            "ifmodule" => self.modules.contains(bare),
            "ifdefine" => self.defines.contains(bare),
            "iffile" => self.files.exists(&self.done.server_root.join(bare)),
            "ifversion" => return Some(version_matches(self.version, arguments).unwrap_or(false)),
            _ => return None,
        };
        Some(holds != is_negated)
    }

    fn define_macro(&mut self, mut arguments: Vec<String>, body: Vec<String>, place: &Place) {
        if arguments.is_empty() {
            return;
        }
        let name = arguments.remove(0).to_ascii_lowercase();
        let defined = format!("(defined on line {} of \"{}\")", place.line, place.file);
        self.macros.insert(name.clone(), Macro { name, parameters: arguments, body, defined });
    }

    fn directive(&mut self, name: String, arguments: Vec<String>, place: Place) -> Walked {
        let first = arguments.first().cloned().unwrap_or_default();
        match name.to_ascii_lowercase().as_str() {
            "define" => {
                if let Some(value) = arguments.get(1) {
                    self.variables.insert(first.clone(), value.clone());
                }
                _ = self.defines.insert(first);
            }
            "undefine" => {
                self.defines.remove(&first);
                _ = self.variables.remove(&first);
            }
            "serverroot" => {
                self.done.server_root = ServerPath::from(first.trim_end_matches('/'));
                self.event(EventKind::Directive, name, arguments, place);
            }
            "loadmodule" => {
                self.modules.extend(names_of_loaded(&first, arguments.get(1).map_or("", String::as_str)));
                self.event(EventKind::Directive, name, arguments, place);
            }
            "include" => self.include(&first, &place, Missing::IsFault)?,
            "includeoptional" => self.include(&first, &place, Missing::IsFine)?,
            "use" if self.modules.contains("macro_module") => self.use_macro(&arguments, &place)?,
            _ => self.event(EventKind::Directive, name, arguments, place),
        }
        Ok(())
    }

    fn include(&mut self, path: &str, place: &Place, missing: Missing) -> Walked {
        let fault = |message: String| ConfigFault::new(place.clone(), message);
        if self.depth >= DEEPEST {
            return Err(fault("includes are nested too deep: does a file include itself?".into()));
        }
        let pattern = self.done.server_root.join(path);
        let found = files_of(self.files, &pattern);
        self.done.includes.push(pattern);
        if found.is_none() && missing == Missing::IsFault {
            return Err(fault(format!("`{path}` is included, and there is no such file")));
        }
        self.depth += 1;
        for file in found.unwrap_or_default() {
            let bytes = self.files.read(&file).ok_or_else(|| fault(format!("`{file}` can't be read")))?;
            self.file(&file, &bytes)?;
        }
        self.depth -= 1;
        Ok(())
    }

    fn use_macro(&mut self, arguments: &[String], place: &Place) -> Walked {
        let fault = |message: String| ConfigFault::new(place.clone(), message);
        let name = arguments.first().map_or("", String::as_str);
        let known = self.macros.get(&name.to_ascii_lowercase()).cloned();
        let own = known.ok_or_else(|| fault(format!("the macro `{name}` is not defined")))?;
        if own.parameters.len() != arguments.len() - 1 || self.depth >= DEEPEST {
            return Err(fault(format!("the macro `{name}` takes {} arguments", own.parameters.len())));
        }
        let file = format!("macro '{}' {} used on line {} of \"{}\"", own.name, own.defined, place.line, place.file);
        let lines: Vec<ConfigLine> = (1..)
            .zip(own.with(&arguments[1..]))
            .map(|(number, text)| ConfigLine { text: text.trim_ascii().to_owned(), number })
            .collect();
        self.depth += 1;
        // A macro may open a section that another one closes.
        self.lines_within(0, &file, &lines)?;
        self.depth -= 1;
        Ok(())
    }

    fn event(&mut self, kind: EventKind, name: String, arguments: Vec<String>, place: Place) {
        let guards = self.open.iter().filter_map(|open| open.guard.clone()).collect();
        self.done.events.push(Event { kind, name, arguments, place, guards });
    }

    /// `${NAME}` replaced where the name has a value, once; an unknown one stays.
    fn resolved(&self, text: &str) -> String {
        let mut out = String::new();
        let mut rest = text;
        while let Some(start) = rest.find("${") {
            let Some(length) = rest[start + 2..].find('}') else { break };
            let name = &rest[start + 2..start + 2 + length];
            out += &rest[..start];
            match self.variables.get(name) {
                Some(value) => out += value,
                None => out += &rest[start..=start + 2 + length],
            }
            rest = &rest[start + 3 + length..];
        }
        out + rest
    }
}

fn unclosed(name: &str, place: Place) -> ConfigFault {
    ConfigFault::new(place, format!("`<{name}>` is never closed"))
}

fn all_words(text: &str) -> Vec<String> {
    let found = words(text.as_bytes(), 0..text.len());
    found.into_iter().map(|(value, _)| String::from_utf8_lossy(&value).into_owned()).collect()
}

fn first_word(text: &str) -> String {
    all_words(text).into_iter().next().unwrap_or_default()
}

/// The text between a tag's name and its last `>`.
fn section_arguments(text: &str) -> Vec<String> {
    let inner = text.rfind('>').map_or(text, |end| &text[..end]);
    let mut words = all_words(inner);
    if !words.is_empty() {
        words.remove(0);
    }
    words
}

/// Passes over a section that doesn't count, unread but for the tags in it; gives the line after it.
fn skipped(name: &str, lines: &[ConfigLine], mut at: usize) -> Option<usize> {
    let mut open = vec![name.to_owned()];
    while let Some(line) = lines.get(at) {
        at += 1;
        let first = first_word(&line.text);
        if first.starts_with("</") {
            open.pop();
            if open.is_empty() {
                return Some(at);
            }
        } else if line.text.starts_with('<') {
            open.push(first);
        }
    }
    None
}

/// The lines up to the closing tag of this name, whatever they hold, and the line after it.
fn raw_body(name: &str, lines: &[ConfigLine], start: usize) -> Option<(Vec<String>, usize)> {
    let tag = |line: &ConfigLine, mark: &str| {
        let first = first_word(&line.text);
        first.strip_prefix(mark).is_some_and(|rest| rest.trim_end_matches('>').eq_ignore_ascii_case(name))
    };
    let mut depth = 1;
    for (at, line) in lines.iter().enumerate().skip(start) {
        if tag(line, "</") {
            depth -= 1;
            if depth == 0 {
                return Some((lines[start..at].iter().map(|line| line.text.clone()).collect(), at + 1));
            }
        } else if tag(line, "<") {
            depth += 1;
        }
    }
    None
}
