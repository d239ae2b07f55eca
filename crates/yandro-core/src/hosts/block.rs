//! Yandro's block: one line for each address of a site, in the order of the site list.

use core::net::IpAddr;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

use super::parse::{BLOCK_HEAD, BLOCK_TAIL, Entry, HostsFile};
use super::takeover;
use crate::name::HostName;
use crate::source::{self, Splice};

/// What yandro's block is to hold for one site: a line for each address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mapping {
    /// Where the names point to: one address, or one of each family with the more important one first.
    pub addresses: Vec<IpAddr>,
    /// The site's name, then its aliases.
    pub names: Vec<HostName>,
}

/// A line of the person's own that says something else about a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conflict {
    /// The line's number, from 1.
    pub line: usize,
    /// The line as it stands there.
    pub text: String,
    /// The name.
    pub name: HostName,
    /// Where that line points it to.
    pub address: IpAddr,
    /// Where it should point to.
    pub wanted: IpAddr,
    /// Why the line can't be taken over, if it can't.
    pub fixed: Option<&'static str>,
}

/// Whether lines of the person's own that say something else are commented out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum TakeOver {
    /// They are in the way.
    #[default]
    No,
    /// They are, until the site is taken away.
    Yes,
}

/// Why a hosts file was not edited.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The person's own lines point names elsewhere.
    #[error(
        "`{}` points to {} here already, not to {}{}\n  {}",
        .0.name, .0.address, .0.wanted,
        .0.fixed.map(|why| format!("; the line can't be taken over, since {why}")).unwrap_or_default(), .0.text
    )]
    Conflict(Box<Conflict>),
    /// A line that yandro leaves alone, whatever is asked.
    #[error("the line names `localhost` beside `{name}`, and yandro doesn't touch it: take the name out of it by hand")]
    Localhost {
        /// The line's number, from 1.
        line: usize,
        /// The name.
        name: HostName,
    },
    /// The file is UTF-16, of which the resolver reads no line.
    #[error("the file is encoded as UTF-16, of which the resolver reads no line: save it as plain ASCII text")]
    Utf16,
}

impl EditError {
    /// The line that is in the way, from 1, if it is one.
    pub fn line(&self) -> Option<usize> {
        match self {
            Self::Conflict(conflict) => Some(conflict.line),
            Self::Localhost { line, .. } => Some(*line),
            Self::Utf16 => None,
        }
    }

    /// The message with the file and the line before it.
    pub fn at(&self, path: &camino::Utf8Path) -> String {
        match self.line() {
            Some(line) => format!("{path}:{line}: {self}"),
            None => format!("{path}: {self}"),
        }
    }
}

/// Refuses what no edit could mend.
pub(super) fn check_encoding(bytes: &[u8]) -> Result<(), EditError> {
    if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") { Err(EditError::Utf16) } else { Ok(()) }
}

/// The file with a line in yandro's block for each address of `mapping`: changed, moved or
/// added as needed. Names that the person's own lines already point to the same
/// address are not written again; `former` names of the site are taken out. Borrowed when
/// nothing has to be changed.
///
/// # Errors
/// [`EditError::Conflict`] when a line outside the block points one of the names
/// to another address of the same family, and is not to be taken over.
pub fn point<'a>(
    bytes: &'a [u8],
    mapping: &Mapping,
    former: &[HostName],
    take_over: TakeOver,
) -> Result<Cow<'a, [u8]>, EditError> {
    check_encoding(bytes)?;
    let file = HostsFile::parse(bytes);
    let mut own = Vec::new();
    let mut said: HashSet<(&HostName, IpAddr)> = HashSet::new();
    let mut against: Vec<(Entry, &HostName, IpAddr)> = Vec::new();
    let gone = former.iter().filter(|name| !mapping.names.contains(name));
    for name in mapping.names.iter().chain(gone) {
        let (ours, theirs): (Vec<Entry>, Vec<Entry>) = file.entries_of(name).into_iter().partition(|entry| entry.ours);
        own.extend(ours.into_iter().map(|entry| entry.full));
        for entry in theirs.into_iter().filter(|_| mapping.names.contains(name)) {
            if mapping.addresses.contains(&entry.address) {
                said.insert((name, entry.address));
            } else if let Some(wanted) = contradicted(entry.address, &mapping.addresses) {
                against.push((entry, name, wanted));
            }
        }
    }
    if !against.is_empty() {
        let free = takeover::take(&file, &mapping.names, against, take_over)?;
        return point(&free, mapping, former, TakeOver::No).map(|pointed| Cow::Owned(pointed.into_owned()));
    }
    // The lines of two names stand in any order, and one line may have both.
    own.sort_by_key(|range| range.start);
    own.dedup();
    let eol = source::line_end(bytes);
    let mut lines = String::new();
    for address in &mapping.addresses {
        // Who pointed a name to the site's address by hand may leave it at that.
        let is_said =
            |name: &&HostName| [mapping.addresses[0], *address].iter().any(|own| said.contains(&(*name, *own)));
        let missing: Vec<&str> = mapping.names.iter().filter(|name| !is_said(name)).map(HostName::as_str).collect();
        if !missing.is_empty() {
            lines += &format!("{address}\t{}{eol}", missing.join(" "));
        }
    }
    // Lines of ours that say just this are all there should be.
    if own.iter().flat_map(|range| &bytes[range.clone()]).eq(lines.as_bytes()) {
        return Ok(Cow::Borrowed(bytes));
    }
    Ok(match file.block() {
        Some(_) => replace_lines(&file, &[&mapping.names, former].concat(), &lines),
        None if lines.is_empty() => Cow::Borrowed(bytes),
        None => Cow::Owned(append_block(bytes, &lines, eol)),
    })
}

/// The wanted address that a line's address contradicts: the one of its family, or, since a
/// client may choose either family, one on another machine.
pub fn contradicted(said: IpAddr, wanted: &[IpAddr]) -> Option<IpAddr> {
    if wanted.contains(&said) {
        return None;
    }
    let of_family = wanted.iter().find(|address| address.is_ipv4() == said.is_ipv4());
    let elsewhere = || wanted.iter().find(|address| !(address.is_loopback() && said.is_loopback()));
    of_family.or_else(elsewhere).copied()
}

/// The file without yandro's lines for these names; with the last of them the block goes,
/// too. The person's own lines that had been taken over for them are theirs again.
pub fn drop_names<'a>(bytes: &'a [u8], names: &[HostName]) -> Cow<'a, [u8]> {
    let rest = replace_lines(&HostsFile::parse(bytes), names, "");
    match takeover::give_back(&rest, names) {
        Some(back) => Cow::Owned(back),
        None => rest,
    }
}

/// The file with the lines of yandro's block in the order of `names`, the site list's. What
/// else stands in the block keeps its place.
pub fn sorted<'a>(bytes: &'a [u8], names: &[&HostName]) -> Cow<'a, [u8]> {
    let file = HostsFile::parse(bytes);
    let ranks: HashMap<&[u8], usize> =
        names.iter().enumerate().map(|(rank, name)| (name.as_str().as_bytes(), rank)).collect();
    // A line whose first name was said elsewhere goes by the next one.
    let rank = |entry: &Entry| file.names_of(entry).find_map(|name| ranks.get(name.to_ascii_lowercase().as_slice()));
    let mut ranked: Vec<(usize, Entry)> =
        file.own_entries().filter_map(|entry| Some((*rank(&entry)?, entry))).collect();
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
fn replace_lines<'a>(file: &HostsFile<'a>, names: &[HostName], lines: &str) -> Cow<'a, [u8]> {
    let bytes = file.bytes();
    let Some(block) = file.block() else { return Cow::Borrowed(bytes) };
    let meant: HashSet<&[u8]> = names.iter().map(|name| name.as_str().as_bytes()).collect();
    let mut splices = Vec::new();
    let mut pending = Some(lines).filter(|lines| !lines.is_empty());
    for entry in file.own_entries() {
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
    Cow::Owned(without_empty_block(source::apply(bytes, &splices)))
}

fn append_block(bytes: &[u8], lines: &str, eol: &str) -> Vec<u8> {
    let head = format!("{BLOCK_HEAD}: these lines follow the site list, see `yandro sites`{eol}");
    // A file without a final line end stays one: so taking the block out again
    // gives back the very bytes.
    let (before, after) = if bytes.is_empty() || bytes.ends_with(b"\n") { ("", eol) } else { (eol, "") };
    [bytes, before.as_bytes(), head.as_bytes(), lines.as_bytes(), BLOCK_TAIL.as_bytes(), after.as_bytes()].concat()
}

/// Takes yandro's block away when nothing is left in it. A block that holds only
/// something of the person's own stays.
fn without_empty_block(bytes: Vec<u8>) -> Vec<u8> {
    let file = HostsFile::parse(&bytes);
    let Some(block) = file.block() else { return bytes };
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
