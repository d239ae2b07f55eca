//! Keys and values in configuration files of any format: what an application is told about its database needs no
//! more.

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

fn pair(within: usize, around: &[&str], key: &str, value: &str) -> Pair {
    let own = words(key);
    let count = own.len();
    let words = around.iter().flat_map(|key| words(key)).chain(own).collect();
    Pair { within, words, own: count, value: value.to_owned() }
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
        let value = expanded(&line_value(value.trim()), &known);
        let around: &[&str] = if section.is_empty() { &[] } else { &[&section] };
        found.push(pair(within, around, key, &value));
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

/// The value on a line: in quotes, or up to a comment.
fn line_value(value: &str) -> String {
    let Some(quote) = value.chars().next().filter(|first| ['"', '\''].contains(first)) else {
        let end = [" #", "\t#", " ;"].iter().filter_map(|mark| value.find(mark)).min().unwrap_or(value.len());
        return value[..end].trim_end().to_owned();
    };
    quoted(&value[1..], quote).map_or_else(|| value.to_owned(), |(text, _)| text)
}

/// A text up to its closing quote, and how long it is with that.
fn quoted(text: &str, quote: char) -> Option<(String, usize)> {
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
        found.push(pair(around.last().map_or(0, |(_, _, number)| *number), &keys, key, &line_value(value)));
    }
    found
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Token {
    Text(String),
    Word(String),
    /// `=>`, `:`, `=`
    Gives,
    Open,
    Close,
    Comma,
    Mark(char),
}

/// The pairs of code and data with brackets: PHP's lists, constants and variables, JSON, Python's and JavaScript's
/// lists.
pub(super) fn of_code(text: &str) -> Vec<Pair> {
    let tokens = tokens(text);
    let (mut found, mut count) = (Vec::new(), 0);
    // The brackets around a token, with the key that each is the value of.
    let mut around: Vec<(String, usize)> = Vec::new();
    // The key that the next value belongs to, if a value comes next.
    let mut key: Option<String> = None;
    let mut last = String::new();
    for (at, token) in tokens.iter().enumerate() {
        match token {
            Token::Text(text) | Token::Word(text) => {
                let is_scalar = matches!(
                    tokens.get(at + 1),
                    None | Some(Token::Comma | Token::Close | Token::Mark(';' | '\n') | Token::Word(_))
                );
                if let Some(key) = key.take().filter(|_| is_scalar) {
                    let keys: Vec<&str> = around.iter().map(|(key, _)| key.as_str()).collect();
                    found.push(pair(around.last().map_or(0, |(_, number)| *number), &keys, &key, text));
                }
                last.clone_from(text);
            }
            Token::Gives => key = Some(last.clone()),
            Token::Open => {
                let is_index = matches!(tokens.get(at + 2), Some(Token::Close))
                    && matches!(tokens.get(at.wrapping_sub(1)), Some(Token::Word(_) | Token::Close));
                // `$config['db']['host']` is one key.
                let name = if is_index { String::new() } else { key.take().unwrap_or_default() };
                count += usize::from(!is_index);
                let within = around.last().map_or(0, |(_, number)| *number);
                around.push((name, if is_index { within } else { count }));
                // `define('KEY', …)`
                if matches!(tokens.get(at.wrapping_sub(1)), Some(Token::Word(word)) if word.eq_ignore_ascii_case("define"))
                    && let (
                        Some(Token::Text(name)),
                        Some(Token::Comma),
                        Some(Token::Text(value) | Token::Word(value)),
                        Some(Token::Close),
                    ) = (tokens.get(at + 1), tokens.get(at + 2), tokens.get(at + 3), tokens.get(at + 4))
                {
                    found.push(pair(0, &[], name, value));
                }
            }
            Token::Close => {
                around.pop();
                key = None;
                // Behind an index, its words belong to the key.
                if let (Some(Token::Word(before)), Some(Token::Open)) =
                    (tokens.get(at.wrapping_sub(3)), tokens.get(at.wrapping_sub(2)))
                {
                    last = format!("{before}_{last}");
                } else if let (Some(Token::Close), Some(Token::Open), Some(Token::Text(before))) =
                    (tokens.get(at.wrapping_sub(3)), tokens.get(at.wrapping_sub(2)), tokens.get(at.wrapping_sub(4)))
                {
                    last = format!("{before}_{last}");
                }
            }
            Token::Comma | Token::Mark(_) => key = None,
        }
    }
    found
}

fn tokens(text: &str) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(letter) = text[at..].chars().next() {
        let rest = &text[at..];
        let line = || rest.find('\n').unwrap_or(rest.len());
        at += match letter {
            '/' if rest.starts_with("//") => line(),
            '#' if !rest.starts_with("#[") => line(),
            '/' if rest.starts_with("/*") => rest.find("*/").map_or(rest.len(), |end| end + 2),
            '"' | '\'' => match quoted(&rest[1..], letter) {
                Some((value, length)) => {
                    tokens.push(Token::Text(value));
                    1 + length
                }
                None => 1,
            },
            '[' | '(' | '{' | ']' | ')' | '}' => {
                tokens.push(if "[({".contains(letter) { Token::Open } else { Token::Close });
                1
            }
            '=' if rest.starts_with("=>") => {
                tokens.push(Token::Gives);
                2
            }
            '=' | ':' if !rest.starts_with("==") && !rest.starts_with("::") => {
                tokens.push(Token::Gives);
                1
            }
            ',' => {
                tokens.push(Token::Comma);
                1
            }
            letter if letter.is_alphanumeric() || letter == '_' => {
                let end = rest.find(|next: char| !next.is_alphanumeric() && next != '_' && next != '.');
                let end = end.unwrap_or(rest.len());
                tokens.push(Token::Word(rest[..end].to_owned()));
                end
            }
            // Parts of a name or of its access, and what may stand between tokens.
            '$' | ' ' | '\t' | '\r' | '\n' => letter.len_utf8(),
            other => {
                tokens.push(Token::Mark(other));
                other.len_utf8()
            }
        };
    }
    tokens
}
