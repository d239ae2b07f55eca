//! Sites and the site list.

mod certificate;
mod draft;
mod edit;
mod list;
mod list_id;
mod options;
mod patch;
mod server;
mod serving;

pub use crate::servers::ServerKind;
pub use certificate::{CertificateTerms, checked_days};
pub use edit::{is_bare, remove_site, set_site};
pub use list::{ListError, SiteList};
pub use list_id::ListId;
pub use options::{Argument, Form, Group, OPTIONS, SiteOption, option, options_page};
pub use patch::{Facts, Refusal, SitePatch};
pub use server::{ServerId, ServerName, ServerNameError};
pub use serving::{
    FastCgi, Listing, Logs, Overrides, Serving, Symlinks, UpstreamHost, checked_fallback, checked_index,
};

use core::net::{IpAddr, Ipv4Addr};

use camino::{Utf8Path, Utf8PathBuf};

use crate::name::HostName;

/// The address that a site has when nothing else is said.
pub const DEFAULT_ADDRESS: IpAddr = IpAddr::V4(Ipv4Addr::LOCALHOST);

/// A name, its aliases, and what answers there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Site {
    /// The site's name.
    pub name: HostName,
    /// Further names that answer alike.
    pub aliases: Vec<HostName>,
    /// What answers.
    pub content: Content,
    /// Where the name points to.
    pub address: IpAddr,
    /// Which web server serves it; `None` leaves the choice to each run.
    pub server: Option<ServerId>,
    /// Over which protocols.
    pub https: Https,
    /// What its certificate says beyond its names.
    pub certificate: CertificateTerms,
    /// How, beyond that.
    pub serving: Serving,
}

/// What a site answers with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// The files of a project's folder.
    Folder {
        /// The project's folder, absolute.
        folder: Utf8PathBuf,
        /// The part of it that is served, relative to it; `None` for all of it.
        document_root: Option<Utf8PathBuf>,
    },
    /// A running server that requests are passed on to.
    Upstream(Upstream),
}

/// The address of a running server: `http://HOST:PORT`, or `https://HOST:PORT` for one that speaks
/// TLS itself and is asked for at its own port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Upstream {
    host: String,
    port: u16,
    is_secure: bool,
}

/// A text that names no upstream.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is no upstream: give `http://HOST:PORT`, such as `http://127.0.0.1:3000`, without a path")]
pub struct UpstreamError {
    text: String,
}

impl Upstream {
    /// Reads `http://HOST[:PORT]` or `https://HOST[:PORT]` with an optional final slash.
    ///
    /// # Errors
    /// When the scheme is another, the host is neither name nor address, or a
    /// path, a query or credentials are given.
    pub fn parse(text: &str) -> Result<Self, UpstreamError> {
        let error = || UpstreamError { text: text.to_owned() };
        let (rest, is_secure) = match (text.strip_prefix("http://"), text.strip_prefix("https://")) {
            (Some(rest), _) => (rest, false),
            (None, Some(rest)) => (rest, true),
            (None, None) => return Err(error()),
        };
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        let (host, port) = match rest.rsplit_once(':') {
            Some((host, port)) if !port.ends_with(']') => (host, port.parse().map_err(|_| error())?),
            _ => (rest, if is_secure { 443 } else { 80 }),
        };
        let is_v6 = host
            .strip_prefix('[')
            .and_then(|h| h.strip_suffix(']'))
            .is_some_and(|h| h.parse::<core::net::Ipv6Addr>().is_ok());
        let is_known = is_v6
            || host == "localhost"
            || host.parse::<core::net::Ipv4Addr>().is_ok()
            || HostName::parse(host).is_ok_and(|name| name.as_str() == host);
        // Servers read `unix:` as the beginning of a socket's path.
        if !is_known || host == "unix" || port == 0 {
            return Err(error());
        }
        Ok(Self { host: host.to_owned(), port, is_secure })
    }

    /// The host: a name or an address, that of IPv6 in brackets.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Whether it speaks TLS itself: then nothing passes requests on to it.
    pub fn is_secure(&self) -> bool {
        self.is_secure
    }

    /// Its address, if that is what its host is.
    pub fn address(&self) -> Option<IpAddr> {
        self.host.trim_start_matches('[').trim_end_matches(']').parse().ok()
    }

    /// Whether it is on the machine itself that asks.
    pub fn is_loopback(&self) -> bool {
        self.host == "localhost" || self.address().is_some_and(|address| address.is_loopback())
    }

    /// `HOST:PORT`, an IPv6 address in brackets.
    pub fn authority(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }
}

impl std::fmt::Display for Upstream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}://{}:{}", if self.is_secure { "https" } else { "http" }, self.host, self.port)
    }
}

/// Over which protocols a site answers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Deserialize, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Https {
    /// HTTPS; plain HTTP leads there.
    #[default]
    Only,
    /// Both alike.
    Both,
    /// Plain HTTP alone, without a certificate.
    Off,
}

impl Https {
    /// Every choice.
    pub const ALL: [Self; 3] = [Self::Only, Self::Both, Self::Off];

    /// The word for it on the command line and in the site list.
    pub fn word(self) -> &'static str {
        match self {
            Self::Only => "only",
            Self::Both => "both",
            Self::Off => "off",
        }
    }

    /// Whether there is HTTPS at all.
    pub fn is_on(self) -> bool {
        self != Self::Off
    }
}

impl Site {
    /// A site with nothing but a name and what answers.
    pub fn new(name: HostName, content: Content) -> Self {
        Self {
            name,
            aliases: Vec::new(),
            content,
            address: DEFAULT_ADDRESS,
            server: None,
            https: Https::default(),
            certificate: CertificateTerms::default(),
            serving: Serving::default(),
        }
    }

    /// The ports for plain HTTP, on a server where `usual` is the usual one.
    pub fn http_ports(&self, usual: u16) -> Vec<u16> {
        match &self.serving.http_ports[..] {
            _ if self.own_tls().is_some() => Vec::new(),
            [] => vec![usual],
            ports => ports.to_vec(),
        }
    }

    /// The ports for HTTPS, on a server where `usual` is the usual one; none for a site without.
    pub fn https_ports(&self, usual: u16) -> Vec<u16> {
        match &self.serving.https_ports[..] {
            _ if !self.https.is_on() => Vec::new(),
            _ if self.own_tls().is_some() => self.own_tls().into_iter().collect(),
            [] => vec![usual],
            ports => ports.to_vec(),
        }
    }

    /// The port of an upstream that speaks TLS itself, if the site has such.
    pub fn own_tls(&self) -> Option<u16> {
        match &self.content {
            Content::Upstream(upstream) if upstream.is_secure => Some(upstream.port),
            _ => None,
        }
    }

    /// The name, then the aliases.
    pub fn names(&self) -> impl Iterator<Item = &HostName> {
        std::iter::once(&self.name).chain(&self.aliases)
    }

    /// The folder that is served, absolute; `None` for an upstream.
    pub fn document_root(&self) -> Option<Utf8PathBuf> {
        match &self.content {
            Content::Folder { folder, document_root } => {
                Some(document_root.as_ref().map_or_else(|| folder.clone(), |below| folder.join(below)))
            }
            Content::Upstream(_) => None,
        }
    }
}

impl Content {
    /// A folder that is served whole.
    pub fn folder(folder: impl AsRef<Utf8Path>) -> Self {
        Self::Folder { folder: folder.as_ref().to_owned(), document_root: None }
    }
}

impl std::fmt::Display for Content {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Folder { folder, document_root: None } => folder.fmt(f),
            Self::Folder { folder, document_root: Some(below) } => folder.join(below).fmt(f),
            Self::Upstream(upstream) => upstream.fmt(f),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn upstreams_are_an_origin_and_nothing_more() {
        for (given, authority) in [
            ("http://127.0.0.1:3000", "127.0.0.1:3000"),
            ("http://localhost:3000/", "localhost:3000"),
            ("http://[::1]:3000", "[::1]:3000"),
            ("http://[::1]", "[::1]:80"),
            ("http://booking.saltmarsh.test", "booking.saltmarsh.test:80"),
            ("https://localhost", "localhost:443"),
        ] {
            assert_eq!(Upstream::parse(given).unwrap().authority(), authority);
        }
        for given in [
            "ftp://a.test",
            "http://",
            "https://",
            "http://a b:1",
            "http://a/b",
            "http://a:0",
            "http://u@a:1",
            "http://a:1\" x",
        ] {
            assert!(Upstream::parse(given).is_err(), "{given}");
        }
    }
}
