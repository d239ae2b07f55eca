//! What a page says of itself, and where a redirect leads.

use super::observation::{OwnAddress, Page};
use super::php_fault::php_fault;
use crate::config::Place;
use crate::name::HostName;

/// How much of a page is looked at: its head is well within that.
const LOOKED_AT: usize = 65_536;

impl Page {
    /// Looks at the beginning of a page, whatever it is.
    pub fn read(body: &[u8]) -> Self {
        let text = String::from_utf8_lossy(&body[..body.len().min(LOOKED_AT)]);
        let (own_addresses, is_php_source) = (own_addresses(&text), text.contains("<?php"));
        Self { own_addresses, is_php_source, php_fault: shown_fault(&text) }
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

/// The addresses of `<base href>` and `<link rel="canonical" href>` (HTML, sections 4.2.3 and 4.6.7.4)
/// that have a scheme and a host.
fn own_addresses(text: &str) -> Vec<OwnAddress> {
    let mut found = Vec::new();
    for tag in text.split('<').skip(1).filter_map(|rest| rest.split('>').next()) {
        let lower = tag.to_ascii_lowercase();
        let is_base = lower.starts_with("base ");
        let is_canonical = lower.starts_with("link ")
            && attribute(tag, "rel").is_some_and(|rel| rel.eq_ignore_ascii_case("canonical"));
        if (is_base || is_canonical)
            && let Some(address) = attribute(tag, "href")
            && address.contains("://")
        {
            let own = if is_base { OwnAddress::Base } else { OwnAddress::Canonical };
            found.push(own(address.to_owned()));
        }
    }
    found
}

/// The value of an attribute of a tag, in quotes or without.
fn attribute<'t>(tag: &'t str, name: &str) -> Option<&'t str> {
    let lower = tag.to_ascii_lowercase();
    let mut from = 0;
    loop {
        let at = from + lower[from..].find(name)?;
        let before = lower[..at].chars().next_back();
        let rest = tag[at + name.len()..].trim_start();
        from = at + name.len();
        let Some(value) = rest.strip_prefix('=').map(str::trim_start) else { continue };
        if !before.is_some_and(char::is_whitespace) {
            continue;
        }
        let quote = value.chars().next().filter(|c| matches!(c, '"' | '\''));
        return match quote {
            Some(quote) => value[1..].split(quote).next(),
            None => value.split(char::is_whitespace).next(),
        };
    }
}

/// Where a redirect's `Location` leads (RFC 9110 section 10.2.2), seen from a page of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RedirectTarget {
    /// To a path of the same name.
    Path(String),
    /// To a path of another name of the site, over HTTPS.
    OtherName(HostName, String),
    /// Out of the site, or out of HTTPS.
    Away,
}

/// Reads a `Location`. `path` is the one that was asked for, `scheme` how.
pub fn target(location: &str, names: &[HostName], name: &HostName, scheme: &str, path: &str) -> RedirectTarget {
    let rest = match location.split_once("://") {
        Some((other, rest)) if other.eq_ignore_ascii_case(scheme) => rest,
        Some((other, rest)) if other.eq_ignore_ascii_case("https") && scheme == "http" => rest,
        Some(_) => return RedirectTarget::Away,
        None => match location.strip_prefix("//") {
            Some(rest) => rest,
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
    let host =
        authority.rsplit_once(':').filter(|(_, port)| port.parse::<u16>().is_ok()).map_or(authority, |(host, _)| host);
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
        ] {
            assert_eq!(target(location, &names, &name, "https", "/app/high?x=1"), expected, "{location}");
        }
    }
}
