//! A configuration file as a tree of spans over its bytes: what all servers' files have in common.

use std::ops::Range;

use crate::source::Excerpt;

/// A parsed configuration file: a tree of spans.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tree {
    /// The directives and sections at the top, in order.
    pub nodes: Vec<Node>,
}

/// A directive or a section.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Node {
    /// A single directive.
    Directive(Directive),
    /// A section: `<Name …>` to `</Name>`.
    Section(Section),
}

/// A directive, or the opening tag of a section.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Directive {
    /// Its name as written.
    pub name: String,
    /// In the order in which they are written.
    pub arguments: Vec<Argument>,
    /// Its lines, from the start of the first to the end of the last with the line end.
    pub span: Range<usize>,
    /// Number of its last physical line, from 1: that is how the server counts.
    pub line: usize,
}

/// A word of a directive, and where it is in the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Argument {
    /// Its value with quotes and escapes taken away; bytes that are no UTF-8 are replaced.
    pub value: String,
    /// Its span, quotes included.
    pub span: Range<usize>,
}

/// A section with its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    /// The opening tag.
    pub open: Directive,
    /// Its content.
    pub nodes: Vec<Node>,
    /// The lines of the closing tag.
    pub close: Range<usize>,
}

/// A fault that makes a file unreadable, with its place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}\n{excerpt}")]
pub struct ParseError {
    /// The fault.
    pub message: String,
    /// The line that is meant.
    pub excerpt: Excerpt,
}

impl Directive {
    /// Whether it has this name; names compare without case.
    pub fn is(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name)
    }

    /// The values of the arguments.
    pub fn values(&self) -> impl Iterator<Item = &str> {
        self.arguments.iter().map(|argument| argument.value.as_str())
    }
}

impl Node {
    /// Start of its first line.
    pub fn start(&self) -> usize {
        match self {
            Self::Directive(directive) => directive.span.start,
            Self::Section(section) => section.open.span.start,
        }
    }
}

impl Section {
    /// Its directives of this name, in order; those of sections within it not counted.
    pub fn directives<'s>(&'s self, name: &'s str) -> impl Iterator<Item = &'s Directive> {
        self.nodes.iter().filter_map(move |node| match node {
            Node::Directive(directive) if directive.is(name) => Some(directive),
            _ => None,
        })
    }

    /// The sections of this name right within it.
    pub fn sections<'s>(&'s self, name: &'s str) -> impl Iterator<Item = &'s Section> {
        sections(&self.nodes, name)
    }
}

fn sections<'s>(nodes: &'s [Node], name: &'s str) -> impl Iterator<Item = &'s Section> {
    nodes.iter().filter_map(move |node| match node {
        Node::Section(section) if section.open.is(name) => Some(section),
        _ => None,
    })
}

impl Tree {
    /// Every section of this name at any depth, except within another of the same name.
    pub fn all(&self, name: &str) -> Vec<&Section> {
        let mut found = Vec::new();
        let mut pending: Vec<&Node> = self.nodes.iter().rev().collect();
        while let Some(node) = pending.pop() {
            if let Node::Section(section) = node {
                if section.open.is(name) {
                    found.push(section);
                } else {
                    pending.extend(section.nodes.iter().rev());
                }
            }
        }
        found
    }

    /// The sections of this name at the top.
    pub fn sections<'s>(&'s self, name: &'s str) -> impl Iterator<Item = &'s Section> {
        sections(&self.nodes, name)
    }
}
