//! Edits: names pointed at an address inside yandro's block, and taken out again.

use std::borrow::Cow;
use std::collections::HashSet;
use std::net::IpAddr;

use super::parse::{BLOCK_HEAD, BLOCK_TAIL, HostsFile};
use crate::name::HostName;
use crate::source::{self, Splice};

/// What yandro's block is to hold for one site: one line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mapping {
    /// Where the names point to.
    pub address: IpAddr,
    /// The site's name, then its aliases.
    pub names: Vec<HostName>,
}

/// A line of the person's own that says something else about a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conflict {
    /// The line's number, from 1.
    pub line: usize,
    /// The name.
    pub name: HostName,
    /// Where that line points it to.
    pub address: IpAddr,
    /// Where it should point to.
    pub wanted: IpAddr,
}

/// Why a hosts file was not edited.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The person's own lines point names elsewhere.
    #[error("line {} already points `{}` to {}, not to {}", .0.line, .0.name, .0.address, .0.wanted)]
    Conflict(Conflict),
    /// The file is UTF-16, of which the resolver reads no line.
    #[error("the file is encoded as UTF-16, of which the resolver reads no line: save it as plain ASCII text")]
    Utf16,
}

/// The file with one line in yandro's block for `mapping`: changed, moved or
/// added as needed. Names that the person's own lines already point to the same
/// address are not written again; `former` names of the site are taken out. Borrowed when
/// nothing has to be changed.
///
/// # Errors
/// [`EditError::Conflict`] when a line outside the block points one of the names
/// to another address of the same family.
pub fn point<'a>(bytes: &'a [u8], mapping: &Mapping, former: &[HostName]) -> Result<Cow<'a, [u8]>, EditError> {
    if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") {
        return Err(EditError::Utf16);
    }
    let file = HostsFile::parse(bytes);
    let mut missing = Vec::new();
    let mut own: Vec<std::ops::Range<usize>> = Vec::new();
    for name in mapping.names.iter().chain(former) {
        own.extend(file.entries_of(name).into_iter().filter(|entry| entry.ours).map(|entry| entry.full));
    }
    own.dedup();
    for name in &mapping.names {
        let mut said = false;
        for entry in file.entries_of(name).iter().filter(|entry| !entry.ours) {
            if entry.address == mapping.address {
                said = true;
            } else if entry.address.is_ipv4() == mapping.address.is_ipv4() {
                let (line, address) = (entry.line, entry.address);
                return Err(EditError::Conflict(Conflict {
                    line,
                    name: name.clone(),
                    address,
                    wanted: mapping.address,
                }));
            }
        }
        if !said {
            missing.push(name.as_str());
        }
    }
    let eol = source::line_end(bytes);
    let line =
        if missing.is_empty() { String::new() } else { format!("{}\t{}{eol}", mapping.address, missing.join(" ")) };
    // One line of ours that says just this is all there should be.
    if let [only] = &own[..]
        && bytes[only.clone()] == *line.as_bytes()
    {
        return Ok(Cow::Borrowed(bytes));
    }
    Ok(match file.block() {
        Some(_) => replace_lines(&file, &[&mapping.names, former].concat(), &line),
        None if line.is_empty() => Cow::Borrowed(bytes),
        None => Cow::Owned(append_block(bytes, &line, eol)),
    })
}

/// The file without yandro's lines for these names; with the last of them the
/// block goes, too. Lines outside the block are not looked at.
pub fn drop_names<'a>(bytes: &'a [u8], names: &[HostName]) -> Cow<'a, [u8]> {
    replace_lines(&HostsFile::parse(bytes), names, "")
}

/// Puts `line` in the place of the first line of the block that holds one of
/// `names`, takes the others away, and adds it at the block's end if there was none.
fn replace_lines<'a>(file: &HostsFile<'a>, names: &[HostName], line: &str) -> Cow<'a, [u8]> {
    let bytes = file.bytes();
    let Some(block) = file.block() else { return Cow::Borrowed(bytes) };
    let meant: HashSet<&[u8]> = names.iter().map(|name| name.as_str().as_bytes()).collect();
    let mut splices = Vec::new();
    let mut pending = Some(line).filter(|line| !line.is_empty());
    for entry in file.own_entries() {
        if file.names_of(&entry).any(|name| meant.contains(name.to_ascii_lowercase().as_slice())) {
            let new = pending.take().unwrap_or_default();
            if bytes[entry.full.clone()] != *new.as_bytes() {
                splices.push(Splice::replace(entry.full.clone(), new));
            }
        }
    }
    if let Some(line) = pending {
        splices.push(Splice::insert(block.tail.start, line));
    }
    if splices.is_empty() {
        return Cow::Borrowed(bytes);
    }
    Cow::Owned(without_empty_block(source::apply(bytes, &splices)))
}

fn append_block(bytes: &[u8], line: &str, eol: &str) -> Vec<u8> {
    let head = format!("{BLOCK_HEAD}: these lines follow the site list, see `yandro sites`{eol}");
    // A file without a final line end stays one: so taking the block out again
    // gives back the very bytes.
    let (before, after) = if bytes.is_empty() || bytes.ends_with(b"\n") { ("", eol) } else { (eol, "") };
    [bytes, before.as_bytes(), head.as_bytes(), line.as_bytes(), BLOCK_TAIL.as_bytes(), after.as_bytes()].concat()
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
        // The line end that `append_block` put before the block, chosen by the same
        // count: a lone CR before it is the person's own.
        let before = &bytes[..gone.start];
        if let Some(own) = before.strip_suffix(b"\n") {
            gone.start -= source::line_end(own).len();
        }
    }
    source::apply(&bytes, &[Splice::remove(gone)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn mapping(address: &str, names: &[&str]) -> Mapping {
        Mapping {
            address: address.parse().unwrap(),
            names: names.iter().map(|name| HostName::parse(name).unwrap()).collect(),
        }
    }

    fn pointed(text: &str, mapping: &Mapping) -> String {
        String::from_utf8(point(text.as_bytes(), mapping, &[]).unwrap().into_owned()).unwrap()
    }

    #[test]
    fn one_line_a_site_in_one_block() {
        let text = pointed("127.0.0.1\tlocalhost\n", &mapping("127.0.0.1", &["saltmarsh.test", "www.saltmarsh.test"]));
        let text = pointed(&text, &mapping("127.0.0.1", &["depot.saltmarsh.test"]));
        let text = pointed(&text, &mapping("192.168.1.7", &["saltmarsh.test"]));
        insta::assert_snapshot!(text, @r"
        127.0.0.1	localhost
        # yandro sites: these lines follow the site list, see `yandro sites`
        192.168.1.7	saltmarsh.test
        127.0.0.1	depot.saltmarsh.test
        # end of yandro sites
        ");
    }

    #[test]
    fn what_the_person_wrote_counts() {
        let own = "127.0.0.1 localhost saltmarsh.test\n";
        let text = pointed(own, &mapping("127.0.0.1", &["saltmarsh.test", "www.saltmarsh.test"]));
        assert!(text.starts_with(own) && text.contains("\n127.0.0.1\twww.saltmarsh.test\n"), "{text}");
        assert_eq!(pointed(own, &mapping("127.0.0.1", &["saltmarsh.test"])), own);
        let error = point(own.as_bytes(), &mapping("127.0.0.2", &["saltmarsh.test"]), &[]).unwrap_err();
        assert_eq!(error.to_string(), "line 1 already points `saltmarsh.test` to 127.0.0.1, not to 127.0.0.2");
        // Another family adds to the answer and takes nothing from it.
        assert!(point(own.as_bytes(), &mapping("::1", &["saltmarsh.test"]), &[]).is_ok());
    }

    proptest! {
        #[test]
        fn set_then_removed_gives_the_bytes_back(
            mut before in proptest::collection::vec(prop_oneof![
                Just(b"127.0.0.1\tlocalhost".to_vec()), Just(b"\n".to_vec()), Just(b"\r\n".to_vec()), Just(b"\r".to_vec()),
                Just(b"# note".to_vec()), Just(b"\xef\xbb\xbf".to_vec()), proptest::collection::vec(any::<u8>(), 0..20),
            ], 0..12).prop_map(|parts| parts.concat()),
        ) {
            if before.starts_with(b"\xff\xfe") || before.starts_with(b"\xfe\xff") {
                before.clear();
            }
            let first = mapping("127.0.0.1", &["saltmarsh.test", "www.saltmarsh.test"]);
            let second = mapping("::1", &["depot.saltmarsh.test"]);
            let once = point(&before, &first, &[]).unwrap().into_owned();
            prop_assert_eq!(HostsFile::parse(&once).lookup(&first.names[1]), vec![first.address]);
            prop_assert!(matches!(point(&once, &first, &[]).unwrap(), Cow::Borrowed(_)), "it says so already");
            let both = point(&once, &second, &[]).unwrap().into_owned();
            prop_assert_eq!(&*drop_names(&both, &second.names), &once[..]);
            let rest = drop_names(&both, &first.names);
            prop_assert_eq!(&*drop_names(&rest, &second.names), &before[..]);
        }
    }
}
