//! Sites and the site list.

mod certificate;
mod draft;
mod edit;
mod invalid;
mod list;
mod list_id;
mod options;
mod patch;
mod project;
mod reading;
mod scheme;
mod server;
mod serving;
mod step;
mod upstream;
mod variable;

pub(crate) use crate::servers::ServerKind;
pub use certificate::CertificateTerms;
pub(crate) use certificate::checked_days;
pub use edit::set_site;
pub(crate) use edit::{is_bare, remove_sites, replace_site};
pub use invalid::InvalidValue;
pub(crate) use list::IndexedList;
pub use list::{ListError, SiteList};
pub use list_id::ListId;
pub use options::{Group, MapArgument, OPTIONS, SiteOption, ValueForm, options_page};
pub use patch::{ServerFacts, SitePatch, SiteRefusal};
pub use project::{PROJECT_FILE, ProjectSite, project_sites, with_own_choices};
pub use scheme::Scheme;
pub use server::{ServerId, ServerName, ServerNameError};
pub use serving::{Caching, FastCgi, Http2, Listing, Logs, Overrides, Serving, Symlinks, UpstreamHost};
pub(crate) use serving::{checked_fallback, checked_index};
pub use step::{SiteStep, site_steps};
pub use upstream::{Upstream, UpstreamError};
pub use variable::{SiteVariable, VariableValue};

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
    /// What answers: a folder, or an upstream.
    pub content: Content,
    /// Target of the names.
    pub address: IpAddr,
    /// The web server; `None` leaves the choice to each run.
    pub server: Option<ServerId>,
    /// Over which protocols.
    pub https: Https,
    /// Whether it is out of use for now, with all that belongs to it kept.
    pub disabled: bool,
    /// The terms of its certificate beyond its names.
    pub certificate: CertificateTerms,
    /// How, beyond that.
    pub serving: Serving,
}

/// Content of a site.
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

/// Over which protocols a site answers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Deserialize, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Https {
    /// HTTPS; plain HTTP leads there.
    #[default]
    Only,
    /// Both alike.
    Both,
    /// Only HTTP, without a certificate.
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
    /// Whether a name of the site needs no line in the hosts file on this server: clients take names below `localhost`
    /// for this computer by themselves (RFC 6761 section 6.3), and the built-in server needs nothing else of root's.
    pub fn is_known_by_itself(&self, name: &HostName, server: ServerId) -> bool {
        let is_usual = self.address == DEFAULT_ADDRESS && !self.serving.by_address;
        server == ServerId::BuiltIn && is_usual && name.is_below_or_equal("localhost")
    }

    /// The same site with another name, and with the socket of its own pool of php-fpm if it has one.
    #[must_use]
    pub fn named(&self, name: &HostName) -> Self {
        let mut site = Self { name: name.clone(), ..self.clone() };
        if let Some(version) = &site.serving.php_as_owner {
            site.serving.php = Some(FastCgi::of_pool(version, name));
        }
        site
    }

    /// A site with nothing but a name and what answers.
    pub fn new(name: HostName, content: Content) -> Self {
        Self {
            name,
            aliases: Vec::new(),
            content,
            address: DEFAULT_ADDRESS,
            server: None,
            https: Https::default(),
            disabled: false,
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
            Content::Upstream(upstream) if upstream.is_secure() => Some(upstream.host_port().port()),
            _ => None,
        }
    }

    /// The name, then the aliases.
    pub fn names(&self) -> impl Iterator<Item = &HostName> {
        std::iter::once(&self.name).chain(&self.aliases)
    }

    /// Whether a name is one label below the site's, and answered like it.
    pub fn is_tenant(&self, name: &HostName) -> bool {
        let parent = name.as_str().split_once('.').map(|(_, parent)| parent);
        self.serving.tenants && parent == Some(self.name.as_str())
    }

    /// The names as virtual hosts have them: those of tenants by a pattern.
    pub(crate) fn host_patterns(&self) -> impl Iterator<Item = String> {
        let tenants = self.serving.tenants.then(|| format!("*.{}", self.name));
        self.names().map(ToString::to_string).chain(tenants)
    }

    /// The beginning of the site's own URL, without a path, on a server that publishes its ports so.
    pub fn origin(&self, published: impl Fn(u16) -> u16) -> String {
        let (scheme, port, usual) = match self.https_ports(443).first() {
            Some(port) => ("https", *port, 443),
            None => ("http", self.http_ports(80).first().copied().unwrap_or(80), 80),
        };
        match published(port) {
            port if port == usual => format!("{scheme}://{}", self.name),
            port => format!("{scheme}://{}:{port}", self.name),
        }
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
            assert_eq!(Upstream::parse(given).unwrap().host_port().to_string(), authority);
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
