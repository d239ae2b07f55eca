//! A wanted piece of configuration, and changing a file so that it has it.
//!
//! The change is three-way: what yandro wanted before, what it wants now, and
//! the content of the file. A line that the user added or changed stays; only a
//! value that the command itself changes is written over.

use std::borrow::Cow;

use super::tree::{Directive, Node, Section};
use crate::source::Splice;

/// How a server's files are written. What a method writes goes to the end of a text: a file has a hundred of them.
pub trait Syntax {
    /// Writes a directive without blanks before it and line end behind.
    fn write_directive(&self, out: &mut String, name: &str, arguments: &[String]);
    /// Writes the beginning of a section.
    fn write_open(&self, out: &mut String, name: &str, arguments: &[String]);
    /// Writes the end of a section.
    fn write_close(&self, out: &mut String, name: &str);
    /// An argument as the server reads it back.
    fn quoted<'a>(&self, argument: &'a str) -> Cow<'a, str>;
    /// Whether a section may have several directives of this name, distinguished by their
    /// first argument, and sections of this name by all of them.
    fn is_repeated(&self, name: &str) -> bool;

    /// A directive as [`Self::write_directive`] writes it.
    fn directive(&self, name: &str, arguments: &[String]) -> String {
        let mut out = String::new();
        self.write_directive(&mut out, name, arguments);
        out
    }

    /// Writes several arguments.
    fn write_arguments(&self, out: &mut String, arguments: &[String]) {
        for (at, argument) in arguments.iter().enumerate() {
            if at > 0 {
                out.push(' ');
            }
            out.push_str(&self.quoted(argument));
        }
    }

    /// Several arguments as [`Self::write_arguments`] writes them.
    fn quoted_all(&self, arguments: &[String]) -> String {
        let mut out = String::new();
        self.write_arguments(&mut out, arguments);
        out
    }
}

/// A text with a backslash before each of these.
pub(crate) fn escaped(text: &str, special: &[char]) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    for c in text.chars() {
        if special.contains(&c) {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

/// A directive or section of yandro's that a person has changed or taken out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HandEdit {
    /// Its line, from 1, or that of the section that it was taken out of.
    pub line: usize,
    /// The present text; `None` if the line was removed.
    pub found: Option<String>,
    /// The text that yandro would write; empty for a line that the site list asks for no more.
    pub wanted: String,
    /// Whether the site list has come to say something else there since the edit.
    pub conflicts: bool,
}

/// A directive or section that is wanted. Within one section each name occurs once, but for those
/// that the syntax knows as repeated.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Want {
    /// A directive with its arguments, unquoted.
    Directive(&'static str, Vec<String>),
    /// A section with its arguments, unquoted, and its content.
    Section(&'static str, Vec<String>, Vec<Want>),
}

impl Want {
    /// A directive with one argument.
    pub fn one(name: &'static str, argument: impl Into<String>) -> Self {
        Self::Directive(name, vec![argument.into()])
    }

    /// Its name.
    pub(crate) fn name(&self) -> &'static str {
        match self {
            Self::Directive(name, _) | Self::Section(name, ..) => name,
        }
    }

    fn arguments(&self) -> &[String] {
        match self {
            Self::Directive(_, arguments) | Self::Section(_, arguments, _) => arguments,
        }
    }

    /// Whether two wants are the same thing, which may have changed.
    pub(crate) fn is_same(&self, other: &Self, syntax: &dyn Syntax) -> bool {
        let is_alike = match self {
            _ if !syntax.is_repeated(self.name()) => true,
            Self::Directive(..) => self.arguments().first() == other.arguments().first(),
            Self::Section(..) => self.arguments() == other.arguments(),
        };
        self.name() == other.name() && is_alike
    }

    /// The text, each line with `indent` before it and `eol` behind.
    pub fn render(&self, syntax: &dyn Syntax, indent: &str, eol: &str) -> String {
        let mut out = String::new();
        self.render_into(&mut out, syntax, indent, eol);
        out
    }

    /// Writes the same to the end of a text.
    pub(crate) fn render_into(&self, out: &mut String, syntax: &dyn Syntax, indent: &str, eol: &str) {
        out.push_str(indent);
        match self {
            Self::Directive(name, arguments) => syntax.write_directive(out, name, arguments),
            Self::Section(name, arguments, wants) => {
                syntax.write_open(out, name, arguments);
                out.push_str(eol);
                let inner = indent.to_owned() + "\t";
                for want in wants {
                    want.render_into(out, syntax, &inner, eol);
                }
                out.push_str(indent);
                syntax.write_close(out, name);
            }
        }
        out.push_str(eol);
    }
}

/// A file whose wants change.
pub(crate) struct FileText<'f> {
    pub(crate) syntax: &'f dyn Syntax,
    pub(crate) source: &'f [u8],
    /// Its line ends.
    pub(crate) eol: &'f str,
    /// Whether a line that was edited by hand stays even where another value is wanted now.
    pub(crate) keeps_edits: bool,
}

impl FileText<'_> {
    /// The splices that bring `section`, in which `old` was wanted, to say `new`.
    pub(crate) fn update(&self, section: &Section, old: &[Want], new: &[Want]) -> Vec<Splice> {
        let Self { syntax, source, eol, keeps_edits } = *self;
        let mut splices = Vec::new();
        for want in old.iter().filter(|want| !new.iter().any(|other| other.is_same(want, syntax))) {
            if let Some(node) = find_exact(section, want) {
                splices.push(Splice::remove(node.span()));
            }
        }
        let mut after = section.open.span.end;
        let indent = indentation(source, section);
        for want in new {
            let before = old.iter().find(|other| other.is_same(want, syntax));
            match find(syntax, section, want, before) {
                Some(node) => {
                    after = node.span().end;
                    splices.extend(self.change(node, before, want));
                }
                // Wanted all along, and not there: a person took it out.
                None if before == Some(want) || before.is_some() && keeps_edits => {}
                None => {
                    let text = want.render(syntax, &indent, eol);
                    // If a line holds several things, the new one starts a line.
                    let is_line_start = source[..after].ends_with(b"\n");
                    splices.push(Splice::insert(after, if is_line_start { text } else { format!("{eol}{text}") }));
                }
            }
        }
        splices
    }

    fn change(&self, node: &Node, before: Option<&Want>, want: &Want) -> Vec<Splice> {
        match (node, want) {
            (Node::Directive(own), Want::Directive(_, arguments)) => {
                let says_it = own.values().eq(arguments.iter().map(String::as_str));
                // Wanted all along, and different in the file: a person changed it.
                let was_edited = matches!(before, Some(Want::Directive(_, before))
                    if !own.values().eq(before.iter().map(String::as_str)));
                let is_persons = before == Some(want) || was_edited && self.keeps_edits;
                if says_it || is_persons { Vec::new() } else { vec![set_arguments(self.syntax, own, arguments)] }
            }
            (Node::Section(own), Want::Section(_, arguments, wants)) => {
                let mut splices = Vec::new();
                if !own.open.values().eq(arguments.iter().map(String::as_str)) {
                    splices.push(set_arguments(self.syntax, &own.open, arguments));
                }
                let before = match before {
                    Some(Want::Section(_, _, before)) => before.as_slice(),
                    _ => &[],
                };
                splices.extend(self.update(own, before, wants));
                splices
            }
            _ => Vec::new(),
        }
    }
}

/// The node that matches a want: one with the wanted text, else one with
/// the text wanted before, else one of its name.
fn find<'s>(syntax: &dyn Syntax, section: &'s Section, want: &Want, before: Option<&Want>) -> Option<&'s Node> {
    let by_name = || match want {
        Want::Directive(name, arguments) => section.nodes.iter().find(|node| {
            node.directive().is_some_and(|own| {
                let is_alike =
                    !syntax.is_repeated(name) || own.values().next() == arguments.first().map(String::as_str);
                own.is(name) && is_alike
            })
        }),
        // Another section of the same name is a different thing.
        Want::Section(..) => None,
    };
    find_exact(section, want).or_else(|| before.and_then(|before| find_exact(section, before))).or_else(by_name)
}

/// Whether a section has something that could be what is wanted.
pub(crate) fn found_in(syntax: &dyn Syntax, section: &Section, want: &Want) -> bool {
    find(syntax, section, want, None).is_some()
}

fn find_exact<'s>(section: &'s Section, want: &Want) -> Option<&'s Node> {
    section.nodes.iter().find(|node| match (node, want) {
        (Node::Directive(own), Want::Directive(name, arguments)) => {
            own.is(name) && own.values().eq(arguments.iter().map(String::as_str))
        }
        (Node::Section(own), Want::Section(name, arguments, _)) => {
            own.open.is(name) && own.open.values().eq(arguments.iter().map(String::as_str))
        }
        _ => false,
    })
}

/// The splice that gives a section other arguments, if the user has left them as they were, or that isn't known.
pub(crate) fn set_opening(
    syntax: &dyn Syntax,
    section: &Section,
    old: Option<&Vec<String>>,
    new: &[String],
) -> Option<Splice> {
    let is = |arguments: &[String]| section.open.values().eq(arguments.iter().map(String::as_str));
    // Without what was wanted before, what differs is nobody's choice.
    let is_ours = old.is_none_or(|old| is(old));
    (is_ours && !is(new)).then(|| set_arguments(syntax, &section.open, new))
}

/// The wants that the user has changed in `section`, or removed from it.
pub(crate) fn changed_by_hand(syntax: &dyn Syntax, source: &[u8], section: &Section, wants: &[Want]) -> Vec<HandEdit> {
    let mut found = Vec::new();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim().to_owned();
    for want in wants {
        match (find(syntax, section, want, None), want) {
            (Some(Node::Directive(own)), Want::Directive(_, arguments))
                if !own.values().eq(arguments.iter().map(String::as_str)) =>
            {
                found.push(HandEdit {
                    line: own.line,
                    found: Some(text(&source[own.span.clone()])),
                    wanted: text(want.render(syntax, "", "").as_bytes()),
                    conflicts: false,
                });
            }
            (Some(Node::Section(own)), Want::Section(_, _, inner)) => {
                found.extend(changed_by_hand(syntax, source, own, inner));
            }
            (None, want) => {
                let wanted = want.render(syntax, "", "\n");
                let wanted = wanted.lines().next().unwrap_or_default().to_owned();
                found.push(HandEdit { line: section.open.line, found: None, wanted, conflicts: false });
            }
            _ => {}
        }
    }
    found
}

/// The first line of `section` that none of the wants accounts for.
pub(crate) fn foreign(section: &Section, wants: &[Want]) -> Option<std::ops::Range<usize>> {
    section.nodes.iter().find_map(|node| {
        let own = wants.iter().find(|want| match node {
            Node::Directive(own) => matches!(want, Want::Directive(name, _) if own.is(name)),
            Node::Section(_) => find_exact(section, want).is_some_and(|found| std::ptr::eq(found, node)),
        });
        match (own, node) {
            (Some(Want::Section(_, _, inner)), Node::Section(section)) => foreign(section, inner),
            (Some(_), _) => None,
            (None, Node::Directive(directive)) => Some(directive.span.clone()),
            (None, Node::Section(section)) => Some(section.open.span.clone()),
        }
    })
}

fn set_arguments(syntax: &dyn Syntax, own: &Directive, arguments: &[String]) -> Splice {
    match (own.arguments.first(), own.arguments.last()) {
        (Some(first), Some(last)) => Splice::replace(first.span.start..last.span.end, syntax.quoted_all(arguments)),
        // A directive of ours without arguments: put a whole new line in its place.
        _ => Splice::replace(own.span.clone(), syntax.directive(&own.name, arguments) + "\n"),
    }
}

/// The blanks before the first line within the section, or one tab more than its opening tag has.
fn indentation(source: &[u8], section: &Section) -> String {
    let blanks = |at: usize| {
        let line = &source[at..];
        let count = line.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
        String::from_utf8_lossy(&line[..count]).into_owned()
    };
    match section.nodes.first() {
        Some(node) => blanks(node.span().start),
        None => blanks(section.open.span.start) + "\t",
    }
}

impl Node {
    fn directive(&self) -> Option<&Directive> {
        match self {
            Self::Directive(directive) => Some(directive),
            Self::Section(_) => None,
        }
    }

    /// All its lines.
    fn span(&self) -> std::ops::Range<usize> {
        match self {
            Self::Directive(directive) => directive.span.clone(),
            Self::Section(section) => section.open.span.start..section.close.end,
        }
    }
}
