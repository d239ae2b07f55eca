//! Lints about one line.

use std::ops::Range;

use super::super::parse::{HostsEntry, HostsFile, is_blank, words};
use super::super::takeover;
use super::{LintCode, LintFinding, address, shown};
use crate::name::{HostName, NameError};
use crate::shell::word;
use crate::source::Splice;

/// How much of a line musl's resolver reads, in bytes, as measured: programs in small
/// container images use it. glibc reads lines of any length.
const MUSL_LINE: usize = 511;

pub(super) fn lint(
    file: &HostsFile<'_>,
    number: usize,
    full: &Range<usize>,
    entry: Option<&HostsEntry>,
    (path, found): (&str, &mut Vec<LintFinding>),
) {
    let bytes = file.bytes();
    let words = words(bytes, full);
    let Some(first) = words.first() else {
        if is_hidden_by_nul(&bytes[full.clone()]) {
            let cause = "a NUL at its beginning hides the line from the resolver";
            found.push(LintFinding::error(LintCode::Nul, number, cause).remedy(without_nul(path, number)));
        }
        return;
    };
    if bytes[first.clone()].starts_with(b"\xef\xbb\xbf") {
        // The byte order mark has a finding already.
        return;
    }
    // The rest of a line that begins with something else may be prose: one word on it is enough.
    let Some(entry) = entry else {
        found.push(no_address(bytes, number, full, &words, first));
        return;
    };
    if entry.names.is_empty() {
        let cause = format!("the address {} has no name", shown(bytes, first));
        found.push(LintFinding::warning(LintCode::NoName, number, cause).remedy("add the name, or delete the line"));
    }
    if let Some(at) = stray_return(bytes, full) {
        let cause =
            "a carriage return in the midst of the line doesn't end it: what follows are more names of its address";
        found.push(LintFinding::error(LintCode::StrayReturn, number, cause).fix(Splice::replace(at..at + 1, "\n")));
    }
    if let Some(at) = bytes[full.clone()].iter().position(|byte| *byte == 0) {
        let cause = format!("a NUL ends the line for the resolver at its byte {}", at + 1);
        found.push(LintFinding::error(LintCode::Nul, number, cause).remedy(without_nul(path, number)));
    }
    if full.len() > MUSL_LINE {
        let cause = format!(
            "the line has {} bytes, and programs that use musl, as in small container images, read {MUSL_LINE} of them",
            full.len()
        );
        let remedy = "spread its names over several lines";
        found.push(LintFinding::warning(LintCode::LongLine, number, cause).remedy(remedy));
    }
    for name in &entry.names {
        if let Some(finding) = lint_name(file, entry, name) {
            found.push(finding);
            // Text behind a `;` was meant as a comment.
            if found.last().is_some_and(|finding| finding.code == LintCode::NoComment) {
                break;
            }
        }
    }
}

/// Whether a line without words has some behind a NUL, and not in a comment.
fn is_hidden_by_nul(line: &[u8]) -> bool {
    let Some(at) = line.iter().position(|byte| *byte == 0) else { return false };
    !line[..at].contains(&b'#') && line[at..].iter().any(|byte| *byte != 0 && !is_blank(*byte) && *byte != b'\n')
}

/// The command that deletes the NULs of a line: only the user knows whether the line is meant to count.
fn without_nul(path: &str, number: usize) -> String {
    format!("sudo sed -i '{number}s/\\x00//g' {}", word(path))
}

fn no_address(
    bytes: &[u8],
    number: usize,
    full: &Range<usize>,
    words: &[Range<usize>],
    first: &Range<usize>,
) -> LintFinding {
    let word = String::from_utf8_lossy(&bytes[first.clone()]);
    let cause =
        format!("`{}` is not an address that the resolver reads, so the whole line says nothing", shown(bytes, first));
    let finding = LintFinding::error(LintCode::NotAnAddress, number, cause);
    if let Some(blank) = word.char_indices().find(|(_, c)| c.is_whitespace() || *c == '\u{200b}') {
        let (at, c) = blank;
        let start = first.start + at;
        let cause =
            format!("the character U+{:04X} looks like a space and isn't one: the line says nothing", u32::from(c));
        return LintFinding { cause, ..finding }.fix(Splice::replace(start..start + c.len_utf8(), " "));
    }
    if let Some(address) = address::meant(&word) {
        return finding.fix(Splice::replace(first.clone(), address.to_string()));
    }
    // Name and address in the wrong order.
    if let [name, address] = words
        && let Ok(text) = std::str::from_utf8(&bytes[address.clone()])
        && text.parse::<core::net::IpAddr>().is_ok()
    {
        let swapped = format!("{text}\t{word}");
        let cause = format!("the address comes first, then the name: `{} {text}` says nothing", shown(bytes, name));
        return LintFinding { cause, ..finding }.fix(Splice::replace(name.start..address.end, swapped));
    }
    if word.contains('%') {
        return finding.remedy("the resolver takes no zone here: use an address without one");
    }
    let is_prose = !word.starts_with(|c: char| c.is_ascii_digit());
    match address::near(&word) {
        Some(near) => finding.remedy(format!("did you mean {near}?")),
        None if is_prose => finding.fix(Splice::insert(full.start, "# ")),
        None => finding.remedy("correct the address, or delete the line"),
    }
}

/// A carriage return with something behind it in the same line.
fn stray_return(bytes: &[u8], full: &Range<usize>) -> Option<usize> {
    let text = &bytes[full.clone()];
    let end = text.iter().position(|byte| matches!(byte, b'#' | 0)).unwrap_or(text.len());
    let last = text[..end].iter().rposition(|byte| !is_blank(*byte) && *byte != b'\n')?;
    text[..last].iter().position(|byte| *byte == b'\r').map(|at| full.start + at)
}

fn lint_name(file: &HostsFile<'_>, entry: &HostsEntry, span: &Range<usize>) -> Option<LintFinding> {
    let bytes = file.bytes();
    let word = String::from_utf8_lossy(&bytes[span.clone()]);
    if takeover::is_local_name(word.as_bytes()) {
        return None;
    }
    let shown = shown(bytes, span);
    let of = |code, cause: String| LintFinding::error(code, entry.line, cause);
    if let Some(rest) = word.strip_prefix(';') {
        let cause = format!("`;` begins no comment here: `;{rest}` is read as a name");
        return Some(of(LintCode::NoComment, cause).fix(Splice::replace(span.start..span.start + 1, "#")));
    }
    let parsed = HostName::parse(&word);
    let is_dotted = word.ends_with('.');
    let not_asked = |what: &str| format!("nothing ever asks for `{shown}`: {what}");
    let (cause, name) = match parsed {
        Ok(name) if is_dotted => (not_asked("a name has no final dot here"), Some(name.to_string())),
        Ok(name) if !word.is_ascii() => {
            (not_asked("browsers ask for the name in its ASCII form"), Some(name.to_string()))
        }
        Ok(_) | Err(NameError::Localhost) => return None,
        Err(NameError::Url { name, .. }) => {
            return Some(other_form(file, entry, span, name, &not_asked("it is the address of a page")));
        }
        Err(NameError::Port { name, .. }) => {
            return Some(other_form(file, entry, span, name, &not_asked("a name has no port")));
        }
        Err(NameError::Wildcard { .. }) => (not_asked("a hosts file can't hold wildcards; write each name"), None),
        Err(error) => (error.to_string(), None),
    };
    let finding = of(LintCode::NotAName, cause);
    Some(match name {
        Some(name) => match without_slip(file, entry, span, &name) {
            Some(splice) => finding.fix(splice),
            None => finding.fix(Splice::replace(span.clone(), name)),
        },
        None => finding.remedy("correct the name, or take it out"),
    })
}

/// A URL, or a name with a port. The name in it was never answered from here: only the user can say that it should be.
fn other_form(
    file: &HostsFile<'_>,
    entry: &HostsEntry,
    span: &Range<usize>,
    name: Option<String>,
    cause: &str,
) -> LintFinding {
    let finding = LintFinding::error(LintCode::NotAName, entry.line, cause);
    let Some(name) = name else { return finding.remedy("correct the name, or take it out") };
    if let Some(splice) = without_slip(file, entry, span, &name) {
        return finding.fix(splice);
    }
    let slip = String::from_utf8_lossy(&file.bytes()[span.clone()]).into_owned();
    finding.remedy(format!("yandro hosts drop {} && yandro hosts point {name} {}", word(&slip), entry.address))
}

/// The line without a slip, if it has the right name already.
fn without_slip(file: &HostsFile<'_>, entry: &HostsEntry, span: &Range<usize>, name: &str) -> Option<Splice> {
    file.names_of(entry).find(|own| own.eq_ignore_ascii_case(name.as_bytes()))?;
    let before = file.bytes()[..span.start].iter().rev().take_while(|byte| is_blank(**byte)).count();
    Some(Splice::remove(span.start - before..span.end))
}
