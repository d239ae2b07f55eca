//! Keys and values in code and in data with brackets.

use core::ops::Range;

use super::pairs::{Pair, pair, quoted};

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
    let mut reading = Reading { tokens: &tokens, around: Vec::new(), count: 0, key: None, last: String::new() };
    (0..tokens.len()).filter_map(|at| reading.token(at)).collect()
}

struct Reading<'t> {
    tokens: &'t [(Token, Range<usize>)],
    /// The brackets around a token, each with the key that it is the value of, and its number.
    around: Vec<(String, usize)>,
    count: usize,
    /// The key that the next value belongs to, if a value comes next.
    key: Option<String>,
    last: String,
}

impl Reading<'_> {
    /// The token so many places further on, or before.
    fn near(&self, at: usize, by: isize) -> Option<&Token> {
        self.tokens.get(at.checked_add_signed(by)?).map(|(token, _)| token)
    }

    fn token(&mut self, at: usize) -> Option<Pair> {
        match &self.tokens[at].0 {
            Token::Text(text) | Token::Word(text) => {
                let is_scalar = matches!(
                    self.near(at, 1),
                    None | Some(Token::Comma | Token::Close | Token::Mark(';') | Token::Word(_))
                );
                let key = self.key.take().filter(|_| is_scalar);
                let found = key.map(|key| {
                    let keys: Vec<&str> = self.around.iter().map(|(key, _)| key.as_str()).collect();
                    pair(self.within(), &keys, &key, text, self.tokens[at].1.clone())
                });
                self.last.clone_from(text);
                found
            }
            Token::Gives => {
                self.key = Some(self.last.clone());
                None
            }
            Token::Open => self.open(at),
            Token::Close => {
                self.around.pop();
                self.key = None;
                // Behind an index, its words belong to the key.
                let before = match (self.near(at, -2), self.near(at, -3), self.near(at, -4)) {
                    (Some(Token::Open), Some(Token::Word(before)), _)
                    | (Some(Token::Open), Some(Token::Close), Some(Token::Text(before))) => Some(before.clone()),
                    _ => None,
                };
                self.last = before.map_or_else(|| self.last.clone(), |before| format!("{before}_{}", self.last));
                None
            }
            Token::Comma | Token::Mark(_) => {
                self.key = None;
                None
            }
        }
    }

    fn within(&self) -> usize {
        self.around.last().map_or(0, |(_, number)| *number)
    }

    fn open(&mut self, at: usize) -> Option<Pair> {
        let before = self.near(at, -1);
        let is_index =
            matches!(self.near(at, 2), Some(Token::Close)) && matches!(before, Some(Token::Word(_) | Token::Close));
        let is_define = matches!(before, Some(Token::Word(word)) if word.eq_ignore_ascii_case("define"));
        // `$config['db']['host']` is one key.
        let within = self.within();
        let name = if is_index { String::new() } else { self.key.take().unwrap_or_default() };
        self.count += usize::from(!is_index);
        self.around.push((name, if is_index { within } else { self.count }));
        // `define('KEY', …)`
        let parts = (self.near(at, 1), self.near(at, 2), self.near(at, 3), self.near(at, 4));
        match parts {
            (
                Some(Token::Text(name)),
                Some(Token::Comma),
                Some(Token::Text(value) | Token::Word(value)),
                Some(Token::Close),
            ) if is_define => Some(pair(0, &[], name, value, self.tokens[at + 3].1.clone())),
            _ => None,
        }
    }
}

/// The tokens of a text, each with its place.
fn tokens(text: &str) -> Vec<(Token, Range<usize>)> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(letter) = text[at..].chars().next() {
        let rest = &text[at..];
        let mut push = |token: Token, length: usize| {
            tokens.push((token, at..at + length));
            length
        };
        let line = || rest.find('\n').unwrap_or(rest.len());
        at += match letter {
            '/' if rest.starts_with("//") => line(),
            '#' if !rest.starts_with("#[") => line(),
            '/' if rest.starts_with("/*") => rest.find("*/").map_or(rest.len(), |end| end + 2),
            '"' | '\'' => match quoted(&rest[1..], letter) {
                Some((value, length)) => push(Token::Text(value), 1 + length),
                None => 1,
            },
            '[' | '(' | '{' => push(Token::Open, 1),
            ']' | ')' | '}' => push(Token::Close, 1),
            '=' if rest.starts_with("=>") => push(Token::Gives, 2),
            '=' | ':' if !rest.starts_with("==") && !rest.starts_with("::") => push(Token::Gives, 1),
            ',' => push(Token::Comma, 1),
            letter if letter.is_alphanumeric() || letter == '_' => {
                let end = rest.find(|next: char| !next.is_alphanumeric() && next != '_' && next != '.');
                let end = end.unwrap_or(rest.len());
                push(Token::Word(rest[..end].to_owned()), end)
            }
            // Parts of a name or of its access, and what may stand between tokens.
            '$' | ' ' | '\t' | '\r' | '\n' => letter.len_utf8(),
            other => push(Token::Mark(other), other.len_utf8()),
        };
    }
    tokens
}
