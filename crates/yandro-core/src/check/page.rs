//! Addresses in pages and redirects.

use std::collections::BTreeMap;

use html5gum::emitters::default::DefaultEmitter;
use html5gum::{Token, Tokenizer};

use super::php_fault::php_fault;
use crate::config::Place;
use crate::name::HostName;

/// How much of a page is looked at: its head is well within that.
const LOOKED_AT: usize = 65_536;

/// Addresses that a page gives as its own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Page {
    /// The addresses that it gives as its own, absolute.
    pub own_addresses: Vec<OwnAddress>,
    /// The schemes and hosts that the page loads from or sends forms to, such as `http://localhost:8080`, with the
    /// number of places.
    pub loaded: BTreeMap<String, usize>,
    /// Whether it is a list of a folder's files, as servers make them.
    pub is_listing: bool,
    /// Whether it is the source of a PHP file.
    pub is_php_source: bool,
    /// A fault of PHP's that it shows, where PHP is set to show them: what it says, and where it is.
    pub php_fault: Option<(String, Place)>,
}

/// An address that a page gives as its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OwnAddress {
    /// The base of all its relative links (`<base href>`).
    Base(String),
    /// Its address for search engines (`<link rel="canonical">`, RFC 6596).
    Canonical(String),
}

impl Page {
    /// Looks at the beginning of a page, whatever it is.
    pub fn read(body: &[u8]) -> Self {
        let text = String::from_utf8_lossy(&body[..body.len().min(LOOKED_AT)]);
        let mut page = Self { is_php_source: text.contains("<?php"), php_fault: shown_fault(&text), ..Self::default() };
        read_tags(&text, &mut page);
        // Apache httpd and nginx title the list of the document root so, and link to the page that they don't send.
        page.is_listing = text.contains("<title>Index of /</title>") && text.contains("href=\"index.htm");
        page
    }
}

/// A fault that PHP writes into its page, in HTML or as plain text.
fn shown_fault(text: &str) -> Option<(String, Place)> {
    let at = ["Fatal error</b>:", "Parse error</b>:", "\nFatal error:", "\nParse error:"]
        .iter()
        .find_map(|head| text.find(head))?;
    let plain = ["<b>", "</b>", "<br />"].iter().fold(text[at..].to_owned(), |text, tag| text.replace(tag, ""));
    php_fault(&format!("PHP {}", plain.trim_start()))
}

/// Reads a page's tags, as browsers tokenize them (HTML, section 13.2.5): nothing within scripts, styles and comments
/// is a tag.
fn read_tags(text: &str, page: &mut Page) {
    let mut emitter = DefaultEmitter::default();
    emitter.naively_switch_states(true);
    for token in Tokenizer::new_with_emitter(text, emitter) {
        let Ok(Token::StartTag(tag)) = token else { continue };
        let attributes: Vec<(String, String)> =
            tag.attributes.iter().map(|(name, value)| (lossy(name), lossy(value))).collect();
        let of = |name: &str| attributes.iter().find(|(own, _)| own == name).map(|(_, value)| value.trim().to_owned());
        let name = lossy(&tag.name);
        let rel = of("rel").unwrap_or_default().to_ascii_lowercase();
        match (name.as_str(), of("href").filter(|href| href.contains("://"))) {
            ("base", Some(address)) => page.own_addresses.push(OwnAddress::Base(address)),
            ("link", Some(address)) if rel == "canonical" => page.own_addresses.push(OwnAddress::Canonical(address)),
            ("link", Some(address)) if is_loaded(&rel) => page.take_loaded(&address),
            _ => {}
        }
        if let Some(address) = LOADING.iter().find(|(tag, _)| *tag == name).and_then(|(_, attribute)| of(attribute)) {
            page.take_loaded(&address);
        }
    }
}

/// Tags by which a page loads something or sends a form, each with the attribute that has the address.
const LOADING: [(&str, &str); 9] = [
    ("script", "src"),
    ("img", "src"),
    ("iframe", "src"),
    ("source", "src"),
    ("video", "src"),
    ("audio", "src"),
    ("embed", "src"),
    ("object", "data"),
    ("form", "action"),
];

/// Whether a link of this kind is loaded with the page.
fn is_loaded(rel: &str) -> bool {
    rel.split_ascii_whitespace()
        .any(|word| ["stylesheet", "icon", "preload", "modulepreload", "manifest"].contains(&word))
}

fn lossy(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

impl Page {
    /// Counts an absolute address that the page loads or sends to, by its scheme and host.
    fn take_loaded(&mut self, address: &str) {
        let Some((scheme, rest)) = address.split_once("://") else { return };
        let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
        *self.loaded.entry(format!("{}://{host}", scheme.to_ascii_lowercase())).or_default() += 1;
    }
}

/// The target of a redirect's `Location` (RFC 9110 section 10.2.2), relative to a page of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RedirectTarget {
    /// To a path of the same name.
    Path(String),
    /// To a path of another name of the site, over HTTPS.
    OtherName(HostName, String),
    /// Out of the site, or out of HTTPS.
    Away,
}

/// The page that a redirect comes from.
#[derive(Clone, Copy, Debug)]
pub struct RedirectSource<'a> {
    /// The site's names.
    pub names: &'a [HostName],
    /// The name that was asked for.
    pub name: &'a HostName,
    /// `http` or `https`.
    pub scheme: &'a str,
    /// The ports on which the site answers over that scheme; a redirect to another one leads away.
    pub ports: &'a [u16],
    /// The path that was asked for.
    pub path: &'a str,
}

/// Reads a `Location`.
pub fn target(location: &str, from: RedirectSource<'_>) -> RedirectTarget {
    let RedirectSource { names, name, scheme, ports, path } = from;
    let (to_scheme, rest) = match location.split_once("://") {
        Some((other, rest)) if other.eq_ignore_ascii_case(scheme) => (scheme, rest),
        Some((other, rest)) if other.eq_ignore_ascii_case("https") && scheme == "http" => ("https", rest),
        Some(_) => return RedirectTarget::Away,
        None => match location.strip_prefix("//") {
            Some(rest) => (scheme, rest),
            None if location.starts_with('/') => return RedirectTarget::Path(location.to_owned()),
            None if location.starts_with('?') => {
                return RedirectTarget::Path(format!("{}{location}", path.split('?').next().unwrap_or("/")));
            }
            None => {
                let folder = path.split('?').next().unwrap_or("/").rsplit_once('/').map_or("", |(folder, _)| folder);
                return RedirectTarget::Path(format!("{folder}/{location}"));
            }
        },
    };
    let (authority, below) = match rest.find(['/', '?', '#']) {
        Some(at) => rest.split_at(at),
        None => (rest, ""),
    };
    let with_port = authority.rsplit_once(':').and_then(|(host, port)| Some((host, port.parse::<u16>().ok()?)));
    let (host, port) = with_port.unwrap_or((authority, if to_scheme == "https" { 443 } else { 80 }));
    if to_scheme == scheme && !ports.contains(&port) {
        return RedirectTarget::Away;
    }
    let below = below.split('#').next().unwrap_or_default();
    let below = if below.starts_with('/') { below.to_owned() } else { format!("/{below}") };
    if host.eq_ignore_ascii_case(name.as_str()) {
        return RedirectTarget::Path(below);
    }
    match names.iter().find(|own| host.eq_ignore_ascii_case(own.as_str())) {
        Some(other) => RedirectTarget::OtherName(other.clone(), below),
        None => RedirectTarget::Away,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_is_read_as_browsers_read_it() {
        let page = b"<!doctype html><head><BASE target=x href='http://localhost:8080/app/'><link rel=\"stylesheet\" href=\"https://cdn.test/x.css\"><link href=https://old.test/ rel=canonical><base href=\"/here\">";
        let base = OwnAddress::Base("http://localhost:8080/app/".into());
        assert_eq!(Page::read(page).own_addresses, [base, OwnAddress::Canonical("https://old.test/".into())]);
        let page = b"<script>var a = '<base href=http://a.test/>'</script><!-- <img src=http://b.test/> -->\
            <img src='HTTP://c.test/1.png'><img src=http://c.test/2.png><script src=/own.js></script>\
            <link rel='stylesheet' href=http://localhost:8080/x.css><link rel=next href=http://d.test/>\
            <form action=https://saltmarsh.test/login></form>";
        let loaded = Page::read(page).loaded;
        let loaded: Vec<(&str, usize)> = loaded.iter().map(|(origin, count)| (origin.as_str(), *count)).collect();
        assert_eq!(loaded, [("http://c.test", 2), ("http://localhost:8080", 1), ("https://saltmarsh.test", 1)]);
        assert!(Page::read(page).own_addresses.is_empty());
        assert!(Page::read(b"<?php echo 1;").is_php_source);
        let shown = b"<h1>Tides</h1><br />\n<b>Fatal error</b>:  Uncaught Exception: no tide table in /srv/index.php:3\nStack trace:\n#0 {main}\n  thrown in <b>/srv/index.php</b> on line <b>3</b><br />\n";
        let fault =
            Some(("Uncaught Exception: no tide table".into(), Place { file: "/srv/index.php".into(), line: 3 }));
        assert_eq!(Page::read(shown).php_fault, fault);
        assert_eq!(
            Page::read(b"\nFatal error: Uncaught Exception: no tide table in /srv/index.php:3\nStack").php_fault,
            fault
        );
        assert_eq!(Page::read(b"<p>How to fix a <b>Fatal error</b>: read it in /srv</p>").php_fault, None);
    }

    #[test]
    fn a_location_leads_where_it_leads() {
        let name = HostName::parse("saltmarsh.test").unwrap();
        let names = [name.clone(), HostName::parse("www.saltmarsh.test").unwrap()];
        let path = |path: &str| RedirectTarget::Path(path.to_owned());
        for (location, expected) in [
            ("/tides", path("/tides")),
            ("https://saltmarsh.test", path("/")),
            ("https://SALTMARSH.test:443/a?b=1#c", path("/a?b=1")),
            ("//saltmarsh.test/x", path("/x")),
            ("low", path("/app/low")),
            ("?page=2", path("/app/high?page=2")),
            ("https://WWW.saltmarsh.test/low?x#y", RedirectTarget::OtherName(names[1].clone(), "/low?x".into())),
            ("http://saltmarsh.test/", RedirectTarget::Away),
            ("https://localhost/", RedirectTarget::Away),
            ("https://saltmarsh.test:9443/", RedirectTarget::Away),
            ("https://saltmarsh.test:8443/", path("/")),
        ] {
            let from = RedirectSource {
                names: &names,
                name: &name,
                scheme: "https",
                ports: &[443, 8443],
                path: "/app/high?x=1",
            };
            assert_eq!(target(location, from), expected, "{location}");
        }
        let from = RedirectSource { names: &names, name: &name, scheme: "https", ports: &[8443], path: "/" };
        assert_eq!(target("https://saltmarsh.test:8443/low", from), path("/low"));
        assert_eq!(target("https://saltmarsh.test/low", from), RedirectTarget::Away);
    }
}
