//! Lines and entries.

use core::net::IpAddr;
use std::borrow::Cow;
use std::ops::Range;

use crate::name::HostName;
use crate::site::ListId;
use crate::source;

/// First words of the comment that opens a block of yandro's.
pub(super) const BLOCK_HEAD: &str = "# yandro sites";
/// Precedes the site list. Earlier builds wrote a colon here and no list.
const OF: &str = " of ";
/// Ends the name of the list.
const HEAD_END: &str = ": change them with yandro";
/// The comment that closes it.
pub(super) const BLOCK_TAIL: &str = "# end of yandro sites";

/// A hosts file over its original bytes. Lines are read when they are asked for: files of
/// several megabytes are common, and most questions are about a name or two.
#[derive(Clone, Debug)]
pub struct HostsFile<'a> {
    bytes: &'a [u8],
    /// The bytes in lower case, if they are not so anyway.
    folded: std::cell::OnceCell<Cow<'a, [u8]>>,
    blocks: Vec<Block>,
}

/// A line that the resolver reads: an address and its names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostsEntry {
    /// Line number, from 1.
    pub line: usize,
    /// IPv4 or IPv6, as the line begins.
    pub address: IpAddr,
    /// Spans of the names; the first is the canonical one.
    pub names: Vec<Range<usize>>,
    /// The whole line with its end.
    pub(super) full: Range<usize>,
    /// Whether the line is in a block of yandro's.
    pub ours: bool,
}

/// The line that opens the block of a list.
pub(super) fn block_head(list: &ListId) -> String {
    format!("{BLOCK_HEAD}{OF}{}{HEAD_END}", list.mark())
}

/// A block of yandro's: the comments that open and close it and all between.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Block {
    /// The list that it belongs to; `None` for one that an earlier build wrote.
    pub(super) list: Option<ListId>,
    pub(super) head: Range<usize>,
    pub(super) tail: Range<usize>,
}

impl<'a> HostsFile<'a> {
    /// Reads any bytes. Text that the resolver ignores stays in the file, but is not an entry.
    pub fn parse(bytes: &'a [u8]) -> Self {
        Self { bytes, folded: std::cell::OnceCell::new(), blocks: find_blocks(bytes) }
    }

    /// The bytes that were parsed.
    pub fn bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// All lines that the resolver reads, in order.
    pub fn entries(&self) -> impl Iterator<Item = HostsEntry> + '_ {
        self.entries_in(0..self.bytes.len(), 1)
    }

    /// The lines of a block that the resolver reads.
    pub(super) fn entries_of_block(&self, block: &Block) -> impl Iterator<Item = HostsEntry> + '_ {
        let within = block.head.end..block.tail.start;
        let first = self.line_number(within.start);
        self.entries_in(within, first)
    }

    fn entries_in(&self, range: Range<usize>, first: usize) -> impl Iterator<Item = HostsEntry> + '_ {
        let start = range.start;
        let lines = source::lines(&self.bytes[range]).enumerate();
        lines.filter_map(move |(number, line)| {
            self.entry(start + line.full.start..start + line.full.end, first + number)
        })
    }

    fn entry(&self, full: Range<usize>, number: usize) -> Option<HostsEntry> {
        let ours = self.block_at(full.start).is_some();
        read_line(self.bytes, full, number).map(|entry| HostsEntry { ours, ..entry })
    }

    /// The number of the line that begins at `offset`.
    fn line_number(&self, offset: usize) -> usize {
        memchr::memchr_iter(b'\n', &self.bytes[..offset]).count() + 1
    }

    /// Every line, its number from 1 and its bytes with their end.
    pub(super) fn lines(&self) -> impl Iterator<Item = (usize, Range<usize>)> + '_ {
        source::lines(self.bytes).enumerate().map(|(number, line)| (number + 1, line.full))
    }

    /// The line as the resolver reads it.
    pub(super) fn read(&self, full: Range<usize>, number: usize) -> Option<HostsEntry> {
        self.entry(full, number)
    }

    pub(super) fn blocks(&self) -> &[Block] {
        &self.blocks
    }

    pub(super) fn block_of(&self, list: &ListId) -> Option<&Block> {
        self.blocks.iter().find(|block| block.list.as_ref() == Some(list))
    }

    fn block_at(&self, offset: usize) -> Option<&Block> {
        self.blocks.iter().find(|block| (block.head.end..block.tail.start).contains(&offset))
    }

    /// The list that an entry in a block belongs to; `None` for the user's own lines, and for those
    /// that an earlier build wrote.
    pub fn list_of(&self, entry: &HostsEntry) -> Option<&ListId> {
        self.block_at(entry.full.start)?.list.as_ref()
    }

    /// Every entry that answers to `name`, in the order of the file. Names compare
    /// as bytes, ASCII letters of either case alike.
    pub fn entries_of(&self, name: &HostName) -> Vec<HostsEntry> {
        self.entries_of_host(name.as_str())
    }

    /// The same of any host in lower case, such as `localhost`, which no site can have as its name.
    pub fn entries_of_host(&self, name: &str) -> Vec<HostsEntry> {
        let folded = self.folded.get_or_init(|| lower_case(self.bytes));
        let mut found: Vec<HostsEntry> = Vec::new();
        let mut at = 0;
        for hit in memchr::memmem::find_iter(folded, name) {
            if hit < at {
                continue;
            }
            let start = memchr::memrchr(b'\n', &self.bytes[..hit]).map_or(0, |i| i + 1);
            let end = memchr::memchr(b'\n', &self.bytes[hit..]).map_or(self.bytes.len(), |i| hit + i + 1);
            at = end;
            let is_it = |own: &[u8]| own.eq_ignore_ascii_case(name.as_bytes());
            if let Some(entry) = self.entry(start..end, 0)
                && self.names_of(&entry).any(is_it)
            {
                found.push(HostsEntry { line: self.line_number(start), ..entry });
            }
        }
        found
    }

    /// The names in the block of a list.
    pub fn own_names(&self, list: &ListId) -> Vec<HostName> {
        let entries = self.block_of(list).into_iter().flat_map(|block| self.entries_of_block(block));
        entries.flat_map(|entry| self.host_names(&entry)).collect()
    }

    /// The names in blocks that earlier builds wrote, which name no list.
    pub fn unowned_names(&self) -> Vec<HostName> {
        let blocks = self.blocks.iter().filter(|block| block.list.is_none());
        let entries = blocks.flat_map(|block| self.entries_of_block(block));
        entries.flat_map(|entry| self.host_names(&entry)).collect()
    }

    fn host_names(&self, entry: &HostsEntry) -> Vec<HostName> {
        let read = |name: &[u8]| HostName::parse(std::str::from_utf8(name).ok()?).ok();
        self.names_of(entry).filter_map(read).collect()
    }

    /// The names of an entry as written in the file.
    pub fn names_of<'s>(&self, entry: &'s HostsEntry) -> impl Iterator<Item = &'a [u8]> + use<'s, 'a> {
        let bytes = self.bytes;
        entry.names.iter().map(move |span| &bytes[span.clone()])
    }
}

/// The blocks that are both opened and closed, the first of each list.
fn find_blocks(bytes: &[u8]) -> Vec<Block> {
    let mut blocks: Vec<Block> = Vec::new();
    let mut head: Option<Range<usize>> = None;
    for hit in memchr::memmem::find_iter(bytes, BLOCK_HEAD.trim_start_matches("# ")) {
        let start = memchr::memrchr(b'\n', &bytes[..hit]).map_or(0, |i| i + 1);
        let end = memchr::memchr(b'\n', &bytes[hit..]).map_or(bytes.len(), |i| hit + i + 1);
        if bytes[start..].starts_with(BLOCK_HEAD.as_bytes()) {
            head = Some(start..end);
        } else if bytes[start..].starts_with(BLOCK_TAIL.as_bytes())
            && let Some(head) = head.take()
        {
            let list = list_of_head(&bytes[head.clone()]);
            if blocks.iter().all(|block| block.list != list) {
                blocks.push(Block { list, head, tail: start..end });
            }
        }
    }
    blocks
}

/// The list that the opening line of a block names.
fn list_of_head(head: &[u8]) -> Option<ListId> {
    let text = std::str::from_utf8(head).ok()?.trim_end();
    ListId::read(text.strip_prefix(BLOCK_HEAD)?.strip_prefix(OF)?.strip_suffix(HEAD_END)?)
}

fn lower_case(bytes: &[u8]) -> Cow<'_, [u8]> {
    let has_upper = |part: &[u8]| part.iter().fold(false, |found, byte| found | byte.is_ascii_uppercase());
    if bytes.chunks(4096).any(has_upper) { Cow::Owned(bytes.to_ascii_lowercase()) } else { Cow::Borrowed(bytes) }
}

/// Whether the resolver takes a byte between two words for a blank.
pub(super) fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | 0x0b | 0x0c)
}

/// The words of a line, up to its comment. Blanks are space, tab, CR, VT and FF; `#`
/// begins a comment anywhere; a NUL ends the line.
pub(super) fn words(bytes: &[u8], full: &Range<usize>) -> Vec<Range<usize>> {
    // For glibc only `\n` ends a line: a CR is a blank like any other.
    let text = &bytes[full.clone()];
    let length = text.iter().position(|&b| matches!(b, b'#' | b'\n' | 0)).unwrap_or(text.len());
    let is_blank = |b: &u8| is_blank(*b);
    let mut words = Vec::new();
    let mut at = 0;
    while at < length {
        let start = at + text[at..length].iter().take_while(|b| is_blank(b)).count();
        let end = start + text[start..length].iter().take_while(|b| !is_blank(b)).count();
        if end > start {
            words.push(full.start + start..full.start + end);
        }
        at = end.max(start + 1);
    }
    words
}

fn read_line(bytes: &[u8], full: Range<usize>, number: usize) -> Option<HostsEntry> {
    let mut names = words(bytes, &full);
    if names.is_empty() {
        return None;
    }
    let address = names.remove(0);
    // std reads just what inet_pton does: no zone, no short or padded form.
    let address: IpAddr = std::str::from_utf8(&bytes[address]).ok()?.parse().ok()?;
    Some(HostsEntry { line: number, address, names, full, ours: false })
}

#[cfg(test)]
mod tests {
    use super::super::{AddressFamily, Multi};
    use super::*;

    fn lookup(text: &str, name: &str) -> Vec<String> {
        HostsFile::parse(text.as_bytes())
            .lookup(&HostName::parse(name).unwrap(), AddressFamily::Any, Multi::On)
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
