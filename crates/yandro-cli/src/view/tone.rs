//! Styles within a text, and the one place where text becomes what a terminal gets.
//!
//! A text names its styles by characters of Unicode's private use, so that every escape sequence and
//! control character in it comes from somebody else: a certificate's subject, a log, a folder's name.
//! These are shown escaped.

use std::borrow::Cow;
use std::fmt;

use anstyle::{AnsiColor, Color, RgbColor, Style};

/// A style. `{TONE}` begins it in a format string, `{TONE:#}` ends it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Tone(u8);

impl Tone {
    /// No style.
    pub(crate) const PLAIN: Self = Self(0);
    pub(crate) const GOOD: Self = Self(1);
    pub(crate) const BAD: Self = Self(2);
    pub(crate) const WARN: Self = Self(3);
    pub(crate) const DIM: Self = Self(4);
    pub(crate) const STRONG: Self = Self(5);
    pub(crate) const COMMAND: Self = Self(6);
    /// Black on white, whatever the terminal's colours: for codes that a camera reads.
    pub(crate) const INK: Self = Self(7);

    fn style(self) -> Style {
        match self {
            Self::GOOD => AnsiColor::Green.on_default(),
            Self::BAD => AnsiColor::Red.on_default().bold(),
            Self::WARN => AnsiColor::Yellow.on_default(),
            Self::DIM => Style::new().dimmed(),
            Self::STRONG => Style::new().bold(),
            Self::COMMAND => AnsiColor::Cyan.on_default(),
            Self::INK => Style::new()
                .fg_color(Some(Color::Rgb(RgbColor(0, 0, 0))))
                .bg_color(Some(Color::Rgb(RgbColor(255, 255, 255)))),
            _ => Style::new(),
        }
    }
}

/// The first of the characters that name styles: U+10FF00 ends a style, the ones after it begin one.
const FIRST: u32 = 0x0010_FF00;
/// How many there are.
const TONES: u32 = 8;

impl fmt::Display for Tone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let number = if f.alternate() { 0 } else { u32::from(self.0) };
        match char::from_u32(FIRST + number) {
            Some(mark) if *self != Self::PLAIN => fmt::Write::write_char(f, mark),
            _ => Ok(()),
        }
    }
}

/// The style that a character begins; the plain one for the end of any.
fn tone_of(c: char) -> Option<Tone> {
    let number = u32::from(c).checked_sub(FIRST).filter(|number| *number < TONES)?;
    u8::try_from(number).ok().map(Tone)
}

/// A text for a terminal, without styles.
pub(crate) fn plain(text: &str) -> String {
    rendered(text, Rendering::default()).into_owned()
}

/// The terminal's abilities.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Rendering {
    /// It shows styles.
    pub(crate) styles: bool,
    /// It follows hyperlinks.
    pub(crate) links: bool,
}

/// A text for the terminal: with escape sequences for styles and hyperlinks (OSC 8) if it can show them, and without
/// any others.
pub(crate) fn rendered(text: &str, rendering: Rendering) -> Cow<'_, str> {
    if !rendering.links && is_plain(text) {
        // Most of all, and megabytes of JSON.
        return text.into();
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, url)) = rendering.links.then(|| first_url(rest)).flatten() {
        push_rendered(&mut out, before, rendering.styles);
        out += &format!("\x1b]8;;{url}\x1b\\{url}\x1b]8;;\x1b\\");
        rest = &rest[before.len() + url.len()..];
    }
    push_rendered(&mut out, rest, rendering.styles);
    out.into()
}

/// Whether nothing of a text has to be changed for a terminal.
fn is_plain(text: &str) -> bool {
    text.bytes().all(|byte| is_printable(byte) || matches!(byte, b'\n' | b'\t'))
}

/// The first URL of a text that is safe within an escape sequence, with the text before it.
fn first_url(text: &str) -> Option<(&str, &str)> {
    let begin = [text.find("https://"), text.find("http://")].into_iter().flatten().min()?;
    let is_of_url = |c: char| c.is_ascii_alphanumeric() || "-._~:/?#[]@!$&+,;=%".contains(c);
    let rest = &text[begin..];
    let end = rest.find(|c| !is_of_url(c)).unwrap_or(rest.len());
    let url = rest[..end].trim_end_matches(['.', ',', ':', ';', '?', '!']);
    Some((&text[..begin], url))
}

fn push_rendered(out: &mut String, text: &str, styled: bool) {
    if is_plain(text) {
        out.push_str(text);
        return;
    }
    for c in text.chars() {
        match tone_of(c) {
            Some(_) if !styled => {}
            Some(Tone::PLAIN) => *out += "\x1b[0m",
            Some(tone) => *out += &tone.style().render().to_string(),
            None if c == '\n' || c == '\t' => out.push(c),
            None => push_shown(out, c),
        }
    }
}

/// A value that has to fit in one line: line ends and tabs are escaped as well.
pub(crate) fn in_one_line(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if c == '\n' || c == '\t' { out.extend(c.escape_default()) } else { push_shown(&mut out, c) }
    }
    out
}

/// JSON in which the strings hold no character that a terminal obeys (RFC 8259 section 7).
pub(crate) fn json(text: &str) -> Cow<'_, str> {
    if text.bytes().all(is_printable) || !text.chars().any(is_obeyed) {
        return text.into();
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if is_obeyed(c) { out += &format!("\\u{:04x}", u32::from(c)) } else { out.push(c) }
    }
    out.into()
}

/// Whether a byte is printable ASCII, of which a terminal obeys nothing.
fn is_printable(byte: u8) -> bool {
    (b' '..=b'~').contains(&byte)
}

fn push_shown(out: &mut String, c: char) {
    match u32::from(c) {
        _ if !is_obeyed(c) => out.push(c),
        code @ 0..0x100 => *out += &format!("\\x{code:02x}"),
        code => *out += &format!("\\u{{{code:x}}}"),
    }
}

/// Whether a terminal does something else with a character than show it: control characters (C0, C1,
/// DEL) and those that change the direction of text (Unicode Standard Annex 9).
fn is_obeyed(c: char) -> bool {
    let is_direction =
        matches!(c, '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    c.is_control() || is_direction
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn urls_are_links_and_nothing_hostile_gets_into_one() {
        let links = Rendering { styles: false, links: true };
        let link = |url: &str| format!("\x1b]8;;{url}\x1b\\{url}\x1b]8;;\x1b\\");
        let url = "https://saltmarsh.test/a?b=c";
        assert_eq!(rendered(&format!("see {url}."), links), format!("see {}.", link(url)));
        assert_eq!(
            rendered("http://a.test\x1b\\x, https://b.test", links),
            format!("{}\\x1b\\x, {}", link("http://a.test"), link("https://b.test"))
        );
        assert_eq!(rendered("no https:/ here", links), "no https:/ here");
    }

    #[test]
    fn styles_are_rendered_and_nothing_else_reaches_a_terminal() {
        let hostile = "a\x1b[31m\x07\r\u{9b}2J\u{7f}\u{202e}gpj\n\tb";
        let text = format!("{}{hostile}{:#}", Tone::GOOD, Tone::GOOD);
        let shown = "a\\x1b[31m\\x07\\x0d\\x9b2J\\x7f\\u{202e}gpj\n\tb";
        assert_eq!(plain(&text), shown);
        let styles = Rendering { styles: true, links: false };
        assert_eq!(rendered(&text, styles), format!("\x1b[32m{shown}\x1b[0m"));
        assert_eq!(in_one_line("a\nb\t\x1b"), "a\\nb\\t\\x1b");
        assert_eq!(format!("{}x{:#}", Tone::PLAIN, Tone::PLAIN), "x");
        let value = serde_json::json!({ "name": hostile }).to_string();
        let plain = json(&value);
        assert!(plain.chars().all(|c| !is_obeyed(c)), "{plain}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&plain).unwrap()["name"], hostile);
    }
}
