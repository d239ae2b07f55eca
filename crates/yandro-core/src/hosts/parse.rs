//! Lines, entries and lookup.

use std::net::IpAddr;
use std::ops::Range;

use crate::name::HostName;
use crate::source::{self, Line};

/// First words of the comment that opens yandro's block.
pub(super) const BLOCK_HEAD: &str = "# yandro sites";
/// The comment that closes it.
pub(super) const BLOCK_TAIL: &str = "# end of yandro sites";

/// A hosts file over its original bytes.
#[derive(Clone, Debug)]
pub struct HostsFile<'a> {
    bytes: &'a [u8],
    entries: Vec<Entry>,
    block: Option<Block>,
}

/// A line that the resolver reads: an address and its names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Line number, from 1.
    pub line: usize,
    /// The address.
    pub address: IpAddr,
    /// Where each name stands in the file; the first is the canonical one.
    pub names: Vec<Range<usize>>,
    /// The whole line with its end.
    pub(super) full: Range<usize>,
    /// Whether the line stands in yandro's block.
    pub ours: bool,
}

/// Yandro's block: the comments that open and close it and all between.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Block {
    pub(super) head: Range<usize>,
    pub(super) tail: Range<usize>,
}

impl<'a> HostsFile<'a> {
    /// Reads any bytes; what the resolver doesn't read is no entry, but stays in the file.
    pub fn parse(bytes: &'a [u8]) -> Self {
        let mut file = Self { bytes, entries: Vec::new(), block: None };
        let mut head: Option<Range<usize>> = None;
        for (number, line) in source::lines(bytes).enumerate() {
            let text = &bytes[line.text.clone()];
            if text.starts_with(BLOCK_TAIL.as_bytes()) {
                if let (Some(head), None) = (head.take(), &file.block) {
                    file.block = Some(Block { head, tail: line.full });
                }
            } else if text.starts_with(BLOCK_HEAD.as_bytes()) {
                head = Some(line.full);
            } else if let Some(entry) = read_line(bytes, &line, number + 1) {
                file.entries.push(entry);
            }
        }
        if let Some(block) = &file.block {
            let within = block.head.end..block.tail.start;
            for entry in &mut file.entries {
                entry.ours = within.contains(&entry.full.start);
            }
        }
        file
    }

    /// The bytes that were parsed.
    pub fn bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// All lines that the resolver reads, in order.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    pub(super) fn block(&self) -> Option<&Block> {
        self.block.as_ref()
    }

    /// Every entry that answers to `name`, in the order of the file. Names compare
    /// as bytes, ASCII letters of either case alike.
    pub fn entries_of(&self, name: &HostName) -> impl Iterator<Item = &Entry> {
        self.entries
            .iter()
            .filter(move |entry| self.names_of(entry).any(|own| own.eq_ignore_ascii_case(name.as_str().as_bytes())))
    }

    /// What getaddrinfo answers for `name` from this file alone, both families,
    /// with `multi on` in host.conf (every line counts, in order).
    pub fn lookup(&self, name: &HostName) -> Vec<IpAddr> {
        self.entries_of(name).map(|entry| entry.address).collect()
    }

    /// The names in yandro's block.
    pub fn own_names(&self) -> Vec<HostName> {
        let own = self.entries.iter().filter(|entry| entry.ours).flat_map(|entry| self.names_of(entry));
        own.filter_map(|name| HostName::parse(std::str::from_utf8(name).ok()?).ok()).collect()
    }

    /// The names of an entry as they stand in the file.
    pub fn names_of<'s>(&'s self, entry: &'s Entry) -> impl Iterator<Item = &'a [u8]> + 's {
        entry.names.iter().map(|span| &self.bytes[span.clone()])
    }
}

/// Blanks are space, tab, CR, VT and FF; `#` begins a comment anywhere; a NUL ends the line.
fn read_line(bytes: &[u8], line: &Line, number: usize) -> Option<Entry> {
    // glibc takes the line up to the `\n` alone: a CR is a blank like any other.
    let text = &bytes[line.full.clone()];
    let length = text.iter().position(|&b| matches!(b, b'#' | b'\n' | 0)).unwrap_or(text.len());
    let mut words = Vec::new();
    let mut at = 0;
    while at < length {
        let is_blank = |b: &u8| matches!(b, b' ' | b'\t' | b'\r' | 0x0b | 0x0c);
        let start = at + text[at..length].iter().take_while(|b| is_blank(b)).count();
        let end = start + text[start..length].iter().take_while(|b| !is_blank(b)).count();
        if end > start {
            words.push(line.full.start + start..line.full.start + end);
        }
        at = end.max(start + 1);
    }
    let (address, names) = words.split_first()?;
    // std reads just what inet_pton does: no zone, no short or padded form.
    let address: IpAddr = std::str::from_utf8(&bytes[address.clone()]).ok()?.parse().ok()?;
    Some(Entry { line: number, address, names: names.to_vec(), full: line.full.clone(), ours: false })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lookup(text: &str, name: &str) -> Vec<String> {
        HostsFile::parse(text.as_bytes())
            .lookup(&HostName::parse(name).unwrap())
            .iter()
            .map(ToString::to_string)
            .collect()
    }

    #[test]
    fn lines_are_read_as_the_resolver_reads_them() {
        for (text, addresses) in [
            ("127.0.0.1 a.test", &["127.0.0.1"][..]),
            ("127.0.0.1\tx\x0bA.TEST#note", &["127.0.0.1"]),
            ("127.0.0.1 x # a.test", &[]),
            ("127.0.0.1 ; a.test", &["127.0.0.1"]),
            ("127.1 a.test\n0x7f.0.0.1 a.test\n127.0.0.01 a.test\n[::1] a.test\nfe80::1%lo a.test", &[]),
            ("::1 a.test\r\n10.0.0.5 a.test\r\n::1 a.test\r\n", &["::1", "10.0.0.5", "::1"]),
            ("127.0.0.1 x\r10.0.0.5 a.test", &["127.0.0.1"]),
            ("127.0.0.1 x\0 a.test", &[]),
            ("\u{feff}127.0.0.1 a.test\n127.0.0.2 a.test", &["127.0.0.2"]),
            ("127.0.0.1\u{a0}a.test", &[]),
            ("127.0.0.1 a.test.", &[]),
        ] {
            assert_eq!(lookup(text, "a.test"), addresses, "{text:?}");
        }
    }
}
