//! Writing `sites.toml`: splices over the person's own text.
//!
//! Comments, order, spelling, line ends and blank lines of everything that is
//! not changed stay as they are, to the byte.

use std::fmt::Write as _;
use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{Content, DEFAULT_ADDRESS, Https, Listing, Logs, Overrides, Site, Symlinks};
use crate::name::HostName;
use crate::source::{self, Splice};

const HEAD: &str = "# Sites that yandro keeps. Edit this file as you like.\n";

/// The text of a site list with `site` in it: changed where it stands, or added
/// at the end. `text` must be one that [`super::SiteList::parse`] accepts.
pub fn set_site(text: &str, site: &Site) -> String {
    let Some(entry) = find(text, &site.name) else {
        return append(text, site);
    };
    let mut splices = Vec::new();
    let mut added = String::new();
    for (key, value) in fields(site) {
        match (entry.value(key), value) {
            (Some((_, span, old)), Some(new)) if old != Some(new.clone()) => {
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
        let at = entry.end;
        if !text[..at].ends_with('\n') {
            added.insert_str(0, source::line_end(text.as_bytes()));
            added.truncate(added.trim_end().len());
        }
        splices.push(Splice::insert(at, added));
    }
    spliced(text, &splices)
}

/// The text of a site list without the site of this name. A comment right above
/// the site goes with it; one that a blank line sets apart stays, and so does
/// the head of the file.
pub fn remove_site(text: &str, name: &HostName) -> String {
    let Some(entry) = find(text, name) else {
        return text.to_owned();
    };
    let mut start = entry.start;
    let comments: Vec<source::Line> =
        source::lines(text.as_bytes()).take_while(|line| line.full.start < entry.start).collect();
    for line in comments.iter().rev() {
        if !text[line.text.clone()].trim_start().starts_with('#') {
            break;
        }
        start = line.full.start;
    }
    if start == 0 {
        start = entry.start;
    }
    // The blank line that set the site apart from the one above it.
    if let Some(line) = comments.iter().find(|line| line.full.end == start)
        && text[line.text.clone()].trim().is_empty()
    {
        start = line.full.start;
    }
    spliced(text, &[Splice::remove(start..entry.end)])
}

/// A value as it stands in the list.
#[derive(Clone, PartialEq)]
enum Value {
    Text(String),
    Texts(Vec<String>),
    Numbers(Vec<u16>),
    Flag(bool),
}

impl Value {
    fn to_toml(&self) -> String {
        match self {
            Self::Text(text) => quoted(text),
            Self::Texts(texts) => format!("[{}]", texts.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", ")),
            Self::Numbers(numbers) => {
                format!("[{}]", numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))
            }
            Self::Flag(flag) => flag.to_string(),
        }
    }

    fn read(value: &DeValue<'_>) -> Option<Self> {
        match value {
            DeValue::String(text) => Some(Self::Text(text.to_string())),
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

/// Every key that yandro knows, with its value for this site.
fn fields(site: &Site) -> [(&'static str, Option<Value>); 19] {
    let text = |text: &dyn ToString| Value::Text(text.to_string());
    let (folder, document_root, upstream) = match &site.content {
        Content::Folder { folder, document_root } => {
            (Some(text(folder)), document_root.as_ref().map(|p| text(p)), None)
        }
        Content::Upstream(upstream) => (None, None, Some(text(upstream))),
    };
    let texts = |texts: Vec<String>| (!texts.is_empty()).then_some(Value::Texts(texts));
    let numbers = |numbers: &[u16]| (!numbers.is_empty()).then(|| Value::Numbers(numbers.to_vec()));
    let word = |is_usual: bool, word: &str| (!is_usual).then(|| Value::Text(word.to_owned()));
    let serving = &site.serving;
    [
        ("name", Some(Value::Text(site.name.to_unicode()))),
        ("aliases", texts(site.aliases.iter().map(HostName::to_unicode).collect())),
        ("folder", folder),
        ("document-root", document_root),
        ("upstream", upstream),
        ("server", site.server.map(|server| Value::Text(server.word().to_owned()))),
        ("https", word(site.https == Https::default(), site.https.word())),
        ("address", (site.address != DEFAULT_ADDRESS).then(|| text(&site.address))),
        ("http-ports", numbers(&serving.http_ports)),
        ("https-ports", numbers(&serving.https_ports)),
        ("by-address", serving.by_address.then_some(Value::Flag(true))),
        ("listing", word(serving.listing == Listing::default(), serving.listing.word())),
        ("overrides", word(serving.overrides == Overrides::default(), serving.overrides.word())),
        ("symlinks", word(serving.symlinks == Symlinks::default(), serving.symlinks.word())),
        ("index", texts(serving.index.clone())),
        ("fallback", serving.fallback.as_ref().map(|path| text(path))),
        ("php", serving.php.as_ref().map(|php| text(php))),
        ("extra", serving.extra.as_ref().map(|path| text(path))),
        ("logs", (serving.logs != Logs::default()).then(|| text(&serving.logs))),
    ]
}

fn append(text: &str, site: &Site) -> String {
    let mut block = String::from("[[site]]\n");
    for (key, value) in fields(site) {
        if let Some(value) = value {
            _ = writeln!(block, "{key} = {}", value.to_toml());
        }
    }
    let separator = match text {
        "" => format!("{HEAD}\n"),
        _ if text.ends_with('\n') => "\n".to_owned(),
        _ => "\n\n".to_owned(),
    };
    let added = (separator + &block).replace('\n', source::line_end(text.as_bytes()));
    format!("{text}{added}")
}

/// Where one `[[site]]` stands.
struct Entry<'a> {
    table: DeTable<'a>,
    /// The start of the header's line.
    start: usize,
    /// The end of the line of its last key.
    end: usize,
}

impl Entry<'_> {
    /// Span of the key, span of the value and the value itself.
    fn value(&self, key: &str) -> Option<(Range<usize>, Range<usize>, Option<Value>)> {
        let (name, value) = self.table.iter().find(|(name, _)| name.get_ref() == key)?;
        Some((name.span(), value.span(), Value::read(value.get_ref())))
    }
}

fn find<'a>(text: &'a str, name: &HostName) -> Option<Entry<'a>> {
    let document = DeTable::parse(text).ok()?.into_inner();
    let (_, sites) = document.into_iter().find(|(key, _)| key.get_ref() == "site")?;
    let DeValue::Array(sites) = sites.into_inner() else { return None };
    sites.into_iter().find_map(|site| {
        let span = site.span();
        let DeValue::Table(table) = site.into_inner() else { return None };
        let is_it = table.iter().any(|(key, value)| {
            key.get_ref() == "name"
                && value.get_ref().as_str().is_some_and(|text| HostName::parse(text).is_ok_and(|own| own == *name))
        });
        let last = table.values().map(|value| Spanned::span(value).end).fold(span.end, usize::max);
        is_it.then(|| Entry {
            table,
            start: whole_lines(text, span.clone()).start,
            end: whole_lines(text, span.start..last).end,
        })
    })
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
fn quoted(text: &str) -> String {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::SiteList;

    fn site(name: &str, folder: &str) -> Site {
        Site::new(HostName::parse(name).unwrap(), Content::folder(folder))
    }

    const BY_HAND: &str = "# Ferries, all of them\r\n\r\n# timetable\r\n[[site]]\r\nname = 'Saltmarsh.test'   # the line\r\nfolder = \"/srv/saltmarsh\"\r\n\r\n\r\n# kept: see the wiki\r\n\r\n# the handbook\r\n[[site]]\r\nfolder = \"/srv/depot\"\r\nname = \"depot.saltmarsh.test\"";

    #[test]
    fn a_change_touches_its_own_value_only() {
        let mut changed = site("saltmarsh.test", "/srv/tides \"new\"\\");
        changed.aliases.push(HostName::parse("www.saltmarsh.test").unwrap());
        let text = set_site(BY_HAND, &changed);
        let expected = BY_HAND.replace("'Saltmarsh.test'", "\"saltmarsh.test\"").replace(
            "\"/srv/saltmarsh\"\r\n",
            "\"/srv/tides \\\"new\\\"\\\\\"\r\naliases = [\"www.saltmarsh.test\"]\r\n",
        );
        assert_eq!(text, expected);
        assert_eq!(SiteList::parse(&text).unwrap().sites[0], changed);
        assert_eq!(set_site(&text, &changed), text);
    }

    #[test]
    fn a_site_goes_with_its_own_comment_and_no_other() {
        let rest = remove_site(BY_HAND, &HostName::parse("depot.saltmarsh.test").unwrap());
        assert!(rest.ends_with("# kept: see the wiki\r\n"), "{rest:?}");
        let rest = remove_site(BY_HAND, &HostName::parse("saltmarsh.test").unwrap());
        assert!(rest.starts_with("# Ferries, all of them\r\n\r\n\r\n# kept"), "{rest:?}");
    }

    #[test]
    fn added_and_removed_again_leaves_the_bytes() {
        for text in ["# mine\n", "[[site]]\nname = \"a.test\"\nfolder = \"/a\"\n", "# mine\r\n\r\n"] {
            let new = site("fähre.test", "/srv/fähre");
            let longer = set_site(text, &new);
            assert_eq!(SiteList::parse(&longer).unwrap().site(&new.name), Some(&new));
            assert_eq!(remove_site(&longer, &new.name), text);
        }
    }

    #[test]
    fn what_does_not_parse_is_shown() {
        let text = "[[site]]\nname = \"saltmarsh.test\"\nfolder = \"/srv/a\"\n\n[[site]]\nname = \"b.test\"\naliases = [\"SALTMARSH.test\"]\nfolder = \"/srv/b\"\n";
        insta::assert_snapshot!(SiteList::parse(text).unwrap_err(), @r#"
        `saltmarsh.test` already belongs to the site `saltmarsh.test`
          7 | aliases = ["SALTMARSH.test"]
            |            ^^^^^^^^^^^^^^^^
        "#);
        insta::assert_snapshot!(SiteList::parse("[[site]]\nname = \"a.test\"\nfoldr = \"/x\"").unwrap_err(), @r#"
        unknown field `foldr`, expected one of `name`, `aliases`, `folder`, `document-root`, `upstream`, `server`, `address`, `https`, `http-ports`, `https-ports`, `by-address`, `listing`, `overrides`, `symlinks`, `index`, `fallback`, `php`, `extra`, `logs`
          3 | foldr = "/x"
            | ^^^^^
        "#);
        insta::assert_snapshot!(SiteList::parse("[[site]]\nname = \"a.test\"\nfolder = x").unwrap_err(), @r#"
        string values must be quoted, expected literal string
          3 | folder = x
            |          ^
        "#);
    }
}
