//! Words, directives and blocks of nginx over the original bytes.
//!
//! Lines don't matter: all text between two `;`, `{` or `}` is one statement.

use std::borrow::Cow;
use std::ops::Range;

use crate::config::{Argument, Directive, Node, ParseError, Section, Tree};
use crate::source::{self, Excerpt};

/// A word as the server reads it.
struct Word<'b> {
    value: Cow<'b, [u8]>,
    span: Range<usize>,
}

/// A part of a file, in the order in which the server reads them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    /// A statement that ends in `;`.
    Directive,
    /// The beginning of a block.
    Open,
    /// The end of the innermost block.
    Close,
}

/// Reads a file into a tree.
///
/// # Errors
/// When a block or a quote is not closed, a block is closed without being open, a statement has
/// no end or no name, or something follows a quote directly.
pub fn parse(bytes: &[u8]) -> Result<Tree, ParseError> {
    // The nodes of the innermost block so far, and the blocks around it, each with the nodes before it.
    let (mut nodes, mut open) = (Vec::new(), Vec::new());
    let mut pieces = Pieces::of(bytes);
    while let Some(piece) = pieces.next()? {
        match piece {
            Piece::Directive => nodes.push(Node::Directive(pieces.statement())),
            Piece::Open => open.push((pieces.statement(), std::mem::take(&mut nodes))),
            Piece::Close => {
                let (open, outer) = open.pop().expect("a block that ends was open");
                let within = std::mem::replace(&mut nodes, outer);
                nodes.push(Node::Section(Section { open, nodes: within, close: pieces.close() }));
            }
        }
    }
    Ok(Tree { nodes })
}

/// A file on the way from its start to its end, piece by piece. Of those that nobody asks for nothing is kept: files may
/// have hundreds of thousands of lines.
pub(super) struct Pieces<'b> {
    bytes: &'b [u8],
    /// Behind the last piece.
    at: usize,
    /// The words of the last piece, or of the next so far.
    words: Vec<Word<'b>>,
    is_whole: bool,
    /// The beginnings of the blocks around the place.
    open: Vec<usize>,
    /// The end of a block of Lua, whose beginning was the last piece.
    lua_end: Option<usize>,
    counter: LineCounter,
}

impl<'b> Pieces<'b> {
    /// The parts of a file.
    pub(super) fn of(bytes: &'b [u8]) -> Self {
        let counter = LineCounter { at: 0, line: 1 };
        Self { bytes, at: 0, words: Vec::new(), is_whole: false, open: Vec::new(), lua_end: None, counter }
    }

    /// The next piece; `None` at the end of the file. Each block that begins ends before that.
    ///
    /// # Errors
    /// As [`parse`]. Behind a fault nothing more may be asked for.
    pub(super) fn next(&mut self) -> Result<Option<Piece>, ParseError> {
        if std::mem::take(&mut self.is_whole) {
            self.words.clear();
        }
        if let Some(end) = self.lua_end.take() {
            self.at = end + 1;
            return Ok(Some(Piece::Close));
        }
        loop {
            self.at = blanks_end(self.bytes, self.at);
            let Some(&byte) = self.bytes.get(self.at) else { return self.finish().map(|()| None) };
            match byte {
                b'#' => {
                    let end = memchr::memchr(b'\n', &self.bytes[self.at..]);
                    self.at = end.map_or(self.bytes.len(), |end| self.at + end);
                }
                b';' => return self.end_statement("this `;` ends nothing").map(|()| Some(Piece::Directive)),
                b'{' => return self.open_block().map(|()| Some(Piece::Open)),
                b'}' => return self.close_block().map(|()| Some(Piece::Close)),
                b'"' | b'\'' => self.quoted()?,
                _ => {
                    let word = bare(self.bytes, self.at);
                    self.at = word.span.end;
                    self.words.push(word);
                }
            }
        }
    }

    /// Whether the last piece is a statement or a block of this name; names compare without case.
    pub(super) fn is(&self, name: &str) -> bool {
        self.words.first().is_some_and(|word| word.value.eq_ignore_ascii_case(name.as_bytes()))
    }

    /// The statement that the last piece is, or the beginning of the block.
    pub(super) fn statement(&mut self) -> Directive {
        statement(self.bytes, &self.words, self.at, &mut self.counter)
    }

    /// The lines of the end of the block that ends with the last piece.
    pub(super) fn close(&self) -> Range<usize> {
        lines(self.bytes, self.at - 1..self.at)
    }

    fn fault(&self, span: &Range<usize>, message: impl Into<String>) -> ParseError {
        ParseError { message: message.into(), excerpt: Excerpt::new(self.bytes, span) }
    }

    /// The byte at the place.
    fn here(&self) -> Range<usize> {
        self.at..self.at + 1
    }

    /// Ends a statement with the `;` or `{` at the place; `nameless` if it has no words.
    fn end_statement(&mut self, nameless: &str) -> Result<(), ParseError> {
        if self.words.is_empty() {
            return Err(self.fault(&self.here(), nameless));
        }
        self.at += 1;
        self.is_whole = true;
        Ok(())
    }

    fn open_block(&mut self) -> Result<(), ParseError> {
        self.end_statement("this `{` opens a block without a name")?;
        let name = &self.words[0];
        if name.value.ends_with(b"_by_lua_block") {
            self.lua_end = Some(lua_end(self.bytes, self.at).ok_or_else(|| self.never_closed(name.span.start))?);
        } else {
            self.open.push(name.span.start);
        }
        Ok(())
    }

    fn close_block(&mut self) -> Result<(), ParseError> {
        if let Some(word) = self.words.first() {
            return Err(self.fault(&word.span, "a `;` is missing behind this statement"));
        }
        if self.open.pop().is_none() {
            return Err(self.fault(&self.here(), "this `}` closes a block that is not open"));
        }
        self.at += 1;
        Ok(())
    }

    /// The fault of a block without an end that begins there.
    fn never_closed(&self, start: usize) -> ParseError {
        let word = match self.bytes[start] {
            b'"' | b'\'' => quoted(self.bytes, start),
            _ => Some(bare(self.bytes, start)),
        };
        let name = word.map(|word| String::from_utf8_lossy(&word.value).into_owned()).unwrap_or_default();
        let line = LineCounter { at: 0, line: 1 }.line_of(self.bytes, start);
        let words = source::words_of_line(self.bytes, line).unwrap_or(start..start + 1);
        self.fault(&words, format!("`{name}` is never closed"))
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

    /// Nothing may be left open at the end.
    fn finish(&self) -> Result<(), ParseError> {
        if let Some(word) = self.words.first() {
            return Err(self.fault(&word.span, "this statement has no end: a `;` is missing"));
        }
        self.open.last().map_or(Ok(()), |start| Err(self.never_closed(*start)))
    }
}

fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n')
}

fn blanks_end(bytes: &[u8], at: usize) -> usize {
    at + bytes[at..].iter().take_while(|byte| is_blank(**byte)).count()
}

/// A word without quotes: up to a blank, `;` or `{`; a `{` right behind `$` belongs to it.
fn bare(bytes: &[u8], start: usize) -> Word<'_> {
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
fn quoted(bytes: &[u8], start: usize) -> Option<Word<'_>> {
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
fn unescaped(text: &[u8]) -> Cow<'_, [u8]> {
    if memchr::memchr(b'\\', text).is_none() {
        return Cow::Borrowed(text);
    }
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
    Cow::Owned(out)
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
fn statement(bytes: &[u8], words: &[Word<'_>], end: usize, counter: &mut LineCounter) -> Directive {
    let text = |word: &Word<'_>| String::from_utf8_lossy(&word.value).into_owned();
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
