//! What a piece of configuration should say, and bringing a file to say it.
//!
//! The change is three-way: what yandro wanted before, what it wants now, and
//! what stands in the file. A line that a person added or changed stays; only a
//! value that the command itself changes is written over.

use super::parse::{Directive, Node, Section};
use super::site::HandEdit;
use crate::source::Splice;

/// A directive or section that is wanted. Within one section each name occurs once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Want {
    /// A directive with its arguments, unquoted.
    Directive(&'static str, Vec<String>),
    /// A section with its arguments, unquoted, and what stands in it.
    Section(&'static str, Vec<String>, Vec<Want>),
}

impl Want {
    /// A directive with one argument.
    pub fn one(name: &'static str, argument: impl Into<String>) -> Self {
        Self::Directive(name, vec![argument.into()])
    }

    fn name(&self) -> &'static str {
        match self {
            Self::Directive(name, _) | Self::Section(name, ..) => name,
        }
    }

    /// The text, each line with `indent` before it and `eol` behind.
    pub fn render(&self, indent: &str, eol: &str) -> String {
        match self {
            Self::Directive(name, arguments) => format!("{indent}{name} {}{eol}", quoted_all(arguments)),
            Self::Section(name, arguments, wants) => {
                let inner = indent.to_owned() + "\t";
                let body: String = wants.iter().map(|want| want.render(&inner, eol)).collect();
                format!("{indent}<{name} {}>{eol}{body}{indent}</{name}>{eol}", quoted_all(arguments))
            }
        }
    }
}

/// The splices that bring `section`, in which `old` was wanted, to say `new`.
pub(super) fn update(source: &[u8], section: &Section, old: &[Want], new: &[Want], eol: &str) -> Vec<Splice> {
    let mut splices = Vec::new();
    for want in old.iter().filter(|want| !new.iter().any(|other| other.name() == want.name())) {
        if let Some(node) = find_exact(section, want) {
            splices.push(Splice::remove(node.span()));
        }
    }
    let mut after = section.open.span.end;
    let indent = indentation(source, section);
    for want in new {
        let before = old.iter().find(|other| other.name() == want.name());
        match find(section, want, before) {
            Some(node) => {
                after = node.span().end;
                splices.extend(change(source, node, before, want, eol));
            }
            // Wanted all along, and not there: a person took it out.
            None if before == Some(want) => {}
            None => splices.push(Splice::insert(after, want.render(&indent, eol))),
        }
    }
    splices
}

/// The node that a want stands for: one that says it already, else one that says
/// what was wanted before, else one of its name.
fn find<'s>(section: &'s Section, want: &Want, before: Option<&Want>) -> Option<&'s Node> {
    find_exact(section, want).or_else(|| before.and_then(|before| find_exact(section, before))).or_else(|| match want {
        Want::Directive(name, _) => section.nodes.iter().find(|node| node.directive().is_some_and(|own| own.is(name))),
        // Another section of the same name is a different thing.
        Want::Section(..) => None,
    })
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

fn change(source: &[u8], node: &Node, before: Option<&Want>, want: &Want, eol: &str) -> Vec<Splice> {
    match (node, want) {
        (Node::Directive(own), Want::Directive(_, arguments)) => {
            let says_it = own.values().eq(arguments.iter().map(String::as_str));
            // Wanted all along, and different in the file: a person changed it.
            let is_persons = before == Some(want);
            if says_it || is_persons { Vec::new() } else { vec![set_arguments(own, arguments)] }
        }
        (Node::Section(own), Want::Section(_, arguments, wants)) => {
            let mut splices = Vec::new();
            if !own.open.values().eq(arguments.iter().map(String::as_str)) {
                splices.push(set_arguments(&own.open, arguments));
            }
            let before = match before {
                Some(Want::Section(_, _, before)) => before.as_slice(),
                _ => &[],
            };
            splices.extend(update(source, own, before, wants, eol));
            splices
        }
        _ => Vec::new(),
    }
}

/// The splice that has a section open with other arguments, if a person has left them alone.
pub(super) fn set_opening(section: &Section, old: Option<&Vec<String>>, new: &[String]) -> Option<Splice> {
    let is_ours = old.is_some_and(|old| section.open.values().eq(old.iter().map(String::as_str)));
    (is_ours && old.is_some_and(|old| old != new)).then(|| set_arguments(&section.open, new))
}

/// What of the wants a person has changed in `section`, or taken out of it.
pub(super) fn changed_by_hand(source: &[u8], section: &Section, wants: &[Want]) -> Vec<HandEdit> {
    let mut found = Vec::new();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim().to_owned();
    for want in wants {
        match (find(section, want, None), want) {
            (Some(Node::Directive(own)), Want::Directive(_, arguments))
                if !own.values().eq(arguments.iter().map(String::as_str)) =>
            {
                found.push(HandEdit {
                    line: own.line,
                    found: Some(text(&source[own.span.clone()])),
                    wanted: text(want.render("", "").as_bytes()),
                });
            }
            (Some(Node::Section(own)), Want::Section(_, _, inner)) => found.extend(changed_by_hand(source, own, inner)),
            (None, want) => {
                let wanted = want.render("", "\n");
                let wanted = wanted.lines().next().unwrap_or_default().to_owned();
                found.push(HandEdit { line: section.open.line, found: None, wanted });
            }
            _ => {}
        }
    }
    found
}

/// The first line of `section` that none of the wants accounts for.
pub(super) fn foreign(section: &Section, wants: &[Want]) -> Option<std::ops::Range<usize>> {
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

fn set_arguments(own: &Directive, arguments: &[String]) -> Splice {
    match (own.arguments.first(), own.arguments.last()) {
        (Some(first), Some(last)) => Splice::replace(first.span.start..last.span.end, quoted_all(arguments)),
        // A directive of ours without arguments: put a whole new line in its place.
        _ => Splice::replace(own.span.clone(), format!("{} {}\n", own.name, quoted_all(arguments))),
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

fn quoted_all(arguments: &[String]) -> String {
    arguments.iter().map(|argument| quoted(argument)).collect::<Vec<_>>().join(" ")
}

/// An argument as the server reads it back: in double quotes where it has to be.
pub(super) fn quoted(argument: &str) -> String {
    let is_plain = !argument.is_empty()
        && argument.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._:/*^%{}$=,[]+@~".contains(&b));
    if is_plain && (argument == "/" || !argument.starts_with('/')) {
        return argument.to_owned();
    }
    let mut out = String::from("\"");
    for c in argument.chars() {
        if matches!(c, '"' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
    out
}
