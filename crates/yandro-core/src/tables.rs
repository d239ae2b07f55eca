//! Arrays of tables in TOML files that people edit, too: splices over their own text.
//!
//! Comments, order, spelling, line ends and blank lines of everything that is
//! not changed stay as they are, to the byte.

use std::fmt::Write as _;
use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::source::{self, Splice};

/// A key and its value; `None` where the key is not to be there.
pub(crate) type Field = (&'static str, Option<Value>);

/// The text with these fields in the table of `array` that `is_it` knows, or in a new one at the
/// end. `head` begins an empty file. `text` must be TOML.
pub fn set(text: &str, head: &str, array: &str, is_it: impl Fn(&DeTable<'_>) -> bool, fields: &[Field]) -> String {
    let Some(entry) = find(text, array, is_it) else {
        return append(text, head, array, fields);
    };
    let mut splices = Vec::new();
    let mut added = String::new();
    for (key, value) in fields {
        match (entry.value(key), value) {
            (Some((_, span, old)), Some(new)) if old.as_ref() != Some(new) => {
                splices.push(Splice::replace(span, new.to_toml()));
            }
            (Some((key_span, span, _)), None) => {
                splices.push(Splice::remove(whole_lines(text, key_span.start..span.end)));
            }
            (None, Some(new)) => _ = write!(added, "{key} = {}{}", new.to_toml(), source::line_end(text.as_bytes())),
            _ => {}
        }
    }
    if !added.is_empty() {
        let at = entry.own_end;
        if !text[..at].ends_with('\n') {
            added.insert_str(0, source::line_end(text.as_bytes()));
            added.truncate(added.trim_end().len());
        }
        splices.push(Splice::insert(at, added));
    }
    spliced(text, &splices)
}

/// The text without the tables of `array` that `is_it` knows. A comment right above one goes with
/// it; one that a blank line sets apart stays, and so does the head of the file.
pub fn remove(text: &str, array: &str, is_it: impl Fn(&DeTable<'_>) -> bool) -> String {
    let lines: Vec<source::Line> = source::lines(text.as_bytes()).collect();
    let gone = find_all(text, array, is_it).into_iter().map(|entry| {
        let above = &lines[..lines.partition_point(|line| line.full.start < entry.start)];
        let is_comment = |line: &&source::Line| text[line.text.clone()].trim_start().starts_with('#');
        let comments = above.iter().rev().take_while(is_comment).count();
        let mut above = &above[..above.len() - comments];
        if comments > 0 && above.is_empty() {
            return entry.start..entry.end;
        }
        // The blank line that set the site apart from the one above it.
        if let Some((last, rest)) = above.split_last()
            && text[last.text.clone()].trim().is_empty()
        {
            above = rest;
        }
        above.last().map_or(0, |line| line.full.end)..entry.end
    });
    spliced(text, &gone.map(Splice::remove).collect::<Vec<_>>())
}

/// The keys with text values in the table of `array` that `is_it` knows.
pub(crate) fn texts_in(text: &str, array: &str, is_it: impl Fn(&DeTable<'_>) -> bool) -> Vec<(String, String)> {
    let table = find(text, array, is_it).map(|entry| entry.table).unwrap_or_default();
    let texts = table.iter().map(|(key, value)| (key.get_ref().to_string(), value.get_ref().as_str()));
    texts.filter_map(|(key, text)| Some((key, text?.to_owned()))).collect()
}

/// The text value of a key.
pub fn text_of<'t>(table: &'t DeTable<'_>, key: &str) -> Option<&'t str> {
    table.iter().find(|(own, _)| own.get_ref() == key)?.1.get_ref().as_str()
}

/// What a key of a table can hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A string.
    Text(String),
    /// An array of strings.
    Texts(Vec<String>),
    /// A number.
    Number(u16),
    /// An array of numbers.
    Numbers(Vec<u16>),
    /// A truth value.
    Flag(bool),
}

impl Value {
    /// As TOML has it.
    pub fn to_toml(&self) -> String {
        match self {
            Self::Text(text) => quoted(text),
            Self::Texts(texts) => format!("[{}]", texts.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", ")),
            Self::Number(number) => number.to_string(),
            Self::Numbers(numbers) => {
                format!("[{}]", numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))
            }
            Self::Flag(flag) => flag.to_string(),
        }
    }

    fn read(value: &DeValue<'_>) -> Option<Self> {
        match value {
            DeValue::String(text) => Some(Self::Text(text.to_string())),
            DeValue::Integer(_) => value.as_integer()?.to_string().parse().ok().map(Self::Number),
            DeValue::Boolean(flag) => Some(Self::Flag(*flag)),
            DeValue::Array(items) if items.iter().any(|item| item.get_ref().as_integer().is_some()) => items
                .iter()
                .map(|item| item.get_ref().as_integer()?.to_string().parse().ok())
                .collect::<Option<_>>()
                .map(Self::Numbers),
            DeValue::Array(items) => items
                .iter()
                .map(|item| item.get_ref().as_str().map(str::to_owned))
                .collect::<Option<_>>()
                .map(Self::Texts),
            _ => None,
        }
    }
}

/// A table of an array.
pub(crate) fn rendered(array: &str, fields: &[Field]) -> String {
    let mut block = format!("[[{array}]]\n");
    for (key, value) in fields {
        if let Some(value) = value {
            _ = writeln!(block, "{key} = {}", value.to_toml());
        }
    }
    block
}

fn append(text: &str, head: &str, array: &str, fields: &[Field]) -> String {
    let block = rendered(array, fields);
    let separator = match text {
        "" => format!("{head}\n"),
        _ if text.ends_with('\n') => "\n".to_owned(),
        _ => "\n\n".to_owned(),
    };
    let added = (separator + &block).replace('\n', source::line_end(text.as_bytes()));
    format!("{text}{added}")
}

/// Place of a table.
struct TableEntry<'a> {
    table: DeTable<'a>,
    /// The start of the header's line.
    start: usize,
    /// The end of the line of its last key.
    own_end: usize,
    /// The same, with the tables that are below it.
    end: usize,
}

impl TableEntry<'_> {
    /// Span of the key, span of the value and the value itself.
    fn value(&self, key: &str) -> Option<(Range<usize>, Range<usize>, Option<Value>)> {
        let (name, value) = self.table.iter().find(|(name, _)| name.get_ref() == key)?;
        Some((name.span(), value.span(), Value::read(value.get_ref())))
    }
}

fn find<'a>(text: &'a str, array: &str, is_it: impl Fn(&DeTable<'_>) -> bool) -> Option<TableEntry<'a>> {
    find_all(text, array, is_it).into_iter().next()
}

fn find_all<'a>(text: &'a str, array: &str, is_it: impl Fn(&DeTable<'_>) -> bool) -> Vec<TableEntry<'a>> {
    let document = DeTable::parse(text).map(Spanned::into_inner).unwrap_or_default();
    let sites = document.into_iter().find(|(key, _)| key.get_ref() == array).map(|(_, sites)| sites.into_inner());
    let Some(DeValue::Array(sites)) = sites else { return Vec::new() };
    let found = sites.into_iter().filter_map(|site| {
        let span = site.span();
        let DeValue::Table(table) = site.into_inner() else { return None };
        if !is_it(&table) {
            return None;
        }
        let own = table.values().filter(|value| !is_below(text, value)).map(|value| value.span().end);
        let last_own = own.fold(span.end, usize::max);
        let last = table.values().map(end_of).fold(span.end, usize::max);
        Some(TableEntry {
            table,
            start: whole_lines(text, span.clone()).start,
            own_end: whole_lines(text, span.start..last_own).end,
            end: whole_lines(text, span.start..last).end,
        })
    });
    found.collect()
}

/// Whether a value is tables with headers of their own (`[[site.step]]`).
fn is_below(text: &str, value: &Spanned<DeValue<'_>>) -> bool {
    let first = value.get_ref().as_array().and_then(|items| items.iter().next());
    first.is_some_and(|item| item.get_ref().as_table().is_some() && text[item.span()].starts_with('['))
}

/// The end of a value with all that is below it.
fn end_of(value: &Spanned<DeValue<'_>>) -> usize {
    let below = match value.get_ref() {
        DeValue::Array(items) => items.iter().map(end_of).max(),
        DeValue::Table(table) => table.values().map(end_of).max(),
        _ => None,
    };
    below.unwrap_or(0).max(value.span().end)
}

/// `range` widened to whole lines, the last line's end included.
fn whole_lines(text: &str, range: Range<usize>) -> Range<usize> {
    let start = text[..range.start].rfind('\n').map_or(0, |i| i + 1);
    let end = text[range.end..].find('\n').map_or(text.len(), |i| range.end + i + 1);
    start..end
}

fn spliced(text: &str, splices: &[Splice]) -> String {
    String::from_utf8(source::apply(text.as_bytes(), splices)).expect("splices of UTF-8 at character borders are UTF-8")
}

/// A TOML basic string (TOML 1.0, "String").
pub(crate) fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => _ = write!(out, "\\u{:04X}", u32::from(c)),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}
