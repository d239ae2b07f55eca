//! Lines of the user that conflict with a site: commented out while the site is
//! mapped, and given back to the byte.
//!
//! A line whose names are all taken becomes a comment. One that has others keeps them in a
//! line below it: the same line with the taken names cut out, so that both tell how the
//! original was.

use core::net::IpAddr;
use std::collections::BTreeSet;
use std::ops::Range;

use super::error::{Conflict, EditError, TakeOver};
use super::parse::{self, HostsEntry, HostsFile};
use crate::name::HostName;
use crate::source::{self, Splice};

/// The text before a line that was taken over.
const MARK: &[u8] = b"# yandro took over: ";

/// Names that are the machine's own: lines with them are never touched.
const LOCAL: [&str; 9] = [
    "localhost",
    "localhost.localdomain",
    "localhost4",
    "localhost4.localdomain4",
    "localhost6",
    "localhost6.localdomain6",
    "ip6-localhost",
    "ip6-loopback",
    "broadcasthost",
];

type Names = BTreeSet<Vec<u8>>;

/// A line that was taken over.
struct Taken {
    /// The commented line, and the line with what is left of it if there is one.
    whole: Range<usize>,
    /// The original line without its end.
    text: Range<usize>,
    /// The end that it had, and has again.
    end: Range<usize>,
    /// The names that were taken, in lower case.
    names: Names,
}

/// Whether lines were taken over in a hosts file.
pub(crate) fn has_taken_over(bytes: &[u8]) -> bool {
    !taken_lines(bytes).is_empty()
}

/// The file in which the lines of `against` don't say anything about `names` any more.
pub(super) fn take(
    file: &HostsFile<'_>,
    names: &[HostName],
    against: Vec<(HostsEntry, &HostName, IpAddr)>,
    take_over: TakeOver,
) -> Result<Vec<u8>, EditError> {
    let bytes = file.bytes();
    let earlier = taken_lines(bytes);
    let mut splices: Vec<Splice> = Vec::new();
    for (entry, name, wanted) in against {
        let fixed = fixed(file, &entry);
        if take_over == TakeOver::No || fixed.is_some() {
            let text = String::from_utf8_lossy(&bytes[entry.full.clone()]).trim().to_owned();
            let (line, address, name) = (entry.line, entry.address, name.clone());
            return Err(EditError::Conflict(Box::new(Conflict { line, text, name, address, wanted, fixed })));
        }
        let mut taken: Names = file.names_of(&entry).map(<[u8]>::to_ascii_lowercase).collect();
        taken.retain(|own| names.iter().any(|name| name.as_str().as_bytes() == own));
        // It may be what is left of a line that was taken over before.
        let line = earlier.iter().find(|line| line.whole.end == entry.full.end && line.whole != entry.full);
        let splice = if let Some(line) = line {
            line.with(bytes, &line.names.union(&taken).cloned().collect())
        } else {
            let (text, end) = split_end(bytes, &entry.full);
            Taken { whole: entry.full.clone(), text, end, names: Names::new() }.with(bytes, &taken)
        };
        if !splices.contains(&splice) {
            splices.push(splice);
        }
    }
    Ok(source::apply(bytes, &splices))
}

/// Why a line is not taken over.
fn fixed(file: &HostsFile<'_>, entry: &HostsEntry) -> Option<&'static str> {
    if is_local(file, entry) {
        return Some("it names `localhost`, too, and yandro doesn't touch such a line");
    }
    let (text, _) = split_end(file.bytes(), &entry.full);
    file.bytes()[text].contains(&b'\r').then_some("it holds a carriage return in its midst")
}

/// Whether a line has one of the machine's own names.
pub(super) fn is_local(file: &HostsFile<'_>, entry: &HostsEntry) -> bool {
    file.names_of(entry).any(is_local_name)
}

/// Whether a name is one of the machine's own.
pub(super) fn is_local_name(name: &[u8]) -> bool {
    LOCAL.iter().any(|local| name.eq_ignore_ascii_case(local.as_bytes()))
}

/// The file in which lines that were taken over don't name `name` either, which the person drops from
/// what is left of them; `None` if none does.
pub(super) fn forget(bytes: &[u8], name: &str) -> Option<Vec<u8>> {
    let dropped: Names = [name.as_bytes().to_vec()].into();
    let splices: Vec<Splice> = taken_lines(bytes)
        .into_iter()
        .filter_map(|line| {
            let text = &bytes[line.text.clone()];
            let all = names_in(text);
            let is_left = all.is_superset(&dropped) && line.names.is_disjoint(&dropped);
            if !is_left {
                return None;
            }
            let kept = cut(text, &dropped)?;
            let (eol, end) = (line_feed(&bytes[line.end.clone()]), &bytes[line.end.clone()]);
            let rest = cut(&kept, &line.names).map(|rest| [eol, &rest].concat()).unwrap_or_default();
            Some(Splice::replace(line.whole, [MARK, &kept, &rest, end].concat()))
        })
        .collect();
    (!splices.is_empty()).then(|| source::apply(bytes, &splices))
}

/// The line end that goes between a line that was taken over and what is left of it.
fn line_feed(end: &[u8]) -> &'static [u8] {
    if end.ends_with(b"\r\n") { b"\r\n" } else { b"\n" }
}

/// The file in which the person has the lines again that were taken over for these names;
/// `None` if there are none.
pub(super) fn give_back(bytes: &[u8], names: &[HostName]) -> Option<Vec<u8>> {
    let is_dropped = |own: &Vec<u8>| names.iter().any(|name| name.as_str().as_bytes() == own);
    let splices: Vec<Splice> = taken_lines(bytes)
        .into_iter()
        .filter(|line| line.names.iter().any(is_dropped))
        .map(|line| line.with(bytes, &line.names.iter().filter(|own| !is_dropped(own)).cloned().collect()))
        .collect();
    (!splices.is_empty()).then(|| source::apply(bytes, &splices))
}

fn taken_lines(bytes: &[u8]) -> Vec<Taken> {
    let starts = memchr::memmem::find_iter(bytes, MARK).filter(|&at| at == 0 || bytes[at - 1] == b'\n');
    starts.filter_map(|start| taken_line(bytes, start)).collect()
}

fn taken_line(bytes: &[u8], start: usize) -> Option<Taken> {
    let line_at = |start: usize| start..memchr::memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |i| start + i + 1);
    let mark = line_at(start);
    let (text, end) = split_end(bytes, &(start + MARK.len()..mark.end));
    let all = names_in(&bytes[text.clone()]);
    if all.is_empty() {
        return None;
    }
    let below = line_at(mark.end);
    let (rest, rest_end) = split_end(bytes, &below);
    let left = names_in(&bytes[rest.clone()]);
    let taken: Names = all.difference(&left).cloned().collect();
    let is_rest =
        !left.is_empty() && !taken.is_empty() && cut(&bytes[text.clone()], &taken).as_deref() == Some(&bytes[rest]);
    Some(if is_rest {
        Taken { whole: start..below.end, text, end: rest_end, names: taken }
    } else {
        Taken { whole: mark, text, end, names: all }
    })
}

impl Taken {
    /// The line with just these names taken.
    fn with(&self, bytes: &[u8], names: &Names) -> Splice {
        let (text, end) = (&bytes[self.text.clone()], &bytes[self.end.clone()]);
        let line = if names.is_empty() {
            [text, end].concat()
        } else if let Some(rest) = cut(text, names) {
            [MARK, text, line_feed(end), &rest, end].concat()
        } else {
            [MARK, text, end].concat()
        };
        Splice::replace(self.whole.clone(), line)
    }
}

/// A line's text and its end: the LF and the CRs before it, whichever there are.
fn split_end(bytes: &[u8], line: &Range<usize>) -> (Range<usize>, Range<usize>) {
    let text = &bytes[line.clone()];
    let text = text.strip_suffix(b"\n").unwrap_or(text);
    let length = text.len() - text.iter().rev().take_while(|byte| **byte == b'\r').count();
    (line.start..line.start + length, line.start + length..line.end)
}

/// The names of a line, in lower case; none if the resolver doesn't read it.
fn names_in(text: &[u8]) -> Names {
    let file = HostsFile::parse(text);
    let Some(entry) = file.entries().next() else { return Names::new() };
    file.names_of(&entry).map(<[u8]>::to_ascii_lowercase).collect()
}

/// A line without these names and the blanks before each; `None` if it had no others.
pub(super) fn cut(text: &[u8], names: &Names) -> Option<Vec<u8>> {
    let words = parse::words(text, &(0..text.len()));
    let is_gone = |word: &Range<usize>| names.contains(&text[word.clone()].to_ascii_lowercase());
    if words.iter().skip(1).all(is_gone) {
        return None;
    }
    let pairs = words.windows(2).filter(|pair| is_gone(&pair[1]));
    let splices: Vec<Splice> = pairs.map(|pair| Splice::remove(pair[0].end..pair[1].end)).collect();
    Some(source::apply(text, &splices))
}
