//! The user's own lines: a name that is not a site is pointed at an address, and dropped again.

use core::net::IpAddr;
use std::borrow::Cow;
use std::collections::HashMap;

use super::block::check_encoding;
use super::error::EditError;
use super::parse::{HostsEntry, HostsFile};
use super::takeover::{self, cut, is_local};
use crate::name::HostName;
use crate::source::{self, Splice};

/// The file with a line beyond yandro's block that points `name` to `address`. A line that
/// points it to another address of that family is changed if it has no other name, or loses the
/// name. Borrowed when a line says so already.
///
/// # Errors
/// [`EditError::Localhost`] when the name would have to be cut out of the line of `localhost`.
pub fn set_line<'a>(bytes: &'a [u8], name: &HostName, address: IpAddr) -> Result<Cow<'a, [u8]>, EditError> {
    check_encoding(bytes)?;
    let file = HostsFile::parse(bytes);
    let mut is_said = false;
    let mut against = Vec::new();
    for entry in theirs(&file, name.as_str()) {
        if entry.address == address {
            is_said = true;
        } else if entry.address.is_ipv4() == address.is_ipv4() {
            against.push(entry);
        }
    }
    for entry in &against {
        check_local(&file, entry, name.as_str())?;
    }
    if against.is_empty() && is_said {
        return Ok(Cow::Borrowed(bytes));
    }
    // A line with only this name keeps its form and gets the new address; every other line loses the name.
    let own = if is_said { None } else { against.iter().find(|entry| entry.names.len() == 1) };
    let text = match own {
        Some(entry) => {
            let start = entry.full.start + leading_blanks(&bytes[entry.full.clone()]);
            let length = bytes[start..].iter().take_while(|byte| !super::parse::is_blank(**byte)).count();
            source::apply(bytes, &[Splice::replace(start..start + length, address.to_string())])
        }
        None => bytes.to_vec(),
    };
    let is_against = |entry: &HostsEntry| entry.address != address && entry.address.is_ipv4() == address.is_ipv4();
    let text = removed(&text, name.as_str(), is_against);
    let is_said = is_said || own.is_some();
    Ok(Cow::Owned(if is_said { text } else { appended(&text, &format!("{address}\t{name}")) }))
}

/// The same for many names, one after the other, in time that grows with the file and the names together: only names
/// that the file points to another address are looked up one by one.
///
/// # Errors
/// As [`set_line`], with the first such name.
pub fn set_lines<'n>(
    bytes: &[u8],
    names: impl IntoIterator<Item = (&'n HostName, IpAddr)>,
) -> Result<Vec<u8>, EditError> {
    check_encoding(bytes)?;
    let mut text = bytes.to_vec();
    let mut known = addresses_of_names(&text);
    let mut new = String::new();
    for (name, address) in names {
        let of_name = known.entry(name.as_str().to_owned()).or_default();
        let is_other = |other: &IpAddr| *other != address && other.is_ipv4() == address.is_ipv4();
        if of_name.iter().any(is_other) {
            text = set_line(&with_new(&text, &std::mem::take(&mut new)), name, address)?.into_owned();
            of_name.retain(|other| !is_other(other));
        } else if !of_name.contains(&address) {
            new += &format!("{address}\t{name}\n");
        }
        if !of_name.contains(&address) {
            of_name.push(address);
        }
    }
    Ok(with_new(&text, &new))
}

/// The addresses of each name in the user's own lines.
fn addresses_of_names(bytes: &[u8]) -> HashMap<String, Vec<IpAddr>> {
    let file = HostsFile::parse(bytes);
    let mut known: HashMap<String, Vec<IpAddr>> = HashMap::new();
    for entry in file.entries().filter(|entry| !entry.ours) {
        for name in file.names_of(&entry) {
            let name = String::from_utf8_lossy(name).to_ascii_lowercase();
            known.entry(name).or_default().push(entry.address);
        }
    }
    known
}

/// The file with new lines at its end.
fn with_new(bytes: &[u8], lines: &str) -> Vec<u8> {
    let Some((first, rest)) = lines.split_once('\n') else { return bytes.to_vec() };
    let text = appended(bytes, first);
    match rest.strip_suffix('\n') {
        Some(rest) => appended(&text, &rest.replace('\n', source::line_end(&text))),
        None => text,
    }
}

/// The file in which no line beyond yandro's block names `name`, whatever it is, in lower case. Borrowed when none did.
///
/// # Errors
/// [`EditError::Localhost`] when the name is in the line of `localhost`.
pub fn remove_lines<'a>(bytes: &'a [u8], name: &str) -> Result<Cow<'a, [u8]>, EditError> {
    check_encoding(bytes)?;
    let file = HostsFile::parse(bytes);
    let found: Vec<HostsEntry> = theirs(&file, name).collect();
    for entry in &found {
        check_local(&file, entry, name)?;
    }
    if found.is_empty() {
        return Ok(Cow::Borrowed(bytes));
    }
    // The name goes from the commented original as well: otherwise unmapping would bring it back.
    let bytes = takeover::forget(bytes, name).map_or(Cow::Borrowed(bytes), Cow::Owned);
    Ok(Cow::Owned(removed(&bytes, name, |_| true)))
}

fn theirs(file: &HostsFile<'_>, name: &str) -> impl Iterator<Item = HostsEntry> {
    file.entries_of_host(name).into_iter().filter(|entry| !entry.ours)
}

fn check_local(file: &HostsFile<'_>, entry: &HostsEntry, name: &str) -> Result<(), EditError> {
    if is_local(file, entry) { Err(EditError::Localhost { line: entry.line, name: name.to_owned() }) } else { Ok(()) }
}

/// The file without the name in the entries that `is_meant` picks. One at a time: the last line
/// may take the end of the one above it along.
fn removed(bytes: &[u8], name: &str, is_meant: impl Fn(&HostsEntry) -> bool) -> Vec<u8> {
    let mut text = bytes.to_vec();
    loop {
        let file = HostsFile::parse(&text);
        let Some(entry) = theirs(&file, name).filter(&is_meant).last() else { return text };
        let splice = without(&text, &entry, name);
        text = source::apply(&text, &[splice]);
    }
}

/// An entry without a name; without the line, if it has no other.
fn without(bytes: &[u8], entry: &HostsEntry, name: &str) -> Splice {
    let full = entry.full.clone();
    match cut(&bytes[full.clone()], &[name.as_bytes().to_vec()].into()) {
        Some(rest) => Splice::replace(full, rest),
        None if bytes[full.clone()].ends_with(b"\n") => Splice::remove(full),
        // The last line, and without an end: the end before it goes with it.
        None => {
            let before = &bytes[..full.start];
            let end = before.strip_suffix(b"\n").map_or(0, |own| source::line_end(own).len());
            Splice::remove(full.start.saturating_sub(end)..full.end)
        }
    }
}

fn leading_blanks(text: &[u8]) -> usize {
    text.iter().take_while(|byte| super::parse::is_blank(**byte)).count()
}

/// A file with one more line. One without a final line end stays one.
fn appended(bytes: &[u8], line: &str) -> Vec<u8> {
    let eol = source::line_end(bytes);
    let (before, after) = if bytes.is_empty() || bytes.ends_with(b"\n") { ("", eol) } else { (eol, "") };
    [bytes, before.as_bytes(), line.as_bytes(), after.as_bytes()].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> HostName {
        HostName::parse(text).unwrap()
    }

    fn set(text: &str, address: &str) -> String {
        let text = set_line(text.as_bytes(), &name("tides.test"), address.parse().unwrap()).unwrap();
        String::from_utf8(text.into_owned()).unwrap()
    }

    #[test]
    fn a_persons_own_line_is_made_changed_and_removed() {
        for (before, after) in [
            ("127.0.0.1 localhost\n", "127.0.0.1 localhost\n10.0.0.5\ttides.test\n"),
            ("127.0.0.1 localhost", "127.0.0.1 localhost\n10.0.0.5\ttides.test"),
            (" 10.0.0.6\tTides.test # buoy\r\n", " 10.0.0.5\tTides.test # buoy\r\n"),
            ("10.0.0.6 buoy.test tides.test\n", "10.0.0.6 buoy.test\n10.0.0.5\ttides.test\n"),
            ("10.0.0.5 tides.test\n10.0.0.6 tides.test\n", "10.0.0.5 tides.test\n"),
            ("::1 tides.test\n", "::1 tides.test\n10.0.0.5\ttides.test\n"),
            ("10.0.0.5 buoy.test tides.test\n", "10.0.0.5 buoy.test tides.test\n"),
        ] {
            assert_eq!(set(before, "10.0.0.5"), after, "{before:?}");
        }
        for text in ["", "127.0.0.1 localhost\n", "127.0.0.1 localhost", "# a\r\n127.0.0.1 localhost"] {
            let added = set(text, "10.0.0.5");
            assert_eq!(&*remove_lines(added.as_bytes(), "tides.test").unwrap(), text.as_bytes());
        }
        // Found by fuzzing: the last line has no end, and the one above loses the name, too.
        let both = b"::1 buoy.test tides.test\n10.0.0.5 tides.test";
        assert_eq!(&*remove_lines(both, "tides.test").unwrap(), b"::1 buoy.test");
        let local = b"127.0.0.1 localhost tides.test\n";
        let error = remove_lines(local, "tides.test").unwrap_err();
        assert!(
            error.at("/etc/hosts".into()).starts_with("/etc/hosts:1: the line has `localhost` and `tides.test`"),
            "{error}"
        );
        assert!(set_line(local, &name("tides.test"), "10.0.0.5".parse().unwrap()).is_err());
    }
}
