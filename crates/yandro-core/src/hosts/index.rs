//! A hosts file by its names, for questions about thousands of them.

use std::collections::HashMap;
use std::ops::Range;

use super::block::Mapping;
use super::parse::HostsFile;
use crate::name::HostName;
use crate::site::ListId;
use crate::source;

/// The lines of each name, and whether they are in the block of one list.
#[derive(Debug)]
pub(crate) struct HostsIndex {
    by_name: HashMap<Vec<u8>, Vec<Line>>,
    /// Whether an earlier build wrote a block that names no list.
    has_unowned: bool,
    eol: &'static str,
}

#[derive(Clone, Debug)]
struct Line {
    full: Range<usize>,
    is_own: bool,
}

impl HostsIndex {
    /// Reads every line once.
    pub(crate) fn of(bytes: &[u8], list: &ListId) -> Self {
        let file = HostsFile::parse(bytes);
        let mut by_name: HashMap<Vec<u8>, Vec<Line>> = HashMap::new();
        for entry in file.entries() {
            let is_own = entry.ours && file.list_of(&entry) == Some(list);
            for name in file.names_of(&entry) {
                let lines = by_name.entry(name.to_ascii_lowercase()).or_default();
                lines.push(Line { full: entry.full.clone(), is_own });
            }
        }
        let has_unowned = file.blocks().iter().any(|block| block.list.is_none());
        Self { by_name, has_unowned, eol: source::line_end(bytes) }
    }

    fn lines(&self, name: &HostName) -> &[Line] {
        self.by_name.get(name.as_str().as_bytes()).map_or(&[], Vec::as_slice)
    }

    /// Whether the list's block has a name.
    pub(crate) fn is_own(&self, name: &HostName) -> bool {
        self.lines(name).iter().any(|line| line.is_own)
    }

    /// Whether none of the names is in the file, and no block of an earlier build either.
    pub(crate) fn has_none<'n>(&self, mut names: impl Iterator<Item = &'n HostName>) -> bool {
        !self.has_unowned && names.all(|name| self.lines(name).is_empty())
    }

    /// Whether the list's block says of a site's names what it is to say, and nobody else says anything of them: then
    /// [`point`](super::point) changes nothing. `bytes` are those that were read.
    pub(crate) fn says(&self, bytes: &[u8], mapping: &Mapping, former: &[HostName]) -> bool {
        let all = || mapping.names.iter().chain(former).flat_map(|name| self.lines(name));
        if self.has_unowned || all().any(|line| !line.is_own) {
            return false;
        }
        let mut own: Vec<&Range<usize>> = all().map(|line| &line.full).collect();
        own.sort_by_key(|range| range.start);
        own.dedup();
        let wanted = wanted_lines(mapping, self.eol);
        own.into_iter().flat_map(|range| &bytes[range.clone()]).eq(wanted.as_bytes())
    }
}

/// The lines of a site, one for each address.
fn wanted_lines(mapping: &Mapping, eol: &str) -> String {
    if mapping.names.is_empty() {
        return String::new();
    }
    let names = mapping.names.iter().map(HostName::as_str).collect::<Vec<_>>().join(" ");
    mapping.addresses.iter().map(|address| format!("{address}\t{names}{eol}")).collect()
}

/// The file with the lines of many sites at the end of the list's block. None of their names is
/// [in the file](HostsIndex::has_none).
pub(crate) fn with_new(bytes: &[u8], list: &ListId, mappings: &[Mapping]) -> Vec<u8> {
    let eol = source::line_end(bytes);
    let lines: String = mappings.iter().map(|mapping| wanted_lines(mapping, eol)).collect();
    match HostsFile::parse(bytes).block_of(list) {
        _ if lines.is_empty() => bytes.to_vec(),
        Some(block) => source::apply(bytes, &[source::Splice::insert(block.tail.start, lines)]),
        None => super::block::append_block(bytes, list, &lines, eol),
    }
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use camino::Utf8Path;
    use proptest::prelude::*;

    use super::*;
    use crate::hosts::{TakeOver, point};

    fn mapping(number: usize, is_both: bool) -> Mapping {
        let addresses = ["127.0.0.1", "::1"].map(|address| address.parse().unwrap());
        let names = [format!("s{number}.test"), format!("www.s{number}.test")];
        Mapping {
            addresses: addresses[..if is_both { 2 } else { 1 }].to_vec(),
            names: names.iter().map(|name| HostName::parse(name).unwrap()).collect(),
        }
    }

    proptest! {
        /// Many new sites at once are what they are one after the other, and what is there is known to be.
        #[test]
        fn many_at_once_are_as_one_after_the_other(
            before in "(127.0.0.1 localhost(\n|\r\n)){0,2}(10.0.0.1 other.test # mine\n?)?",
            there in prop::collection::vec((0..6_usize, any::<bool>()), 0..4),
            new in prop::collection::btree_set(10..20_usize, 0..6),
        ) {
            let list = ListId::new("ada", Utf8Path::new("/home/ada/sites.toml"));
            let mut text = before.into_bytes();
            for (number, is_both) in &there {
                text = point(&text, &list, &mapping(*number, *is_both), &[], TakeOver::No).unwrap().into_owned();
            }
            let new: Vec<Mapping> = new.into_iter().map(|number| mapping(number, number % 2 == 0)).collect();
            let mut one_by_one = text.clone();
            for own in &new {
                one_by_one = point(&one_by_one, &list, own, &[], TakeOver::No).unwrap().into_owned();
            }
            prop_assert_eq!(with_new(&text, &list, &new), one_by_one.clone());
            let index = HostsIndex::of(&one_by_one, &list);
            for number in 0..20 {
                for is_both in [false, true] {
                    let own = mapping(number, is_both);
                    let is_same = matches!(point(&one_by_one, &list, &own, &[], TakeOver::No).unwrap(), Cow::Borrowed(_));
                    prop_assert_eq!(index.says(&one_by_one, &own, &[]), is_same, "{:?}", own);
                    let is_there = there.iter().any(|(own, _)| *own == number) || new.contains(&own) || new.contains(&mapping(number, !is_both));
                    prop_assert_eq!(index.has_none(own.names.iter()), !is_there);
                }
            }
        }
    }
}
