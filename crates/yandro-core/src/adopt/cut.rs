//! Removal of virtual hosts from the user's files.

use std::ops::Range;

use crate::config::{Dialect, Node, Section, Tree};
use crate::server_path::ServerPath;
use crate::source::{self, Splice};

/// A file of a person's, without the virtual hosts that are taken over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CutFile {
    /// The file, as the server sees it.
    pub path: ServerPath,
    /// Its text without them; `None` if nothing but comments would be left.
    pub text: Option<Vec<u8>>,
}

/// A virtual host with the comments right above it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct CutBlock {
    /// The comments, whole lines.
    pub(super) comments: Vec<u8>,
    /// The lines of the section.
    pub(super) block: Vec<u8>,
}

/// Takes the virtual hosts on these lines out of a text. Gives the rest, `None` if nothing but comments would be left,
/// and the virtual hosts in the order of the lines.
pub(super) fn cut(
    dialect: &dyn Dialect,
    text: &[u8],
    tree: &Tree,
    lines: &[usize],
) -> (Option<Vec<u8>>, Vec<CutBlock>, Vec<u8>) {
    let hosts = tree.all(dialect.host());
    let sections: Vec<&Section> = hosts.into_iter().filter(|host| lines.contains(&host.open.line)).collect();
    let ranges: Vec<Range<usize>> = sections.iter().map(|section| section.open.span.start..section.close.end).collect();
    let is_whole = tree.nodes.iter().all(|node| is_cut(node, &ranges));
    let mut blocks = Vec::new();
    let mut splices = Vec::new();
    let mut at = 0;
    for range in &ranges {
        // When the whole file is removed, so is everything before the virtual host.
        let comments =
            if is_whole { at..outer(&tree.nodes, range).start } else { comments_above(text, range.start)..range.start };
        let comments = if is_whole { comments_of(text, comments) } else { text[comments.clone()].to_vec() };
        blocks.push(CutBlock { comments, block: text[range.clone()].to_vec() });
        at = outer(&tree.nodes, range).end;
        let gone = outer_emptied(&tree.nodes, range, &ranges);
        let start = comments_above(text, gone.start);
        // Remove one of the two blank lines around it too.
        let is_apart = text[..start].ends_with(b"\n\n") && text[gone.end..].starts_with(b"\n");
        splices.push(Splice::remove(start..gone.end + usize::from(is_apart)));
    }
    if is_whole {
        return (None, blocks, comments_of(text, at..text.len()));
    }
    splices.dedup_by(|own, before| own.range == before.range);
    (Some(source::apply(text, &splices)), blocks, Vec::new())
}

/// Whether a node holds nothing but virtual hosts that are cut out.
fn is_cut(node: &Node, ranges: &[Range<usize>]) -> bool {
    match node {
        Node::Directive(_) => false,
        Node::Section(own) => {
            ranges.contains(&(own.open.span.start..own.close.end))
                || !own.nodes.is_empty() && own.nodes.iter().all(|node| is_cut(node, ranges))
        }
    }
}

/// The lines of the section at the top that a range is in.
fn outer(nodes: &[Node], range: &Range<usize>) -> Range<usize> {
    nodes.iter().map(span).find(|own| own.contains(&range.start)).unwrap_or_else(|| range.clone())
}

/// The lines of the outermost section around a range of which nothing else would be left.
fn outer_emptied(nodes: &[Node], range: &Range<usize>, ranges: &[Range<usize>]) -> Range<usize> {
    for node in nodes {
        if let Node::Section(own) = node
            && span(node).contains(&range.start)
        {
            return if is_cut(node, ranges) { span(node) } else { outer_emptied(&own.nodes, range, ranges) };
        }
    }
    range.clone()
}

fn span(node: &Node) -> Range<usize> {
    match node {
        Node::Directive(own) => own.span.clone(),
        Node::Section(own) => own.open.span.start..own.close.end,
    }
}

/// The start of the comment lines right above an offset at which a line begins.
fn comments_above(text: &[u8], offset: usize) -> usize {
    let above: Vec<source::Line> = source::lines(&text[..offset]).collect();
    let comments = above.iter().rev().take_while(|line| text[line.text.clone()].trim_ascii_start().starts_with(b"#"));
    comments.last().map_or(offset, |line| line.full.start)
}

/// The comment lines and blank lines of a range, without blank lines at its ends.
fn comments_of(text: &[u8], range: Range<usize>) -> Vec<u8> {
    let lines: Vec<&[u8]> = text[range].split_inclusive(|byte| *byte == b'\n').collect();
    let is_blank = |line: &&&[u8]| line.trim_ascii().is_empty();
    let start = lines.iter().take_while(is_blank).count();
    let end = lines.len() - lines[start..].iter().rev().take_while(is_blank).count();
    lines[start..end].concat()
}
