//! Text with spans. A configuration file is never printed from a tree: a change
//! is a set of [`Splice`]s over the original bytes, and every byte outside them stays.

use std::fmt;
use std::ops::Range;

/// The replacement of one range of bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Splice {
    /// The bytes of the original that go; empty for an insertion.
    pub range: Range<usize>,
    /// The new text.
    pub replacement: Vec<u8>,
}

impl Splice {
    /// A splice that inserts `text` at `offset`.
    pub(crate) fn insert(offset: usize, text: impl Into<Vec<u8>>) -> Self {
        Self { range: offset..offset, replacement: text.into() }
    }

    /// A splice that takes `range` away.
    pub(crate) fn remove(range: Range<usize>) -> Self {
        Self { range, replacement: Vec::new() }
    }

    /// A splice that puts `text` in the place of `range`.
    pub(crate) fn replace(range: Range<usize>, text: impl Into<Vec<u8>>) -> Self {
        Self { range, replacement: text.into() }
    }
}

/// Applies splices to `source`. They may come in any order; insertions at one
/// offset keep the order in which they were given.
///
/// # Panics
/// When two splices overlap or one reaches beyond the end: a fault of the caller.
pub(crate) fn apply(source: &[u8], splices: &[Splice]) -> Vec<u8> {
    let mut order: Vec<&Splice> = splices.iter().collect();
    order.sort_by_key(|splice| (splice.range.start, splice.range.end));
    let mut out = Vec::with_capacity(source.len() + splices.iter().map(|s| s.replacement.len()).sum::<usize>());
    let mut at = 0;
    for splice in order {
        assert!(splice.range.start >= at, "splices overlap at byte {}", splice.range.start);
        out.extend_from_slice(&source[at..splice.range.start]);
        out.extend_from_slice(&splice.replacement);
        at = splice.range.end;
    }
    out.extend_from_slice(&source[at..]);
    out
}

/// How many bytes two contents begin with in common, and end with: the two never overlap.
pub fn common_ends(a: &[u8], b: &[u8]) -> (usize, usize) {
    // Block by block first: files of several megabytes differ in a few bytes.
    let blocks = a.chunks_exact(BLOCK).zip(b.chunks_exact(BLOCK)).take_while(|(a, b)| a == b).count();
    let (a, b) = (&a[blocks * BLOCK..], &b[blocks * BLOCK..]);
    let prefix = a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let (a, b) = (&a[prefix..], &b[prefix..]);
    let last_blocks = a.rchunks_exact(BLOCK).zip(b.rchunks_exact(BLOCK)).take_while(|(a, b)| a == b).count();
    let (a, b) = (&a[..a.len() - last_blocks * BLOCK], &b[..b.len() - last_blocks * BLOCK]);
    let suffix = a.iter().rev().zip(b.iter().rev()).take_while(|(a, b)| a == b).count();
    (blocks * BLOCK + prefix, last_blocks * BLOCK + suffix)
}

const BLOCK: usize = 256;

/// One physical line: the spans of its text and its line end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Line {
    /// The line's text, without its line end.
    pub text: Range<usize>,
    /// The line with its end: `\n`, or nothing in a last line without one. A CR
    /// before the `\n` counts to the end, too.
    pub full: Range<usize>,
}

/// The physical lines of `source`. A file that ends in a line end has no empty
/// line behind it.
pub(crate) fn lines(source: &[u8]) -> impl Iterator<Item = Line> + '_ {
    let mut at = 0;
    std::iter::from_fn(move || {
        if at >= source.len() {
            return None;
        }
        let start = at;
        let end = memchr::memchr(b'\n', &source[start..]).map_or(source.len(), |i| start + i + 1);
        at = end;
        let mut text_end = end;
        if source[..end].ends_with(b"\n") {
            text_end -= 1;
            if text_end > start && source[text_end - 1] == b'\r' {
                text_end -= 1;
            }
        }
        Some(Line { text: start..text_end, full: start..end })
    })
}

/// The text of the line of this number, from 1, without the blanks around it.
pub(crate) fn words_of_line(source: &[u8], number: usize) -> Option<Range<usize>> {
    let line = lines(source).nth(number.checked_sub(1)?)?;
    let text = &source[line.text.clone()];
    let start = line.text.start + (text.len() - text.trim_ascii_start().len());
    Some(start..start + text.trim_ascii().len())
}

/// The line end that a file uses: CRLF when most of its lines end so, else LF.
pub(crate) fn line_end(source: &[u8]) -> &'static str {
    // The usual case, and files of several megabytes have very many lines.
    if memchr::memmem::find(source, b"\r\n").is_none() {
        return "\n";
    }
    let (mut crlf, mut all) = (0usize, 0usize);
    for i in memchr::memchr_iter(b'\n', source) {
        all += 1;
        crlf += usize::from(i > 0 && source[i - 1] == b'\r');
    }
    if crlf * 2 > all { "\r\n" } else { "\n" }
}

/// A place in a text as editors count it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Position {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

/// Line and column of the byte at `offset`.
pub(crate) fn position(source: &[u8], offset: usize) -> Position {
    let before = &source[..offset.min(source.len())];
    let line_start = before.iter().rposition(|&b| b == b'\n').map_or(0, |i| i + 1);
    Position {
        line: before.iter().filter(|&&b| b == b'\n').count() + 1,
        column: String::from_utf8_lossy(&before[line_start..]).chars().count() + 1,
    }
}

/// A line of a text with a caret under the span that is meant, for messages.
///
/// ```text
///   7 | folder = saltmarsh
///     |          ^^^^^^^^^
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Excerpt {
    /// Start of the span.
    pub position: Position,
    line: String,
    caret: usize,
}

impl Excerpt {
    /// The line in which `span` begins, without its end.
    pub fn new(source: &[u8], span: &Range<usize>) -> Self {
        let start = span.start.min(source.len());
        let line_start = source[..start].iter().rposition(|&b| b == b'\n').map_or(0, |i| i + 1);
        let line_end = source[start..].iter().position(|&b| b == b'\n').map_or(source.len(), |i| start + i);
        let meant = &source[start..span.end.clamp(start, line_end)];
        Self {
            position: position(source, start),
            // One blank for each tab and control character keeps the caret in place.
            line: String::from_utf8_lossy(&source[line_start..line_end])
                .trim_end()
                .chars()
                .map(|c| if c.is_control() { ' ' } else { c })
                .collect(),
            caret: String::from_utf8_lossy(meant).trim_end().chars().count().max(1),
        }
    }
}

impl fmt::Display for Excerpt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let number = self.position.line.to_string();
        let gutter = " ".repeat(number.len());
        let indent = " ".repeat(self.position.column - 1);
        writeln!(f, "  {number} | {}", self.line)?;
        write!(f, "  {gutter} | {indent}{}", "^".repeat(self.caret))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_know_their_ends() {
        let source = b"a\r\n\nb\rc\n d";
        let texts: Vec<_> = lines(source).map(|l| (&source[l.text], l.full.len())).collect();
        assert_eq!(texts, [(&b"a"[..], 3), (b"", 1), (b"b\rc", 4), (b" d", 2)]);
        assert_eq!(line_end(b"a\r\nb\r\nc\n"), "\r\n");
        assert_eq!(line_end(b"a\nb\r\n"), "\n");
    }

    #[test]
    fn an_excerpt_points_at_the_span() {
        let source = "one\n\tfähre = x\ntwo".as_bytes();
        let at = source.iter().position(|&b| b == b'x').unwrap();
        let excerpt = Excerpt::new(source, &(at..at + 1));
        assert_eq!(excerpt.position, Position { line: 2, column: 10 });
        assert_eq!(excerpt.to_string(), "  2 |  fähre = x\n    |          ^");
    }

    proptest! {
        #[test]
        fn the_lines_of_any_bytes_are_the_bytes(source: Vec<u8>) {
            let joined: Vec<u8> = lines(&source).flat_map(|l| source[l.full].to_vec()).collect();
            prop_assert_eq!(joined, source);
        }

        #[test]
        fn common_ends_never_overlap(head: Vec<u8>, a in proptest::collection::vec(0u8..2, 0..9), b in proptest::collection::vec(0u8..2, 0..9), tail in 0usize..900) {
            let tail = vec![1; tail];
            let (a, b) = ([head.clone(), a, tail.clone()].concat(), [head, b, tail].concat());
            let (prefix, suffix) = common_ends(&a, &b);
            prop_assert!(prefix + suffix <= a.len().min(b.len()));
            prop_assert_eq!(&a[..prefix], &b[..prefix]);
            prop_assert_eq!(&a[a.len() - suffix..], &b[b.len() - suffix..]);
            let (a, b) = (&a[prefix..a.len() - suffix], &b[prefix..b.len() - suffix]);
            prop_assert!(a.is_empty() || b.is_empty() || (a[0] != b[0] && a.last() != b.last()));
        }

        #[test]
        fn bytes_outside_a_splice_stay(before: Vec<u8>, gone: Vec<u8>, after: Vec<u8>, new: Vec<u8>) {
            let source = [before.clone(), gone.clone(), after.clone()].concat();
            let splice = Splice::replace(before.len()..before.len() + gone.len(), new.clone());
            prop_assert_eq!(apply(&source, &[splice]), [before, new, after].concat());
        }
    }
}
