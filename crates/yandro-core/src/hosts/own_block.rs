//! The block of one list as typed lines: for those who write it on somebody else's word.

use core::net::IpAddr;

use serde::{Deserialize, Serialize};
use similar::{Algorithm, DiffOp, capture_diff_slices};

use super::block::{append_block, check_encoding, without_empty_block};
use super::parse::{HostsEntry, HostsFile};
use crate::name::HostName;
use crate::site::ListId;
use crate::source::{self, Splice};

/// A line of a list's block: an address and its names.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwnLine {
    /// The address that the names point to.
    pub address: IpAddr,
    /// The names, at least one, in their ASCII form.
    pub names: Vec<String>,
}

/// Why a block can't hold these lines. Nothing was changed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum OwnBlockError {
    /// Not a host name, or a line without one.
    #[error("`{0}` is not a host name")]
    Name(String),
    /// A line outside the block has the name.
    #[error("line {line} of the hosts file, outside your own block, already has `{name}`")]
    Taken {
        /// The line, from 1.
        line: usize,
        /// The name.
        name: String,
    },
    /// The file is not in a form that lines can be added to.
    #[error("the hosts file has an encoding that the system does not read")]
    Encoding,
}

/// The lines in the block of `list`, in their order.
pub fn own_lines(bytes: &[u8], list: &ListId) -> Vec<OwnLine> {
    let file = HostsFile::parse(bytes);
    entries(&file, list).iter().map(|entry| line(&file, entry)).collect()
}

/// The file with just these lines in the block of `list`. Lines that are there already stay as they are, and so do
/// comments between them; everything outside the block stays in any case. A block without lines goes.
///
/// # Errors
/// An [`OwnBlockError`] for what is not a name, and for a name that a line outside the block points to another address.
pub fn with_own_lines(bytes: &[u8], list: &ListId, lines: &[OwnLine]) -> Result<Vec<u8>, OwnBlockError> {
    check_encoding(bytes).map_err(|_| OwnBlockError::Encoding)?;
    let file = HostsFile::parse(bytes);
    for line in lines {
        check(&file, list, line)?;
    }
    let eol = source::line_end(bytes);
    let text = |lines: &[OwnLine]| -> String {
        lines.iter().map(|line| format!("{}\t{}{eol}", line.address, line.names.join(" "))).collect()
    };
    let Some(block) = file.block_of(list) else {
        return Ok(if lines.is_empty() { bytes.to_vec() } else { append_block(bytes, list, &text(lines), eol) });
    };
    let entries = entries(&file, list);
    let present: Vec<OwnLine> = entries.iter().map(|entry| self::line(&file, entry)).collect();
    let mut splices = Vec::new();
    for op in capture_diff_slices(Algorithm::Myers, &present, lines) {
        let (_, old, new) = op.as_tag_tuple();
        if let DiffOp::Equal { .. } = op {
            continue;
        }
        splices.extend(entries[old.clone()].iter().map(|entry| Splice::remove(entry.full.clone())));
        if !new.is_empty() {
            let at = entries.get(old.start).map_or(block.tail.start, |entry| entry.full.start);
            splices.push(Splice::insert(at, text(&lines[new])));
        }
    }
    // Insert before removing: both can be at the same offset.
    splices.sort_by_key(|splice| splice.range.start);
    Ok(without_empty_block(source::apply(bytes, &splices), Some(list)))
}

fn check(file: &HostsFile<'_>, list: &ListId, line: &OwnLine) -> Result<(), OwnBlockError> {
    if line.names.is_empty() {
        return Err(OwnBlockError::Name(String::new()));
    }
    for text in &line.names {
        let name = HostName::parse(text).ok().filter(|name| name.as_str() == text);
        let name = name.ok_or_else(|| OwnBlockError::Name(text.clone()))?;
        let is_foreign = |entry: &&HostsEntry| entry.address != line.address && file.list_of(entry) != Some(list);
        if let Some(entry) = file.entries_of(&name).iter().find(is_foreign) {
            return Err(OwnBlockError::Taken { line: entry.line, name: text.clone() });
        }
    }
    Ok(())
}

fn entries(file: &HostsFile<'_>, list: &ListId) -> Vec<HostsEntry> {
    file.block_of(list).map(|block| file.entries_of_block(block).collect()).unwrap_or_default()
}

fn line(file: &HostsFile<'_>, entry: &HostsEntry) -> OwnLine {
    let names = file.names_of(entry).map(|name| String::from_utf8_lossy(name).to_ascii_lowercase());
    OwnLine { address: entry.address, names: names.collect() }
}

#[cfg(test)]
mod tests {
    use camino::Utf8Path;
    use proptest::prelude::*;

    use super::*;

    fn list() -> ListId {
        ListId::new("ada", Utf8Path::new("/home/ada/sites.toml"))
    }

    fn lines() -> impl Strategy<Value = Vec<OwnLine>> {
        let address = prop_oneof![Just("127.0.0.1"), Just("::1"), Just("10.0.0.9")];
        let line = (address, prop::collection::vec("[a-c]{1,2}", 1..3)).prop_map(|(address, names)| OwnLine {
            address: address.parse().unwrap(),
            names: names.iter().map(|name| format!("{name}.test")).collect(),
        });
        prop::collection::vec(line, 0..6)
    }

    proptest! {
        #[test]
        fn nothing_outside_the_block_changes(first in lines(), second in lines(), end in "(\r?\n)?", other in "[ -~]{0,20}") {
            let mine = format!("127.0.0.1 localhost\n# {other}{end}");
            let one = with_own_lines(mine.as_bytes(), &list(), &first).unwrap();
            prop_assert_eq!(own_lines(&one, &list()), first);
            let two = with_own_lines(&one, &list(), &second).unwrap();
            prop_assert_eq!(own_lines(&two, &list()), second);
            prop_assert!(two.starts_with(mine.trim_end().as_bytes()));
            let none = with_own_lines(&two, &list(), &[]).unwrap();
            prop_assert_eq!(none, mine.into_bytes());
        }
    }

    #[test]
    fn comments_stay_and_names_of_others_are_refused() {
        let other = ListId::new("bob", Utf8Path::new("/home/bob/sites.toml"));
        let line = |address: &str, name: &str| OwnLine { address: address.parse().unwrap(), names: vec![name.into()] };
        let text = with_own_lines(b"10.0.0.1 nas\n", &other, &[line("127.0.0.1", "tides.test")]).unwrap();
        let text = with_own_lines(&text, &list(), &[line("127.0.0.1", "depot.test")]).unwrap();
        let edited =
            String::from_utf8(text).unwrap().replace("127.0.0.1\tdepot.test", "# mine\n127.0.0.1  depot.test # a");
        let wider = [line("127.0.0.1", "crew.test"), line("127.0.0.1", "depot.test")];
        let after = String::from_utf8(with_own_lines(edited.as_bytes(), &list(), &wider).unwrap()).unwrap();
        assert!(after.contains("# mine\n127.0.0.1\tcrew.test\n127.0.0.1  depot.test # a\n"), "{after}");
        for name in ["nas", "tides.test", "a b", "", "x\n10.0.0.1 y", "Depot.test"] {
            assert!(with_own_lines(edited.as_bytes(), &list(), &[line("10.0.0.7", name)]).is_err(), "{name:?}");
        }
    }
}
