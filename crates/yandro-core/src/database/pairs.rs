//! Keys and values in configuration files of any format: what an application is told about its database needs no
//! more.

use core::ops::Range;
use std::collections::BTreeMap;

/// A key with its value, and the section, list or mapping that holds it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Pair {
    /// Which one holds it; those of one file have different numbers.
    pub(super) within: usize,
    /// The words of the keys around it and of its own, in upper case.
    pub(super) words: Vec<String>,
    /// How many of the words are its own.
    pub(super) own: usize,
    /// The value, without quotes.
    pub(super) value: String,
    /// The place of the value in the file, with its quotes.
    pub(super) at: Range<usize>,
}

/// The words of a key: `DB_HOST`, `dbHost` and `db-host` are `DB` and `HOST`.
fn words(key: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut was_lower = false;
    for letter in key.chars() {
        let starts = letter.is_ascii_uppercase() && was_lower;
        was_lower = letter.is_ascii_lowercase() || letter.is_ascii_digit();
        if starts || !letter.is_ascii_alphanumeric() {
            words.push(String::new());
        }
        if letter.is_ascii_alphanumeric()
            && let Some(last) = words.last_mut()
        {
            last.push(letter.to_ascii_uppercase());
        }
    }
    words.retain(|word| !word.is_empty());
    // PGHOST, as the client programs have it
    if let [only] = words.as_slice()
        && let Some(rest) = only.strip_prefix("PG")
        && ["HOST", "PORT", "DATABASE", "USER", "PASSWORD"].contains(&rest)
    {
        words = vec!["PG".to_owned(), rest.to_owned()];
    }
    words
}

pub(super) fn pair(within: usize, around: &[&str], key: &str, value: &str, at: Range<usize>) -> Pair {
    let own = words(key);
    let count = own.len();
    let words = around.iter().flat_map(|key| words(key)).chain(own).collect();
    Pair { within, words, own: count, value: value.to_owned(), at }
}

/// The pairs of a file of lines: `.env`, INI, TOML, shell. Values refer to earlier ones as `${KEY}`.
pub(super) fn of_lines(text: &str) -> Vec<Pair> {
    let (mut found, mut section, mut within) = (Vec::new(), String::new(), 0);
    let mut known: BTreeMap<String, String> = BTreeMap::new();
    for line in text.lines() {
        let line = line.trim();
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            name.trim_matches(['[', ']', ' ', '"']).clone_into(&mut section);
            within += 1;
            continue;
        }
        let line = line.strip_prefix("export ").unwrap_or(line);
        let Some((key, value)) = line.split_once('=') else { continue };
        let key = key.trim();
        if key.is_empty() || key.starts_with(['#', ';']) || key.contains(char::is_whitespace) {
            continue;
        }
        let (value, at) = line_value(text, value.trim());
        let value = expanded(&value, &known);
        let around: &[&str] = if section.is_empty() { &[] } else { &[&section] };
        found.push(pair(within, around, key, &value, at));
        known.insert(key.to_owned(), value);
    }
    // What is said last holds, as in a file that is read after another.
    let mut last: Vec<Pair> = Vec::new();
    for pair in found {
        last.retain(|other| (other.within, &other.words) != (pair.within, &pair.words));
        last.push(pair);
    }
    last
}

/// The value on a line of a text, in quotes or up to a comment, and its place in the text.
fn line_value(text: &str, value: &str) -> (String, Range<usize>) {
    let start = value.as_ptr() as usize - text.as_ptr() as usize;
    let Some(quote) = value.chars().next().filter(|first| ['"', '\''].contains(first)) else {
        let end = [" #", "\t#", " ;"].iter().filter_map(|mark| value.find(mark)).min().unwrap_or(value.len());
        let value = value[..end].trim_end();
        return (value.to_owned(), start..start + value.len());
    };
    let read = quoted(&value[1..], quote).map(|(text, length)| (text, start..start + 1 + length));
    read.unwrap_or_else(|| (value.to_owned(), start..start + value.len()))
}

/// A text up to its closing quote, and how long it is with that.
pub(super) fn quoted(text: &str, quote: char) -> Option<(String, usize)> {
    let mut value = String::new();
    let mut letters = text.char_indices();
    while let Some((at, letter)) = letters.next() {
        match letter {
            '\\' => match letters.next()?.1 {
                escaped if escaped == quote || escaped == '\\' || escaped == '$' || escaped == '/' => {
                    value.push(escaped);
                }
                other => value.extend(['\\', other]),
            },
            letter if letter == quote => return Some((value, at + letter.len_utf8())),
            letter => value.push(letter),
        }
    }
    None
}

fn expanded(value: &str, known: &BTreeMap<String, String>) -> String {
    let mut text = value.to_owned();
    for (key, value) in known {
        text = text.replace(&format!("${{{key}}}"), value);
    }
    text
}

/// The pairs of YAML's block mappings.
pub(super) fn of_yaml(text: &str) -> Vec<Pair> {
    let mut found = Vec::new();
    // The keys around a line, each with its depth and number.
    let mut around: Vec<(usize, String, usize)> = Vec::new();
    let mut count = 0;
    for line in text.lines() {
        let body = line.trim_start();
        if body.is_empty() || body.starts_with('#') {
            continue;
        }
        let (mut depth, mut body) = (line.len() - body.len(), body);
        if let Some(item) = body.strip_prefix("- ") {
            depth += 2;
            body = item.trim_start();
        }
        around.retain(|(other, _, _)| *other < depth);
        let Some((key, value)) = body.split_once(':') else { continue };
        let (key, value) = (key.trim().trim_matches(['"', '\'']), value.trim());
        if value.is_empty() || value.starts_with('&') || value.starts_with('#') {
            count += 1;
            around.push((depth, key.to_owned(), count));
            continue;
        }
        let keys: Vec<&str> = around.iter().map(|(_, key, _)| key.as_str()).collect();
        let (value, at) = line_value(text, value);
        found.push(pair(around.last().map_or(0, |(_, _, number)| *number), &keys, key, &value, at));
    }
    found
}
