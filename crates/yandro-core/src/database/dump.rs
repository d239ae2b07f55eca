//! Where statements of a dump end.

/// The place in a text of PostgreSQL's SQL (its lexical structure, chapter 4.1 of its manual).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
enum Within {
    #[default]
    Statement,
    /// A quoted text or name; in a text with `E` before it, a backslash escapes.
    Quotes { quote: u8, escapes: bool },
    /// A comment, which can hold others.
    Comment(usize),
    /// A text in dollars, with its tag.
    Dollars(Vec<u8>),
}

/// Follows a dump line by line, to know where statements end.
#[derive(Clone, Debug, Default)]
pub struct DumpLines {
    within: Within,
    /// Whether something of a statement was there since the last one ended.
    is_begun: bool,
}

impl DumpLines {
    /// Whether no statement is begun.
    pub fn is_between(&self) -> bool {
        self.within == Within::Statement && !self.is_begun
    }

    /// Takes the next line, with its end.
    pub fn take(&mut self, line: &[u8]) {
        let mut at = 0;
        while at < line.len() {
            at += self.step(&line[at..], at.checked_sub(1).map(|before| line[before]));
        }
    }

    /// Takes the next part of a line; `before` is the byte before it.
    fn step(&mut self, rest: &[u8], before: Option<u8>) -> usize {
        match &mut self.within {
            Within::Statement => self.in_statement(rest, before),
            Within::Quotes { quote, escapes } => match rest {
                [b'\\', _, ..] if *escapes => 2,
                [first, second, ..] if first == quote && second == quote => 2,
                [first, ..] if first == quote => {
                    self.within = Within::Statement;
                    1
                }
                _ => 1,
            },
            Within::Comment(depth) => match rest {
                [b'*', b'/', ..] => {
                    *depth -= 1;
                    if *depth == 0 {
                        self.within = Within::Statement;
                    }
                    2
                }
                [b'/', b'*', ..] => {
                    *depth += 1;
                    2
                }
                _ => 1,
            },
            Within::Dollars(tag) if rest.starts_with(tag) => {
                let length = tag.len();
                self.within = Within::Statement;
                length
            }
            Within::Dollars(_) => 1,
        }
    }

    fn in_statement(&mut self, rest: &[u8], before: Option<u8>) -> usize {
        let is_in_word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80;
        match rest {
            [b'-', b'-', ..] => return rest.len(),
            [b'/', b'*', ..] => {
                self.within = Within::Comment(1);
                return 2;
            }
            [quote @ (b'\'' | b'"'), ..] => {
                let escapes = *quote == b'\'' && matches!(before, Some(b'e' | b'E'));
                self.within = Within::Quotes { quote: *quote, escapes };
            }
            [b'$', ..] if !before.is_some_and(is_in_word) => {
                let length = rest[1..].iter().take_while(|byte| is_in_word(**byte)).count();
                if rest.get(length + 1) == Some(&b'$') && !rest[1].is_ascii_digit() {
                    self.within = Within::Dollars(rest[..length + 2].to_vec());
                    self.is_begun = true;
                    return length + 2;
                }
            }
            [b';', ..] => {
                self.is_begun = false;
                return 1;
            }
            _ => {}
        }
        self.is_begun |= !rest[0].is_ascii_whitespace();
        1
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The lines behind which no statement is begun.
    fn ends(text: &str) -> Vec<usize> {
        let mut lines = DumpLines::default();
        let taken = text.split_inclusive('\n').enumerate();
        taken
            .filter_map(|(number, line)| {
                lines.take(line.as_bytes());
                lines.is_between().then_some(number)
            })
            .collect()
    }

    #[test]
    fn statements_end_where_the_server_ends_them() {
        assert_eq!(ends("SELECT 1;\nSELECT\n2;\n\n-- a; 'b\n"), [0, 2, 3, 4]);
        assert_eq!(ends("SELECT 'a;\n;b''c\\';\nSELECT \";\n\";\n"), [1, 3]);
        assert_eq!(ends("SELECT E'a\\';\n';\n"), [1]);
        assert_eq!(ends("/* ; /* ' */ \n */ SELECT 1;\n"), [1]);
        assert_eq!(
            ends("CREATE FUNCTION f() AS $body$\nBEGIN; $x$ ; END;\n$body$ LANGUAGE sql;\nSELECT $1;\n"),
            [2, 3]
        );
        assert_eq!(ends("SELECT a$b$ FROM t;\nSELECT $$;\n$$;\n"), [0, 2]);
        assert_eq!(ends("SELECT 1; SELECT\n2;\n"), [1]);
    }
}
