//! Reading `sites.toml`.

use core::net::IpAddr;
use std::collections::HashMap;
use std::fmt;
use std::ops::Range;

use camino::Utf8PathBuf;
use serde::Deserialize;
use toml::Spanned;

use super::quick;
use super::serving::{checked_path, checked_port};
use super::{
    CertificateTerms, Content, DEFAULT_ADDRESS, FastCgi, Https, Listing, Logs, Overrides, ServerId, Serving, Site,
    Symlinks, Upstream, UpstreamHost, checked_days, checked_fallback, checked_index,
};
use crate::name::HostName;
use crate::pki::KeyKind;
use crate::source::Excerpt;

/// The person's own record of their sites, in the order of the file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SiteList {
    /// The sites, no two of which share a name or an alias.
    pub sites: Vec<Site>,
}

/// What is wrong with a site list, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}\n{excerpt}")]
pub struct ListError {
    message: String,
    /// The line that is meant.
    pub excerpt: Excerpt,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawList<'a> {
    #[serde(default, borrow)]
    site: Vec<RawSite<'a>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawSite<'a> {
    #[serde(borrow)]
    pub(super) name: Spanned<std::borrow::Cow<'a, str>>,
    #[serde(default)]
    pub(super) aliases: Vec<Spanned<String>>,
    pub(super) folder: Option<Spanned<String>>,
    pub(super) document_root: Option<Spanned<String>>,
    pub(super) upstream: Option<Spanned<String>>,
    pub(super) server: Option<ServerId>,
    pub(super) address: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) https: Https,
    #[serde(default)]
    pub(super) certificate_wildcard: bool,
    #[serde(default)]
    pub(super) certificate_addresses: Vec<Spanned<String>>,
    pub(super) certificate_days: Option<Spanned<u16>>,
    pub(super) certificate_key: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) http_ports: Vec<Spanned<u16>>,
    #[serde(default)]
    pub(super) https_ports: Vec<Spanned<u16>>,
    #[serde(default)]
    pub(super) by_address: bool,
    #[serde(default)]
    pub(super) only_here: bool,
    #[serde(default)]
    pub(super) listing: Listing,
    #[serde(default)]
    pub(super) overrides: Overrides,
    #[serde(default)]
    pub(super) symlinks: Symlinks,
    #[serde(default)]
    pub(super) upstream_host: UpstreamHost,
    #[serde(default)]
    pub(super) index: Vec<Spanned<String>>,
    pub(super) fallback: Option<Spanned<String>>,
    pub(super) php: Option<Spanned<String>>,
    pub(super) extra: Option<Spanned<String>>,
    pub(super) logs: Option<Spanned<String>>,
}

impl SiteList {
    /// Reads the text of a site list.
    ///
    /// # Errors
    /// A [`ListError`] for text that is no TOML, an unknown key, a wrong value,
    /// or a name that stands twice, with the line that is meant.
    pub fn parse(text: &str) -> Result<Self, ListError> {
        match quick::read(text) {
            Some(sites) => Self::of_raw(text, sites),
            None => Self::parse_fully(text),
        }
    }

    /// Reads any TOML.
    pub(super) fn parse_fully(text: &str) -> Result<Self, ListError> {
        let raw: RawList<'_> = toml::from_str(text).map_err(|error| {
            let span = error.span().unwrap_or(0..0);
            ListError::new(text, &span, error.message())
        })?;
        Self::of_raw(text, raw.site)
    }

    /// The sites as they are meant, once their text is taken apart.
    pub(super) fn of_raw(text: &str, raw: Vec<RawSite<'_>>) -> Result<Self, ListError> {
        let mut list = Self { sites: Vec::with_capacity(raw.len()) };
        let mut spans = Vec::with_capacity(raw.len());
        for raw in raw {
            spans.extend(std::iter::once(raw.name.span()).chain(raw.aliases.iter().map(Spanned::span)));
            list.sites.push(raw.into_site(text)?);
        }
        let mut taken: HashMap<&HostName, &HostName> = HashMap::with_capacity(spans.len());
        let names = list.sites.iter().flat_map(|site| site.names().map(move |name| (name, &site.name)));
        for ((name, site), span) in names.zip(&spans) {
            if let Some(other) = taken.insert(name, site) {
                let message = format!("`{name}` already belongs to the site `{other}`");
                return Err(ListError::new(text, span, message));
            }
        }
        Ok(list)
    }

    /// The site with this name.
    pub fn site(&self, name: &HostName) -> Option<&Site> {
        self.sites.iter().find(|site| site.name == *name)
    }

    /// The site that answers to `name`, as its name or as an alias.
    pub fn owner(&self, name: &HostName) -> Option<&Site> {
        self.sites.iter().find(|site| site.names().any(|own| own == name))
    }

    /// The list with `site` in the place of the site of that name, or at the end.
    pub fn with(&self, site: Site) -> Self {
        let mut sites = self.sites.clone();
        match sites.iter_mut().find(|old| old.name == site.name) {
            Some(old) => *old = site,
            None => sites.push(site),
        }
        Self { sites }
    }

    /// The list without the site of that name.
    pub fn without(&self, name: &HostName) -> Self {
        Self { sites: self.sites.iter().filter(|site| site.name != *name).cloned().collect() }
    }
}

impl RawSite<'_> {
    fn into_site(self, text: &str) -> Result<Site, ListError> {
        let name = spanned(text, &self.name, HostName::parse)?;
        let aliases =
            self.aliases.iter().map(|alias| spanned(text, alias, HostName::parse)).collect::<Result<_, _>>()?;
        let upstream_span = self.upstream.as_ref().map(Spanned::span);
        let content = match (self.folder, self.upstream) {
            (Some(folder), None) => Content::Folder {
                folder: spanned(text, &folder, absolute)?,
                document_root: self.document_root.map(|below| spanned(text, &below, relative)).transpose()?,
            },
            (None, Some(upstream)) => {
                if let Some(root) = self.document_root {
                    return Err(ListError::new(text, &root.span(), "an upstream has no document root"));
                }
                Content::Upstream(spanned(text, &upstream, Upstream::parse)?)
            }
            (Some(_), Some(upstream)) => {
                return Err(ListError::new(text, &upstream.span(), "a site has a `folder` or an `upstream`, not both"));
            }
            (None, None) => {
                return Err(ListError::new(text, &self.name.span(), "a site needs a `folder` or an `upstream`"));
            }
        };
        let address = self.address.map(|address| spanned(text, &address, parse_address)).transpose()?;
        let address = address.unwrap_or(DEFAULT_ADDRESS);
        let ports = |ports: &[Spanned<u16>]| -> Result<Vec<u16>, ListError> {
            let checked = |port: &Spanned<u16>| {
                checked_port(*port.get_ref()).map_err(|error| ListError::new(text, &port.span(), error))
            };
            ports.iter().map(checked).collect()
        };
        let serving = Serving {
            http_ports: ports(&self.http_ports)?,
            https_ports: ports(&self.https_ports)?,
            by_address: self.by_address,
            only_here: self.only_here,
            listing: self.listing,
            overrides: self.overrides,
            symlinks: self.symlinks,
            upstream_host: self.upstream_host,
            index: self.index.iter().map(|name| spanned(text, name, checked_index)).collect::<Result<_, _>>()?,
            fallback: self.fallback.map(|path| spanned(text, &path, checked_fallback)).transpose()?,
            php: self.php.map(|php| spanned(text, &php, FastCgi::parse)).transpose()?,
            extra: self.extra.map(|path| spanned(text, &path, checked_path)).transpose()?,
            logs: self.logs.map(|logs| spanned(text, &logs, Logs::parse)).transpose()?.unwrap_or_default(),
        };
        let days = |days: Spanned<u16>| {
            checked_days(*days.get_ref()).map_err(|error| ListError::new(text, &days.span(), error))
        };
        let certificate = CertificateTerms {
            wildcard: self.certificate_wildcard,
            addresses: self
                .certificate_addresses
                .iter()
                .map(|own| spanned(text, own, parse_address))
                .collect::<Result<_, _>>()?,
            days: self.certificate_days.map(days).transpose()?,
            key: self.certificate_key.map(|word| spanned(text, &word, KeyKind::parse)).transpose()?.unwrap_or_default(),
        };
        let (server, https) = (self.server, self.https);
        let site = Site { name, aliases, content, address, server, https, certificate, serving };
        if let (Some(_), Some(span)) = (site.own_tls(), upstream_span)
            && (site.server != Some(ServerId::Elsewhere) || site.https != Https::Only)
        {
            let message = "an upstream that speaks TLS itself goes with `server = \"elsewhere\"`, and with no `https`";
            return Err(ListError::new(text, &span, message));
        }
        Ok(site)
    }
}

impl ListError {
    fn new(text: &str, span: &Range<usize>, message: impl fmt::Display) -> Self {
        Self { message: message.to_string(), excerpt: Excerpt::new(text.as_bytes(), span) }
    }
}

fn spanned<S: AsRef<str>, T, E: fmt::Display>(
    text: &str,
    value: &Spanned<S>,
    read: impl FnOnce(&str) -> Result<T, E>,
) -> Result<T, ListError> {
    read(value.get_ref().as_ref()).map_err(|error| ListError::new(text, &value.span(), error))
}

fn absolute(path: &str) -> Result<Utf8PathBuf, String> {
    let path = Utf8PathBuf::from(path);
    if path.is_absolute() { Ok(path) } else { Err(format!("`{path}` is no absolute path: begin it with `/`")) }
}

fn relative(path: &str) -> Result<Utf8PathBuf, String> {
    let path = Utf8PathBuf::from(path);
    let stays_below = path.components().all(|part| matches!(part, camino::Utf8Component::Normal(_)));
    if stays_below && path.components().next().is_some() {
        Ok(path)
    } else {
        Err(format!("`{path}` is no path below the folder: give one such as `public`"))
    }
}

fn parse_address(text: &str) -> Result<IpAddr, String> {
    text.parse().map_err(|_| format!("`{text}` is no IP address: give one such as `127.0.0.1` or `::1`"))
}
