//! Words, directives and blocks of nginx over the original bytes.
//!
//! Lines don't matter: all text between two `;`, `{` or `}` is one statement.

use std::ops::Range;

use crate::config::{Argument, Directive, Node, ParseError, Section, Tree};
use crate::source::{self, Excerpt};

/// A word as the server reads it.
struct Word {
    value: Vec<u8>,
    span: Range<usize>,
}

/// Reads a file.
///
/// # Errors
/// When a block or a quote is not closed, a block is closed without being open, a statement has
/// no end or no name, or something follows a quote directly.
pub fn parse(bytes: &[u8]) -> Result<Tree, ParseError> {
    let mut parser = Parser {
        bytes,
        at: 0,
        open: Vec::new(),
        nodes: Vec::new(),
        words: Vec::new(),
        counter: LineCounter { at: 0, line: 1 },
    };
    while parser.step()? {}
    parser.finish()
}

/// A file on the way from its start to its end.
struct Parser<'b> {
    bytes: &'b [u8],
    at: usize,
    /// The blocks around the place, each with the nodes before it.
    open: Vec<(Directive, Vec<Node>)>,
    /// The nodes of the innermost block so far.
    nodes: Vec<Node>,
    /// The words of the statement so far.
    words: Vec<Word>,
    counter: LineCounter,
}

impl Parser<'_> {
    /// Takes in a word, a comment or the end of a statement or block. Gives whether there was one.
    fn step(&mut self) -> Result<bool, ParseError> {
        self.at = blanks_end(self.bytes, self.at);
        let Some(&byte) = self.bytes.get(self.at) else { return Ok(false) };
        match byte {
            b'#' => {
                let end = memchr::memchr(b'\n', &self.bytes[self.at..]);
                self.at = end.map_or(self.bytes.len(), |end| self.at + end);
            }
            b';' => {
                let statement = self.statement("this `;` ends nothing")?;
                self.nodes.push(Node::Directive(statement));
            }
            b'{' => self.open_block()?,
            b'}' => self.close_block()?,
            b'"' | b'\'' => self.quoted()?,
            _ => {
                let word = bare(self.bytes, self.at);
                self.at = word.span.end;
                self.words.push(word);
            }
        }
        Ok(true)
    }

    fn fault(&self, span: &Range<usize>, message: impl Into<String>) -> ParseError {
        ParseError { message: message.into(), excerpt: Excerpt::new(self.bytes, span) }
    }

    /// The byte at the place.
    fn here(&self) -> Range<usize> {
        self.at..self.at + 1
    }

    /// The statement that the words make with the `;` or `{` at the place; `nameless` if there are none.
    fn statement(&mut self, nameless: &str) -> Result<Directive, ParseError> {
        if self.words.is_empty() {
            return Err(self.fault(&self.here(), nameless));
        }
        self.at += 1;
        let statement = statement(self.bytes, &self.words, self.at, &mut self.counter);
        self.words.clear();
        Ok(statement)
    }

    fn open_block(&mut self) -> Result<(), ParseError> {
        let opening = self.statement("this `{` opens a block without a name")?;
        if !opening.name.ends_with("_by_lua_block") {
            self.open.push((opening, std::mem::take(&mut self.nodes)));
            return Ok(());
        }
        let never = || self.fault(&opening.span, format!("`{}` is never closed", opening.name));
        let end = lua_end(self.bytes, self.at).ok_or_else(never)?;
        let close = lines(self.bytes, end..end + 1);
        self.nodes.push(Node::Section(Section { open: opening, nodes: Vec::new(), close }));
        self.at = end + 1;
        Ok(())
    }

    fn close_block(&mut self) -> Result<(), ParseError> {
        if let Some(word) = self.words.first() {
            return Err(self.fault(&word.span, "a `;` is missing behind this statement"));
        }
        let Some((opening, outer)) = self.open.pop() else {
            return Err(self.fault(&self.here(), "this `}` closes a block that is not open"));
        };
        let within = std::mem::replace(&mut self.nodes, outer);
        let close = lines(self.bytes, self.here());
        self.nodes.push(Node::Section(Section { open: opening, nodes: within, close }));
        self.at += 1;
        Ok(())
    }

    fn quoted(&mut self) -> Result<(), ParseError> {
        let never = || self.fault(&self.here(), "this quote is never closed");
        let word = quoted(self.bytes, self.at).ok_or_else(never)?;
        self.at = word.span.end;
        self.words.push(word);
        match self.bytes.get(self.at) {
            Some(next) if !is_blank(*next) && !matches!(next, b';' | b'{' | b')') => {
                Err(self.fault(&self.here(), "after a quote there has to be a blank, `;` or `{`"))
            }
            _ => Ok(()),
        }
    }

    /// The tree, if nothing is left open.
    fn finish(mut self) -> Result<Tree, ParseError> {
        if let Some(word) = self.words.first() {
            return Err(self.fault(&word.span, "this statement has no end: a `;` is missing"));
        }
        match self.open.pop() {
            Some((opening, _)) => {
                let words = source::words_of_line(self.bytes, opening.line).unwrap_or(opening.span.clone());
                Err(self.fault(&words, format!("`{}` is never closed", opening.name)))
            }
            None => Ok(Tree { nodes: self.nodes }),
        }
    }
}

fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n')
}

fn blanks_end(bytes: &[u8], at: usize) -> usize {
    at + bytes[at..].iter().take_while(|byte| is_blank(**byte)).count()
}

/// A word without quotes: up to a blank, `;` or `{`; a `{` right behind `$` belongs to it.
fn bare(bytes: &[u8], start: usize) -> Word {
    let mut at = start;
    let mut is_variable = false;
    while let Some(&byte) = bytes.get(at) {
        let was_variable = std::mem::replace(&mut is_variable, byte == b'$');
        match byte {
            b'\\' => at += 1,
            b'{' if was_variable => {}
            b';' | b'{' => break,
            _ if is_blank(byte) => break,
            _ => {}
        }
        at += 1;
    }
    let end = at.min(bytes.len());
    Word { value: unescaped(&bytes[start..end]), span: start..end }
}

/// A word in quotes; `None` if they are never closed.
fn quoted(bytes: &[u8], start: usize) -> Option<Word> {
    let quote = bytes[start];
    let mut at = start + 1;
    loop {
        match *bytes.get(at)? {
            b'\\' => at += 2,
            byte if byte == quote => break,
            _ => at += 1,
        }
    }
    Some(Word { value: unescaped(&bytes[start + 1..at]), span: start..at + 1 })
}

/// The meaning of a word: escaped quotes, backslashes, tabs and line ends; any other backslash stays.
fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut at = 0;
    while at < text.len() {
        let escape = if text[at] == b'\\' { text.get(at + 1) } else { None };
        let meant = match escape {
            Some(b'"' | b'\'' | b'\\') => escape.copied(),
            Some(b't') => Some(b'\t'),
            Some(b'r') => Some(b'\r'),
            Some(b'n') => Some(b'\n'),
            _ => None,
        };
        out.push(meant.unwrap_or(text[at]));
        at += if meant.is_some() { 2 } else { 1 };
    }
    out
}

/// Counts lines on the way: statements come one behind the other, and counting from the beginning
/// for each took a second for a thousand sites.
struct LineCounter {
    at: usize,
    line: usize,
}

impl LineCounter {
    /// The line of a place at or behind the one before, from 1.
    fn line_of(&mut self, bytes: &[u8], at: usize) -> usize {
        self.line += memchr::memchr_iter(b'\n', &bytes[self.at..at]).count();
        self.at = at;
        self.line
    }
}

/// A statement from its words; `end` is behind its `;` or `{`.
fn statement(bytes: &[u8], words: &[Word], end: usize, counter: &mut LineCounter) -> Directive {
    let text = |word: &Word| String::from_utf8_lossy(&word.value).into_owned();
    let start = words[0].span.start;
    Directive {
        name: text(&words[0]),
        arguments: words[1..].iter().map(|word| Argument { value: text(word), span: word.span.clone() }).collect(),
        span: lines(bytes, start..end),
        line: counter.line_of(bytes, start),
    }
}

/// The whole lines of a range, if they contain nothing else; otherwise the range itself.
fn lines(bytes: &[u8], range: Range<usize>) -> Range<usize> {
    let before = bytes[..range.start].iter().rposition(|byte| !matches!(byte, b' ' | b'\t'));
    let start = match before {
        None => Some(0),
        Some(last) => (bytes[last] == b'\n').then_some(last + 1),
    };
    let after = bytes[range.end..].iter().position(|byte| !matches!(byte, b' ' | b'\t' | b'\r'));
    let end = match after {
        None => Some(bytes.len()),
        Some(count) => (bytes[range.end + count] == b'\n').then_some(range.end + count + 1),
    };
    match (start, end) {
        (Some(start), Some(end)) => start..end,
        _ => range,
    }
}

/// End of the block of Lua that begins at `start`: braces in its strings, long brackets
/// and comments don't count (Lua 5.1 manual, section 2.1).
fn lua_end(bytes: &[u8], start: usize) -> Option<usize> {
    let (mut at, mut depth) = (start, 1_usize);
    loop {
        match *bytes.get(at)? {
            b'{' => depth += 1,
            b'}' if depth == 1 => return Some(at),
            b'}' => depth -= 1,
            quote @ (b'"' | b'\'') => {
                at += 1;
                while *bytes.get(at)? != quote {
                    at += if bytes[at] == b'\\' { 2 } else { 1 };
                }
            }
            b'-' if bytes.get(at + 1) == Some(&b'-') => {
                at = match long_bracket_end(bytes, at + 2) {
                    Some(end) => end?,
                    None => at + memchr::memchr(b'\n', &bytes[at..])?,
                };
            }
            b'[' => {
                if let Some(end) = long_bracket_end(bytes, at) {
                    at = end?;
                }
            }
            _ => {}
        }
        at += 1;
    }
}

/// The last byte of a long bracket that begins here; `None` within if it never ends, and without
/// if there is none.
#[allow(clippy::option_option, reason = "no bracket and an open one are different things")]
fn long_bracket_end(bytes: &[u8], at: usize) -> Option<Option<usize>> {
    let level = bytes.get(at + 1..)?.iter().take_while(|byte| **byte == b'=').count();
    if bytes.get(at) != Some(&b'[') || bytes.get(at + 1 + level) != Some(&b'[') {
        return None;
    }
    let close = [&b"]"[..], &b"=".repeat(level), b"]"].concat();
    let from = at + 2 + level;
    Some(memchr::memmem::find(&bytes[from..], &close).map(|found| from + found + close.len() - 1))
}

#[cfg(test)]
mod tests;
