//! The person's own lines: a name that is no site pointed at an address, and dropped again.

use core::net::IpAddr;
use std::borrow::Cow;

use super::block::{EditError, check_encoding};
use super::parse::{Entry, HostsFile};
use super::takeover::{cut, is_local};
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
    for entry in theirs(&file, name) {
        if entry.address == address {
            is_said = true;
        } else if entry.address.is_ipv4() == address.is_ipv4() {
            against.push(entry);
        }
    }
    let mut splices = Vec::new();
    for entry in &against {
        check_local(&file, entry, name)?;
        let full = entry.full.clone();
        if entry.names.len() == 1 && !is_said {
            let text = &bytes[full.clone()];
            let start = full.start + text.iter().take_while(|byte| super::parse::is_blank(**byte)).count();
            let length = bytes[start..].iter().take_while(|byte| !super::parse::is_blank(**byte)).count();
            splices.push(Splice::replace(start..start + length, address.to_string()));
            is_said = true;
        } else {
            splices.push(without(bytes, entry, name));
        }
    }
    let text = source::apply(bytes, &splices);
    Ok(match (is_said, splices.is_empty()) {
        (true, true) => Cow::Borrowed(bytes),
        (true, false) => Cow::Owned(text),
        (false, _) => Cow::Owned(appended(&text, &format!("{address}\t{name}"))),
    })
}

/// The file in which no line beyond yandro's block names `name`. Borrowed when none did.
///
/// # Errors
/// [`EditError::Localhost`] when the name stands in the line of `localhost`.
pub fn remove_lines<'a>(bytes: &'a [u8], name: &HostName) -> Result<Cow<'a, [u8]>, EditError> {
    check_encoding(bytes)?;
    let file = HostsFile::parse(bytes);
    let mut splices = Vec::new();
    for entry in theirs(&file, name) {
        check_local(&file, &entry, name)?;
        splices.push(without(bytes, &entry, name));
    }
    Ok(if splices.is_empty() { Cow::Borrowed(bytes) } else { Cow::Owned(source::apply(bytes, &splices)) })
}

fn theirs(file: &HostsFile<'_>, name: &HostName) -> impl Iterator<Item = Entry> {
    file.entries_of(name).into_iter().filter(|entry| !entry.ours)
}

fn check_local(file: &HostsFile<'_>, entry: &Entry, name: &HostName) -> Result<(), EditError> {
    if is_local(file, entry) { Err(EditError::Localhost { line: entry.line, name: name.clone() }) } else { Ok(()) }
}

/// An entry without a name; without the line, if it has no other.
fn without(bytes: &[u8], entry: &Entry, name: &HostName) -> Splice {
    let full = entry.full.clone();
    match cut(&bytes[full.clone()], &[name.as_str().as_bytes().to_vec()].into()) {
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
            assert_eq!(&*remove_lines(added.as_bytes(), &name("tides.test")).unwrap(), text.as_bytes());
        }
        let local = b"127.0.0.1 localhost tides.test\n";
        let error = remove_lines(local, &name("tides.test")).unwrap_err();
        assert!(
            error.at("/etc/hosts".into()).starts_with("/etc/hosts:1: the line names `localhost` beside `tides.test`"),
            "{error}"
        );
        assert!(set_line(local, &name("tides.test"), "10.0.0.5".parse().unwrap()).is_err());
    }
}
