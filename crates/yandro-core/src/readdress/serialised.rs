//! Strings in values that PHP serialised: `s:LENGTH:"…";`. When something in one changes, so does its length.

use std::ops::Range;

use memchr::memmem;

/// A string in a serialised value, or the data of an object that serialises itself (`C:…:LENGTH:{…}`).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Header {
    /// The digits of its length.
    pub(super) digits: Range<usize>,
    /// Its content. If the length doesn't fit, what seems to be its content.
    pub(super) content: Range<usize>,
    units: Units,
    /// Whether the length is that of the content.
    pub(super) fits: bool,
}

/// How bytes of a string are written in the text around it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Units {
    /// How often quotes are escaped by backslashes.
    levels: u32,
    /// Whether `\u` is the escape of JSON.
    is_json: bool,
    /// Whether an apostrophe is written twice, as in SQL.
    doubles: bool,
}

impl Header {
    /// How long a content is under this header, in bytes of the value.
    pub(super) fn length_of(&self, content: &[u8]) -> usize {
        let (mut at, mut length) = (0, 0);
        while let Some((bytes, next)) = self.units.next(content, at, self.units.levels) {
            (at, length) = (next, length + bytes.length());
        }
        length
    }
}

/// A character as the value has it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Unit {
    Byte(u8),
    /// An escaped code unit of UTF-16, and how many bytes it is in UTF-8.
    Code(usize),
}

impl Unit {
    fn length(self) -> usize {
        match self {
            Self::Byte(_) => 1,
            Self::Code(length) => length,
        }
    }
}

impl Units {
    /// The unit at a place, with the place behind it.
    fn next(self, text: &[u8], at: usize, level: u32) -> Option<(Unit, usize)> {
        if level == 0 {
            let byte = *text.get(at)?;
            let is_double = self.doubles && byte == b'\'' && text.get(at + 1) == Some(&b'\'');
            return Some((Unit::Byte(byte), at + 1 + usize::from(is_double)));
        }
        let (unit, next) = self.next(text, at, level - 1)?;
        if unit != Unit::Byte(b'\\') {
            return Some((unit, next));
        }
        let (escaped, mut next) = self.next(text, next, level - 1)?;
        if escaped != Unit::Byte(b'u') || !self.is_json {
            return Some((escaped, next));
        }
        let mut code = 0;
        for _ in 0..4 {
            let (digit, behind) = self.next(text, next, level - 1)?;
            let Unit::Byte(digit) = digit else { return None };
            code = code * 16 + char::from(digit).to_digit(16)?;
            next = behind;
        }
        let length = match code {
            0..0x80 => 1,
            // Each half of a pair counts for two of the four bytes.
            0x80..0x800 | 0xd800..0xe000 => 2,
            _ => 3,
        };
        Some((Unit::Code(length), next))
    }
}

/// The headers of a text, in order.
pub(super) fn headers(text: &[u8]) -> Vec<Header> {
    let strings = memmem::find_iter(text, b"s:").filter_map(|at| string(text, at));
    let objects = memmem::find_iter(text, b"C:").filter_map(|at| object(text, at));
    let mut found: Vec<Header> = strings.chain(objects).collect();
    found.sort_by_key(|header| header.digits.start);
    found
}

/// Digits that a colon follows, and the place behind it.
fn number(text: &[u8], at: usize) -> Option<(Range<usize>, usize)> {
    let count = text[at..].iter().take_while(|byte| byte.is_ascii_digit()).count();
    let end = at + count;
    ((1..10).contains(&count) && text.get(end) == Some(&b':')).then_some((at..end, end + 1))
}

fn value(text: &[u8], digits: &Range<usize>) -> Option<usize> {
    std::str::from_utf8(&text[digits.clone()]).ok()?.parse().ok()
}

/// A quote with the backslashes before it: how often it is escaped, and the place behind it.
fn quote(text: &[u8], at: usize) -> Option<(u32, usize)> {
    let backslashes = text[at..].iter().take_while(|byte| **byte == b'\\').count();
    let levels = (backslashes + 1).is_power_of_two().then(|| (backslashes + 1).trailing_zeros())?;
    (text.get(at + backslashes) == Some(&b'"')).then_some((levels, at + backslashes + 1))
}

fn starts_word(text: &[u8], at: usize) -> bool {
    !at.checked_sub(1).is_some_and(|before| text[before].is_ascii_alphanumeric())
}

fn string(text: &[u8], at: usize) -> Option<Header> {
    let (digits, behind) = number(text, at + 2).filter(|_| starts_word(text, at))?;
    let (levels, start) = quote(text, behind)?;
    let close = [vec![b'\\'; (1 << levels) - 1], b"\";".to_vec()].concat();
    Some(counted(text, digits, start, levels, &close))
}

fn object(text: &[u8], at: usize) -> Option<Header> {
    let (_, behind) = number(text, at + 2).filter(|_| starts_word(text, at))?;
    let (levels, start) = quote(text, behind)?;
    let name = text[start..].iter().take_while(|byte| byte.is_ascii_alphanumeric() || b"_\\".contains(byte)).count();
    // Backslashes of a namespace, and those before the quote.
    let quote_at =
        (start..=start + name).rev().find(|at| quote(text, *at).is_some_and(|(found, _)| found == levels))?;
    let (_, behind) = quote(text, quote_at)?;
    let (digits, behind) = number(text, behind + 1).filter(|_| text.get(behind) == Some(&b':'))?;
    (text.get(behind) == Some(&b'{')).then(|| counted(text, digits, behind + 1, levels, b"}"))
}

/// A header whose content begins at a place, with that content by its length or, if that doesn't fit, by its end.
fn counted(text: &[u8], digits: Range<usize>, start: usize, levels: u32, close: &[u8]) -> Header {
    let ways = [(true, false), (false, false), (true, true), (false, true)];
    let length = value(text, &digits);
    for (is_json, doubles) in ways {
        let units = Units { levels, is_json, doubles };
        let Some(end) = length.and_then(|length| behind(text, start, length, units)) else { continue };
        if text[end..].starts_with(close) {
            return Header { digits, content: start..end, units, fits: true };
        }
    }
    let end = memmem::find(&text[start..], close).map_or(text.len(), |at| start + at);
    Header { digits, content: start..end, units: Units { levels, is_json: true, doubles: false }, fits: false }
}

/// The place behind so many bytes of the value.
fn behind(text: &[u8], start: usize, length: usize, units: Units) -> Option<usize> {
    let (mut at, mut count) = (start, 0);
    if units.levels == 0 && !units.doubles {
        return start.checked_add(length).filter(|end| *end <= text.len());
    }
    while count < length {
        let (unit, next) = units.next(text, at, units.levels)?;
        (at, count) = (next, count + unit.length());
    }
    (count == length).then_some(at)
}
