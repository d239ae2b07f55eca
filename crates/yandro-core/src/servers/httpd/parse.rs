//! Lines, directives and sections of Apache httpd over the original bytes.

use std::ops::Range;

use crate::config::{Argument, Directive, Node, ParseError, Section, Tree};
use crate::source::{self, Excerpt};

/// Reads a file.
///
/// # Errors
/// When a section is not closed, or closed without being open.
pub fn parse(bytes: &[u8]) -> Result<Tree, ParseError> {
    let mut open: Vec<(Directive, Vec<Node>)> = Vec::new();
    let mut nodes = Vec::new();
    for logical in logical_lines(bytes) {
        let text = logical.text(bytes);
        let trimmed = text.trim_ascii();
        if trimmed.is_empty() || trimmed[0] == b'#' {
            continue;
        }
        if let Some(name) = trimmed.strip_prefix(b"</") {
            let name = String::from_utf8_lossy(name.split(|&b| b == b'>').next().unwrap_or(name)).trim().to_owned();
            let fault = |message: String| ParseError { message, excerpt: Excerpt::new(bytes, &logical.span) };
            let Some((opening, outer)) = open.pop() else {
                return Err(fault(format!("`</{name}>` closes a section that is not open")));
            };
            if !opening.is(name.trim_matches(['"', '\''])) {
                return Err(fault(format!("`</{name}>` closes `<{}>` of line {}", opening.name, opening.line)));
            }
            let within = std::mem::replace(&mut nodes, outer);
            nodes.push(Node::Section(Section { open: opening, nodes: within, close: logical.span }));
        } else if trimmed[0] == b'<' {
            let inner_start = text.iter().position(|&b| b == b'<').map_or(0, |i| i + 1);
            let inner_end = text.iter().rposition(|&b| b == b'>').unwrap_or(text.len()).max(inner_start);
            open.push((logical.directive(bytes, inner_start..inner_end), std::mem::take(&mut nodes)));
        } else {
            nodes.push(Node::Directive(logical.directive(bytes, 0..text.len())));
        }
    }
    if let Some((opening, _)) = open.pop() {
        let message = format!("`<{}>` is never closed", opening.name);
        return Err(ParseError { message, excerpt: Excerpt::new(bytes, &opening.span) });
    }
    Ok(Tree { nodes })
}

/// A line as the server reads it: physical lines joined where one ends in a backslash.
pub(super) struct Logical {
    /// The pieces of the text, without the backslashes and line ends between them.
    pieces: Vec<Range<usize>>,
    pub(super) span: Range<usize>,
    pub(super) last_line: usize,
}

pub(super) fn logical_lines(bytes: &[u8]) -> impl Iterator<Item = Logical> + '_ {
    let mut lines = source::lines(bytes).enumerate();
    std::iter::from_fn(move || {
        let mut logical: Option<Logical> = None;
        for (number, line) in lines.by_ref() {
            let has_end = line.full.end > line.text.end;
            // The last backslash goes, whatever comes before it; a file that ends
            // in one continues into nothing.
            let continued = has_end && bytes[line.text.clone()].ends_with(b"\\");
            let piece = line.text.start..line.text.end - usize::from(continued);
            let logical = logical.get_or_insert(Logical { pieces: Vec::new(), span: line.full.clone(), last_line: 0 });
            logical.pieces.push(piece);
            logical.span.end = line.full.end;
            logical.last_line = number + 1;
            if !continued {
                break;
            }
        }
        logical
    })
}

impl Logical {
    pub(super) fn text(&self, bytes: &[u8]) -> Vec<u8> {
        self.pieces.iter().flat_map(|piece| &bytes[piece.clone()]).copied().collect()
    }

    /// Offset in the file of the byte at `at` of the joined text.
    fn offset(&self, at: usize) -> usize {
        let mut left = at;
        for piece in &self.pieces {
            if left < piece.len() {
                return piece.start + left;
            }
            left -= piece.len();
        }
        self.pieces.last().map_or(self.span.end, |piece| piece.end)
    }

    fn directive(&self, bytes: &[u8], within: Range<usize>) -> Directive {
        let text = self.text(bytes);
        let mut words = words(&text, within).into_iter().map(|(value, range)| Argument {
            value: String::from_utf8_lossy(&value).into_owned(),
            span: self.offset(range.start)..self.offset(range.end - 1) + 1,
        });
        let name = words.next().map(|word| word.value).unwrap_or_default();
        Directive { name, arguments: words.collect(), span: self.span.clone(), line: self.last_line }
    }
}

/// Splits as `ap_getword_conf` does: a word that begins with a quote ends at the
/// same quote, and a backslash in it escapes the quote and itself.
pub(super) fn words(text: &[u8], within: Range<usize>) -> Vec<(Vec<u8>, Range<usize>)> {
    let mut found = Vec::new();
    let mut at = within.start;
    let end = within.end;
    loop {
        while at < end && text[at].is_ascii_whitespace() {
            at += 1;
        }
        if at >= end {
            return found;
        }
        let start = at;
        let mut value = Vec::new();
        let quote = Some(text[at]).filter(|byte| matches!(byte, b'"' | b'\''));
        if let Some(quote) = quote {
            at += 1;
            while at < end && text[at] != quote {
                if text[at] == b'\\' && at + 1 < end && (text[at + 1] == quote || text[at + 1] == b'\\') {
                    at += 1;
                }
                value.push(text[at]);
                at += 1;
            }
            at = (at + 1).min(end);
        } else {
            while at < end && !text[at].is_ascii_whitespace() {
                value.push(text[at]);
                at += 1;
            }
        }
        found.push((value, start..at));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_words_and_sections_are_the_servers() {
        let text = b"# a comment \\\nthat goes on\n<virtualhost *:80 \\\r\n  [::1]:80>  \n\tServerName 'a b' \"c \\\"d\\\\\" e#f\n<Directory \"/a > b\">\n</DIRECTORY>\n</VirtualHost>\n";
        let tree = parse(text).unwrap();
        let hosts = tree.all("VirtualHost");
        assert_eq!(hosts[0].open.values().collect::<Vec<_>>(), ["*:80", "[::1]:80"]);
        assert_eq!(hosts[0].open.line, 4);
        assert_eq!(&text[hosts[0].open.arguments[1].span.clone()], b"[::1]:80");
        let name = hosts[0].directives("servername").next().unwrap();
        assert_eq!(name.values().collect::<Vec<_>>(), ["a b", "c \"d\\", "e#f"]);
        assert_eq!(hosts[0].sections("Directory").next().unwrap().open.arguments[0].value, "/a > b");
    }

    #[test]
    fn an_open_section_is_shown() {
        insta::assert_snapshot!(parse(b"Listen 80\n<VirtualHost *:80>\n").unwrap_err(), @r"
        `<VirtualHost>` is never closed
          2 | <VirtualHost *:80>
            | ^^^^^^^^^^^^^^^^^^
        ");
        insta::assert_snapshot!(parse(b"<A>\n</B>\n").unwrap_err(), @r"
        `</B>` closes `<A>` of line 1
          2 | </B>
            | ^^^^
        ");
    }

    proptest! {
        #[test]
        fn spans_lie_in_any_text_and_nothing_panics(text in r#"([<>/ "'\\#a\r\n\t=*]|VirtualHost|</VirtualHost>){0,60}"#) {
            if let Ok(tree) = parse(text.as_bytes()) {
                for host in tree.all("VirtualHost") {
                    prop_assert!(host.close.end <= text.len());
                    for argument in &host.open.arguments {
                        prop_assert!(host.open.span.contains(&argument.span.start));
                        prop_assert!(argument.span.end <= host.open.span.end);
                    }
                }
            }
        }
    }
}
