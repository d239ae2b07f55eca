//! Yandro's block: one line for each address of a site, in the order of the site list.

use core::net::IpAddr;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

use super::error::{EditError, TakeOver};
use super::parse::{BLOCK_TAIL, Block, HostsEntry, HostsFile, block_head};
use super::takeover;
use crate::name::HostName;
use crate::site::ListId;
use crate::source::{self, Splice};

/// The wanted lines of yandro's block for one site: one for each address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mapping {
    /// Target of the names: one address, or one of each family with the more important one first.
    pub addresses: Vec<IpAddr>,
    /// The site's name, then its aliases.
    pub names: Vec<HostName>,
}

/// Refuses what no edit could fix.
pub(crate) fn check_encoding(bytes: &[u8]) -> Result<(), EditError> {
    if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") { Err(EditError::Utf16) } else { Ok(()) }
}

/// The file with a line in the block of `list` for each address of `mapping`: changed, moved or
/// added as needed. Names that the person's own lines already point to the same
/// address are not written again; `former` names of the site are taken out. Borrowed when
/// nothing has to be changed.
///
/// # Errors
/// [`EditError::Conflict`] when a line outside the block points one of the names
/// to another address of the same family, and is not to be taken over;
/// [`EditError::OtherList`] when one of them is in another list's block.
pub fn point<'a>(
    bytes: &'a [u8],
    list: &ListId,
    mapping: &Mapping,
    former: &[HostName],
    take_over: TakeOver,
) -> Result<Cow<'a, [u8]>, EditError> {
    check_encoding(bytes)?;
    let file = HostsFile::parse(bytes);
    let Standing { mut own, said, against } = Standing::of(&file, list, mapping, former)?;
    if !against.is_empty() {
        let free = takeover::take(&file, &mapping.names, against, take_over)?;
        return point(&free, list, mapping, former, TakeOver::No).map(|pointed| Cow::Owned(pointed.into_owned()));
    }
    // The lines of two names come in any order, and one line may have both.
    own.sort_by_key(|range| range.start);
    own.dedup();
    let eol = source::line_end(bytes);
    let mut lines = String::new();
    for address in &mapping.addresses {
        // A name that the user has pointed to the site's address by hand may stay so.
        let is_said =
            |name: &&HostName| [mapping.addresses[0], *address].iter().any(|own| said.contains(&(*name, *own)));
        let missing: Vec<&str> = mapping.names.iter().filter(|name| !is_said(name)).map(HostName::as_str).collect();
        if !missing.is_empty() {
            lines += &format!("{address}\t{}{eol}", missing.join(" "));
        }
    }
    // Lines of ours that say just this are all there should be.
    let block = file.block_of(list);
    let is_in_block = |range: &std::ops::Range<usize>| {
        block.is_some_and(|block| (block.head.end..block.tail.start).contains(&range.start))
    };
    if own.iter().all(is_in_block) && own.iter().flat_map(|range| &bytes[range.clone()]).eq(lines.as_bytes()) {
        return Ok(Cow::Borrowed(bytes));
    }
    let names = [&mapping.names, former].concat();
    // Lines that an earlier build wrote move into the block of their list.
    let rest = without_unowned(&file, &names);
    let file = HostsFile::parse(&rest);
    Ok(match file.block_of(list) {
        Some(block) => Cow::Owned(replace_lines(&file, block, &names, &lines).into_owned()),
        None if lines.is_empty() => match rest {
            Cow::Borrowed(_) => Cow::Borrowed(bytes),
            Cow::Owned(rest) => Cow::Owned(rest),
        },
        None => Cow::Owned(append_block(&rest, list, &lines, eol)),
    })
}

/// The present entries of a site's names.
#[derive(Default)]
struct Standing<'m> {
    /// The lines of this list's block.
    own: Vec<std::ops::Range<usize>>,
    /// The entries that the user's own lines have as well.
    said: HashSet<(&'m HostName, IpAddr)>,
    /// The person's own lines that say something else, each with the name and where it should point to.
    against: Vec<(HostsEntry, &'m HostName, IpAddr)>,
}

impl<'m> Standing<'m> {
    fn of(
        file: &HostsFile<'_>,
        list: &ListId,
        mapping: &'m Mapping,
        former: &'m [HostName],
    ) -> Result<Self, EditError> {
        let mut standing = Self::default();
        let gone = former.iter().filter(|name| !mapping.names.contains(name));
        for name in mapping.names.iter().chain(gone) {
            let is_wanted = mapping.names.contains(name);
            for entry in file.entries_of(name) {
                let other = file.list_of(&entry).filter(|other| *other != list);
                match other {
                    Some(other) if entry.ours && is_wanted => {
                        return Err(EditError::OtherList { line: entry.line, name: name.clone(), list: other.clone() });
                    }
                    Some(_) if entry.ours => {}
                    None if entry.ours => standing.own.push(entry.full),
                    _ if !is_wanted => {}
                    _ if mapping.addresses.contains(&entry.address) => {
                        standing.said.insert((name, entry.address));
                    }
                    _ => {
                        let wanted = contradicted(entry.address, &mapping.addresses);
                        standing.against.extend(wanted.map(|wanted| (entry, name, wanted)));
                    }
                }
            }
        }
        Ok(standing)
    }
}

/// The file with the block of an earlier build as the block of `list`, if all its names are names of
/// that list's sites and the list has no block.
pub(crate) fn adopted<'a, 'n>(
    bytes: &'a [u8],
    list: &ListId,
    names: impl FnOnce() -> Vec<&'n HostName>,
) -> Cow<'a, [u8]> {
    let file = HostsFile::parse(bytes);
    let Some(block) = file.blocks().iter().find(|block| block.list.is_none()) else { return Cow::Borrowed(bytes) };
    let known: HashSet<&str> = names().into_iter().map(HostName::as_str).collect();
    let is_its = file.unowned_names().iter().all(|name| known.contains(name.as_str()));
    if !is_its || file.block_of(list).is_some() || check_encoding(bytes).is_err() {
        return Cow::Borrowed(bytes);
    }
    let line = &bytes[block.head.clone()];
    let end = line.len() - line.iter().rev().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
    let head = block.head.start..block.head.start + end;
    Cow::Owned(source::apply(bytes, &[Splice::replace(head, block_head(list))]))
}

/// The file without lines for these names in a block that names no list.
fn without_unowned<'a>(file: &HostsFile<'a>, names: &[HostName]) -> Cow<'a, [u8]> {
    match file.blocks().iter().find(|block| block.list.is_none()) {
        Some(block) => replace_lines(file, block, names, ""),
        None => Cow::Borrowed(file.bytes()),
    }
}

/// The wanted address that a line's address contradicts: the one of its family, or, since a
/// client may choose either family, one on another machine.
pub(crate) fn contradicted(said: IpAddr, wanted: &[IpAddr]) -> Option<IpAddr> {
    if wanted.contains(&said) {
        return None;
    }
    let of_family = wanted.iter().find(|address| address.is_ipv4() == said.is_ipv4());
    let elsewhere = || wanted.iter().find(|address| !(address.is_loopback() && said.is_loopback()));
    of_family.or_else(elsewhere).copied()
}

/// The file without the lines of `list` for these names, and without those of a block that names no
/// list; with the last of them a block goes, too. The person's own lines that had been taken over for
/// them are theirs again. Names in another list's block stay as they are.
pub fn drop_names<'a>(bytes: &'a [u8], list: &ListId, names: &[HostName]) -> Cow<'a, [u8]> {
    let file = HostsFile::parse(bytes);
    let is_others = |name: &HostName| {
        file.entries_of(name).iter().any(|entry| file.list_of(entry).is_some_and(|other| other != list))
    };
    let names: Vec<HostName> = names.iter().filter(|name| !is_others(name)).cloned().collect();
    let unowned = without_unowned(&file, &names);
    let rest = match HostsFile::parse(&unowned) {
        file if file.block_of(list).is_some() => {
            let block = file.block_of(list).cloned();
            block.map(|block| replace_lines(&file, &block, &names, "").into_owned())
        }
        _ => None,
    };
    let rest = rest.map_or(unowned, Cow::Owned);
    match takeover::give_back(&rest, &names) {
        Some(back) => Cow::Owned(back),
        None if *rest == *bytes => Cow::Borrowed(bytes),
        None => Cow::Owned(rest.into_owned()),
    }
}

/// The file with the lines in the block of `list` in the order of `names`, the site list's. Any
/// other text in the block keeps its place.
pub(crate) fn sorted<'a>(bytes: &'a [u8], list: &ListId, names: &[&HostName]) -> Cow<'a, [u8]> {
    let file = HostsFile::parse(bytes);
    let Some(block) = file.block_of(list) else { return Cow::Borrowed(bytes) };
    let ranks: HashMap<&[u8], usize> =
        names.iter().enumerate().map(|(rank, name)| (name.as_str().as_bytes(), rank)).collect();
    // A line without its first name is sorted by the next one.
    let rank =
        |entry: &HostsEntry| file.names_of(entry).find_map(|name| ranks.get(name.to_ascii_lowercase().as_slice()));
    let mut ranked: Vec<(usize, HostsEntry)> =
        file.entries_of_block(block).filter_map(|entry| Some((*rank(&entry)?, entry))).collect();
    if ranked.is_sorted_by_key(|(rank, _)| *rank) {
        return Cow::Borrowed(bytes);
    }
    let places: Vec<_> = ranked.iter().map(|(_, entry)| entry.full.clone()).collect();
    ranked.sort_by_key(|(rank, _)| *rank);
    let moved =
        places.into_iter().zip(&ranked).map(|(place, (_, entry))| Splice::replace(place, &bytes[entry.full.clone()]));
    Cow::Owned(source::apply(bytes, &moved.collect::<Vec<_>>()))
}

/// Puts `lines` in the place of the first line of the block that holds one of
/// `names`, takes the others away, and adds them at the block's end if there was none.
fn replace_lines<'a>(file: &HostsFile<'a>, block: &Block, names: &[HostName], lines: &str) -> Cow<'a, [u8]> {
    let bytes = file.bytes();
    let held = &bytes[block.head.end..block.tail.start];
    if !may_name(held, names) {
        // Thousands of sites each look for their own line.
        return match lines {
            "" => Cow::Borrowed(bytes),
            lines => Cow::Owned(source::apply(bytes, &[Splice::insert(block.tail.start, lines)])),
        };
    }
    let meant: HashSet<&[u8]> = names.iter().map(|name| name.as_str().as_bytes()).collect();
    let mut splices = Vec::new();
    let mut pending = Some(lines).filter(|lines| !lines.is_empty());
    for entry in file.entries_of_block(block) {
        if file.names_of(&entry).any(|name| meant.contains(name.to_ascii_lowercase().as_slice())) {
            let new = pending.take().unwrap_or_default();
            if bytes[entry.full.clone()] != *new.as_bytes() {
                splices.push(Splice::replace(entry.full.clone(), new));
            }
        }
    }
    if let Some(lines) = pending {
        splices.push(Splice::insert(block.tail.start, lines));
    }
    if splices.is_empty() {
        return Cow::Borrowed(bytes);
    }
    Cow::Owned(without_empty_block(source::apply(bytes, &splices), block.list.as_ref()))
}

/// Whether one of the names may be in these lines; `false` is certain.
fn may_name(lines: &[u8], names: &[HostName]) -> bool {
    let is_in = |name: &HostName| memchr::memmem::find(lines, name.as_str().as_bytes()).is_some();
    lines.iter().any(u8::is_ascii_uppercase) || names.iter().any(is_in)
}

pub(super) fn append_block(bytes: &[u8], list: &ListId, lines: &str, eol: &str) -> Vec<u8> {
    let head = block_head(list) + eol;
    // A file without a final line end stays one: so taking the block out again
    // gives back the very bytes.
    let (before, after) = if bytes.is_empty() || bytes.ends_with(b"\n") { ("", eol) } else { (eol, "") };
    [bytes, before.as_bytes(), head.as_bytes(), lines.as_bytes(), BLOCK_TAIL.as_bytes(), after.as_bytes()].concat()
}

/// Takes the block of a list away when nothing is left in it. A block that holds only
/// something of the person's own stays.
pub(super) fn without_empty_block(bytes: Vec<u8>, list: Option<&ListId>) -> Vec<u8> {
    let file = HostsFile::parse(&bytes);
    let Some(block) = file.blocks().iter().find(|block| block.list.as_ref() == list) else { return bytes };
    if !bytes[block.head.end..block.tail.start].iter().all(u8::is_ascii_whitespace) {
        return bytes;
    }
    let mut gone = block.head.start..block.tail.end;
    if !bytes[block.tail.clone()].ends_with(b"\n") {
        // The line end that `append_block` put before the block is the one that it gave
        // the block's own lines: a lone CR before it is the person's.
        let eol: &[u8] = if bytes[block.head.clone()].ends_with(b"\r\n") { b"\r\n" } else { b"\n" };
        if bytes[..gone.start].ends_with(eol) {
            gone.start -= eol.len();
        }
    }
    source::apply(&bytes, &[Splice::remove(gone)])
}
