//! Looking for an address in a text, in all the ways in which applications write one.

use std::ops::Range;

use memchr::memmem;

use super::AppAddress;
use crate::site::Scheme;

/// An old address in a text, and what takes its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Found {
    /// Its bytes: from the scheme, if it has one, to the end of the path that is replaced.
    pub(super) span: Range<usize>,
    pub(super) new: Vec<u8>,
}

/// How the colons and slashes of a URL are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Writing {
    /// `:` and `/`, each slash behind so many backslashes (JSON, RFC 8259 section 7, once or more often).
    Escaped(usize),
    /// Percent-encoded (RFC 3986 section 2.1) so many times, in upper or lower case.
    Percent { times: usize, is_upper: bool },
}

impl Writing {
    fn character(self, plain: u8) -> Vec<u8> {
        match self {
            Self::Escaped(backslashes) if plain == b'/' => [vec![b'\\'; backslashes], vec![b'/']].concat(),
            Self::Escaped(_) => vec![plain],
            Self::Percent { times, is_upper } => {
                let digits = if is_upper { format!("{plain:02X}") } else { format!("{plain:02x}") };
                format!("%{}{digits}", "25".repeat(times - 1)).into_bytes()
            }
        }
    }

    /// The same in lower case.
    fn lower(self) -> Self {
        match self {
            Self::Percent { times, .. } => Self::Percent { times, is_upper: false },
            escaped @ Self::Escaped(_) => escaped,
        }
    }

    /// The same in the case of slashes that were found.
    fn as_written(self, slashes: &[u8]) -> Self {
        match self {
            Self::Percent { times, .. } => Self::Percent { times, is_upper: slashes.contains(&b'F') },
            escaped @ Self::Escaped(_) => escaped,
        }
    }

    /// A path or a port with its colon.
    fn text(self, plain: &str) -> Vec<u8> {
        plain.bytes().flat_map(|byte| if b":/".contains(&byte) { self.character(byte) } else { vec![byte] }).collect()
    }
}

/// The text before a host.
struct Before {
    /// Its start: the scheme, the slashes or the host.
    start: usize,
    /// The writing of its slashes; `None` for a host without them.
    writing: Option<Writing>,
    /// The scheme: that of a page, and whether it is a WebSocket's.
    scheme: Option<(Scheme, bool)>,
}

/// All places of the old addresses in a text, in order.
pub(super) fn scan(text: &[u8], from: &[AppAddress], to: &AppAddress) -> Vec<Found> {
    let lower = text.to_ascii_lowercase();
    let mut found: Vec<Found> = Vec::new();
    for address in from {
        for host in address.hosts() {
            let is_unicode = host != address.host;
            for at in memmem::find_iter(&lower, host.to_lowercase().as_bytes()) {
                let host = at..at + host.len();
                let place = Place { text, lower: &lower, host, address, to, is_unicode };
                let new = place.replaced().filter(|new| text[new.span.clone()] != new.new[..]);
                found.extend(new.filter(|new| !found.iter().any(|other| overlap(&other.span, &new.span))));
            }
        }
    }
    found.sort_by_key(|found| found.span.start);
    found
}

fn overlap(a: &Range<usize>, b: &Range<usize>) -> bool {
    a.start < b.end && b.start < a.end
}

/// A host in a text that may be an old address's.
struct Place<'a> {
    text: &'a [u8],
    /// The text in lower case.
    lower: &'a [u8],
    host: Range<usize>,
    address: &'a AppAddress,
    to: &'a AppAddress,
    is_unicode: bool,
}

impl Place<'_> {
    fn replaced(&self) -> Option<Found> {
        let before = self.before()?;
        let scheme = before.scheme.map(|(scheme, _)| scheme);
        let writing = before.writing.unwrap_or(Writing::Escaped(0));
        let (port, mut end) = self.port(writing)?;
        if !self.address.has_port(port, scheme) {
            return None;
        }
        if before.writing.is_none() && port.is_none() && self.address.is_shared_host() {
            return None;
        }
        if !self.address.path.is_empty() {
            let path = writing.text(&self.address.path);
            let is_there = self.text[end..].starts_with(&path) && !is_in_word(self.text.get(end + path.len()));
            end = is_there.then_some(end + path.len())?;
        }
        Some(Found { span: before.start..end, new: self.written_new(&before, writing, port) })
    }

    /// The new address, written as the old one.
    fn written_new(&self, before: &Before, writing: Writing, port: Option<u16>) -> Vec<u8> {
        let mut new = Vec::new();
        let scheme = before.scheme.map(|_| self.to.scheme.unwrap_or(Scheme::Https));
        if let Some((_, is_socket)) = before.scheme {
            let word = match (scheme, is_socket) {
                (Some(Scheme::Http), true) => "ws",
                (_, true) => "wss",
                (scheme, false) => scheme.unwrap_or(Scheme::Https).word(),
            };
            new.extend(word.bytes());
        }
        // The colon and the slashes, and a user with a password, stay.
        let behind_scheme = before.start + before.scheme.map_or(0, |(scheme, socket)| scheme_length(scheme, socket));
        new.extend(&self.text[behind_scheme..self.host.start]);
        let hosts = self.to.hosts();
        new.extend(hosts.get(usize::from(self.is_unicode)).unwrap_or(&self.to.host).bytes());
        // A host without a scheme, as of cookies, has no port.
        if let Some(port) = self.to.port_for(scheme).filter(|_| before.writing.is_some() || port.is_some()) {
            new.extend(writing.text(&format!(":{port}")));
        }
        new.extend(writing.text(&self.to.path));
        new
    }

    /// The text before the host; `None` if the host is a part of something else.
    fn before(&self) -> Option<Before> {
        let text = &self.lower[..self.host.start];
        let text = &text[..without_user(text)];
        for writing in WRITINGS {
            let Some(slashes) = text.strip_suffix(&*writing.text("//")) else { continue };
            let writing = writing.as_written(&self.text[slashes.len()..text.len()]);
            let Some(colon) = slashes.strip_suffix(&*writing.lower().character(b':')) else {
                // A third slash: a path of a file system.
                let is_path = slashes.ends_with(b"/") || slashes.ends_with(b":");
                return (!is_path).then_some(Before { start: slashes.len(), writing: Some(writing), scheme: None });
            };
            let letters = colon.iter().rev().take_while(|byte| byte.is_ascii_alphanumeric() || b"+-.".contains(byte));
            let start = colon.len() - letters.count();
            let word = &colon[start..];
            if word.is_empty() {
                // Another part of the program adds the scheme.
                return Some(Before { start: slashes.len(), writing: Some(writing), scheme: None });
            }
            let known = SCHEMES.into_iter().find(|(known, _, _)| {
                let Some(rest) = word.strip_suffix(known.as_bytes()) else { return false };
                // The letter of an escape, as in `\nhttp://`, or of an encoded character, as in `%3Dhttp`.
                let outside = &self.lower[..start];
                rest.is_empty() || is_escape(outside, rest) || is_encoded(outside, rest)
            });
            let (word, scheme, is_socket) = known?;
            let start = colon.len() - word.len();
            return Some(Before { start, writing: Some(writing), scheme: Some((scheme, is_socket)) });
        }
        // Behind a user it was the address of a mailbox.
        let is_alone = text.len() == self.host.start && is_alone(text);
        is_alone.then_some(Before { start: self.host.start, writing: None, scheme: None })
    }

    /// The port behind the host, and where it ends; `None` if the host goes on.
    fn port(&self, writing: Writing) -> Option<(Option<u16>, usize)> {
        let rest = &self.lower[self.host.end..];
        if let Some(rest) = rest.strip_prefix(&*writing.lower().character(b':')) {
            let digits = rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
            if (1..6).contains(&digits) {
                let port = std::str::from_utf8(&rest[..digits]).ok()?.parse().ok()?;
                return Some((Some(port), self.lower.len() - rest.len() + digits));
            }
        }
        let goes_on = match rest {
            [b'.', next, ..] => is_of_label(*next),
            [next, ..] => is_of_label(*next) || *next == b'@',
            [] => false,
        };
        (!goes_on).then_some((None, self.host.end))
    }
}

/// The ways of writing that are looked for.
const WRITINGS: [Writing; 9] = [
    Writing::Escaped(0),
    Writing::Escaped(1),
    Writing::Escaped(2),
    Writing::Escaped(3),
    Writing::Escaped(7),
    // Matched in lower case.
    Writing::Percent { times: 1, is_upper: false },
    Writing::Percent { times: 2, is_upper: false },
    Writing::Percent { times: 3, is_upper: false },
    Writing::Percent { times: 4, is_upper: false },
];

/// Schemes of pages and of web sockets (RFC 6455), the longer ones first.
const SCHEMES: [(&str, Scheme, bool); 4] = [
    ("https", Scheme::Https, false),
    ("http", Scheme::Http, false),
    ("wss", Scheme::Https, true),
    ("ws", Scheme::Http, true),
];

fn scheme_length(scheme: Scheme, is_socket: bool) -> usize {
    SCHEMES
        .iter()
        .find(|(_, known, socket)| (*known, *socket) == (scheme, is_socket))
        .map_or(0, |(word, _, _)| word.len())
}

/// The end of a text without the user of a URL, with or without a password, that it ends with.
fn without_user(text: &[u8]) -> usize {
    let Some(rest) = text.strip_suffix(b"@") else { return text.len() };
    let is_of_user = |byte: &&u8| byte.is_ascii_alphanumeric() || b"-._~%!$&()*+,;=:".contains(byte);
    let length = rest.iter().rev().take(200).take_while(is_of_user).count();
    let before = &rest[..rest.len() - length];
    if before.ends_with(b"//") || before.ends_with(b"/\\/") { before.len() } else { text.len() }
}

fn is_of_label(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_' || byte >= 0x80
}

/// Whether a path goes on with this byte.
fn is_in_word(byte: Option<&u8>) -> bool {
    byte.is_some_and(|byte| is_of_label(*byte) || b".~".contains(byte))
}

/// Whether a word's first letter is that of an escape (`\n`), given the text before the word.
fn is_escape(before: &[u8], letter: &[u8]) -> bool {
    matches!(letter, [b'n' | b'r' | b't' | b'f' | b'b']) && before.ends_with(b"\\")
}

/// Whether a word begins with the digits of a percent-encoded character.
fn is_encoded(before: &[u8], digits: &[u8]) -> bool {
    digits.len() >= 2
        && digits.len().is_multiple_of(2)
        && before.ends_with(b"%")
        && digits.iter().all(u8::is_ascii_hexdigit)
}

/// Whether a host without slashes before it is complete: not a part of a longer name, a path or a mailbox.
fn is_alone(before: &[u8]) -> bool {
    match before {
        [] | [b'.'] => true,
        // The domain of cookies: `.saltmarsh.test`.
        [.., other, b'.'] => !is_of_label(*other) && *other != b'.' && *other != b'/',
        [.., b'%', high, low] if high.is_ascii_hexdigit() && low.is_ascii_hexdigit() => {
            let code = std::str::from_utf8(&[*high, *low]).ok().and_then(|digits| u8::from_str_radix(digits, 16).ok());
            code.is_some_and(|code| !is_of_label(code) && !b"./@%\\".contains(&code))
        }
        [.., last] => !is_of_label(*last) && !b"/\\@".contains(last),
    }
}
