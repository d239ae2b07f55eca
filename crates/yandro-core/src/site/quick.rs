//! A quick reader for site lists in the plain form that yandro itself writes.
//!
//! Every command reads the list, and a TOML parser takes several milliseconds for a
//! thousand sites. Lists in plain form (one `key = "value"` or `key = ["a", "b"]` a
//! line, no escapes) are read here in a tenth of that; whatever else there is, right
//! or wrong, gives `None` and is left to the real parser.

use std::ops::Range;

use toml::Spanned;

use super::list::RawSite;
use super::{Https, Listing, Overrides, ServerId, Symlinks, UpstreamHost};

/// The sites of a list in plain form.
pub(super) fn read(text: &str) -> Option<Vec<RawSite<'_>>> {
    let mut sites: Vec<Draft<'_>> = Vec::with_capacity(text.len() / 100);
    let mut at = 0;
    for full in text.split_inclusive('\n') {
        let start = at;
        at += full.len();
        let line = full.strip_suffix('\n').unwrap_or(full);
        let line = line.strip_suffix('\r').unwrap_or(line);
        if line.is_empty() {
            continue;
        }
        // Tabs apart, control characters are faults or need care: not here.
        if line.bytes().any(|byte| byte.is_ascii_control()) {
            return None;
        }
        if line == "[[site]]" {
            sites.push(Draft::default());
        } else if !line.starts_with('#') {
            let (key, value) = line.split_once(" = ")?;
            let value_at = start + key.len() + 3;
            sites.last_mut()?.set(key, value, value_at)?;
        }
    }
    sites.into_iter().map(Draft::finish).collect()
}

type Text<'a> = Spanned<&'a str>;

#[derive(Default)]
struct Draft<'a> {
    name: Option<Text<'a>>,
    aliases: Option<Vec<Spanned<String>>>,
    folder: Option<Text<'a>>,
    document_root: Option<Text<'a>>,
    upstream: Option<Text<'a>>,
    server: Option<Text<'a>>,
    address: Option<Text<'a>>,
    https: Option<Text<'a>>,
    only_here: bool,
}

impl<'a> Draft<'a> {
    fn set(&mut self, key: &str, value: &'a str, at: usize) -> Option<()> {
        let slot = match key {
            "only-here" => return (value == "true" && !std::mem::replace(&mut self.only_here, true)).then_some(()),
            "aliases" => {
                let aliases = list(value, at)?;
                return self.aliases.replace(aliases).is_none().then_some(());
            }
            "name" => &mut self.name,
            "folder" => &mut self.folder,
            "document-root" => &mut self.document_root,
            "upstream" => &mut self.upstream,
            "server" => &mut self.server,
            "address" => &mut self.address,
            "https" => &mut self.https,
            _ => return None,
        };
        // A key that stands twice is a fault.
        slot.replace(string(value, at)?).is_none().then_some(())
    }

    fn finish(self) -> Option<RawSite<'a>> {
        let server = match self.server {
            None => None,
            Some(word) => Some(ServerId::parse(word.get_ref()).ok()?),
        };
        let https = match self.https {
            None => Https::default(),
            Some(word) => *Https::ALL.iter().find(|choice| choice.word() == *word.get_ref())?,
        };
        let owned = |text: Text<'a>| Spanned::new(text.span(), (*text.get_ref()).to_owned());
        let name = self.name?;
        Some(RawSite {
            name: Spanned::new(name.span(), (*name.get_ref()).into()),
            aliases: self.aliases.unwrap_or_default(),
            folder: self.folder.map(owned),
            document_root: self.document_root.map(owned),
            upstream: self.upstream.map(owned),
            server,
            address: self.address.map(owned),
            https,
            // Lists that have any of these are left to the real parser.
            certificate_wildcard: false,
            certificate_addresses: Vec::new(),
            certificate_days: None,
            certificate_key: None,
            http_ports: Vec::new(),
            https_ports: Vec::new(),
            by_address: false,
            only_here: self.only_here,
            listing: Listing::default(),
            overrides: Overrides::default(),
            symlinks: Symlinks::default(),
            upstream_host: UpstreamHost::default(),
            index: Vec::new(),
            fallback: None,
            php: None,
            extra: None,
            logs: None,
        })
    }
}

/// A basic string without escapes, and nothing behind it.
fn string(value: &str, at: usize) -> Option<Text<'_>> {
    let inner = value.strip_prefix('"')?.strip_suffix('"')?;
    let range: Range<usize> = at..at + value.len();
    (!inner.contains(['"', '\\'])).then(|| Spanned::new(range, inner))
}

/// An array of such strings on one line.
fn list(value: &str, at: usize) -> Option<Vec<Spanned<String>>> {
    let inner = value.strip_prefix('[')?.strip_suffix(']')?;
    let mut found = Vec::new();
    let mut offset = at + 1;
    for item in inner.split(", ") {
        let text = string(item, offset)?;
        found.push(Spanned::new(text.span(), (*text.get_ref()).to_owned()));
        offset += item.len() + 2;
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::super::SiteList;
    use super::*;
    use proptest::prelude::*;

    fn line() -> impl Strategy<Value = String> {
        prop_oneof![
            4 => Just("[[site]]".to_owned()),
            3 => r#"(name|aliases|folder|server|address|https|only-here|tide) = ("[a-z]{1,3}(\.test)?"|"/a"|"off"|"apache"|"built-in"|true|\["a\.test", "b\.test"\]|\[\])"#,
            1 => r#"[ \[\]a-z="'#\\,.\t]{0,12}"#,
            1 => Just("# note".to_owned()),
            1 => Just(String::new()),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn what_is_read_quickly_is_what_the_parser_reads(
            lines in proptest::collection::vec(line(), 0..12),
            eol in prop_oneof![Just("\n"), Just("\r\n")],
        ) {
            let text = lines.join(eol);
            if let Some(quick) = read(&text) {
                let full = SiteList::parse_fully(&text);
                prop_assert_eq!(SiteList::of_raw(&text, quick), full);
            }
        }
    }

    #[test]
    fn what_yandro_writes_is_read_quickly() {
        let text = "# Sites\n\n[[site]]\nname = \"a.test\"\naliases = [\"b.test\", \"c.test\"]\nfolder = \"/srv/fähre\"\nserver = \"built-in\"\n";
        assert_eq!(SiteList::of_raw(text, read(text).unwrap()), SiteList::parse_fully(text));
        assert!(SiteList::parse(text).is_ok());
    }
}
