//! Addresses of applications, old and new.

use core::fmt;

use crate::host_port::HostPort;
use crate::name::HostName;
use crate::site::Scheme;

/// The address at which an application is or was: `[SCHEME://]HOST[:PORT][/PATH]`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AppAddress {
    /// The scheme, if the address names one.
    pub scheme: Option<Scheme>,
    /// The host in its ASCII form and in lower case; an address of IPv6 in brackets.
    pub host: String,
    /// The port, if the address names one.
    pub port: Option<u16>,
    /// The path that all of its pages begin with: empty, or `/…` without a slash at its end.
    pub path: String,
}

/// A text that is not such an address.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not the address of an application")]
pub struct AppAddressError(String);

impl AppAddress {
    /// Reads an address. A name in Unicode becomes its ASCII form (RFC 5891).
    ///
    /// # Errors
    /// For another scheme, credentials, a query, and a host that is neither a name nor an address.
    pub fn parse(text: &str) -> Result<Self, AppAddressError> {
        let error = || AppAddressError(text.to_owned());
        let (scheme, rest) = match text.split_once("://") {
            Some((scheme, rest)) => {
                let known = [Scheme::Http, Scheme::Https];
                let found = known.into_iter().find(|known| known.word().eq_ignore_ascii_case(scheme));
                (Some(found.ok_or_else(error)?), rest)
            }
            None => (None, text.strip_prefix("//").unwrap_or(text)),
        };
        let (authority, path) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
        if !path.bytes().all(|byte| byte.is_ascii_graphic() && !b"?#\"'<>\\".contains(&byte)) {
            return Err(error());
        }
        let (host, port) = HostPort::split(authority);
        let port = port.map(|port| port.parse::<u16>().ok().filter(|port| *port != 0).ok_or_else(error)).transpose()?;
        let host = match HostName::parse(host) {
            Ok(name) => name.as_str().to_owned(),
            Err(_) => host.to_ascii_lowercase(),
        };
        // This knows `localhost` and addresses, too.
        HostPort::parse(&host, Some(80)).filter(|known| known.host() == host).ok_or_else(error)?;
        Ok(Self { scheme, host, port, path: path.trim_end_matches('/').to_owned() })
    }

    /// Whether the host is the machine itself or an address, which several applications may share.
    pub(super) fn is_shared_host(&self) -> bool {
        HostName::parse(&self.host).is_err()
    }

    /// The host as it may be written: in ASCII, and in Unicode if that is different.
    pub fn hosts(&self) -> Vec<String> {
        let unicode = HostName::parse(&self.host).map(|name| name.to_unicode()).ok();
        [Some(self.host.clone()), unicode.filter(|unicode| *unicode != self.host)].into_iter().flatten().collect()
    }

    /// Whether a port in a text is this address's; `scheme` is that of the text.
    pub(super) fn has_port(&self, found: Option<u16>, scheme: Option<Scheme>) -> bool {
        let usual = |port: Option<u16>| {
            let scheme = scheme.or(self.scheme);
            port.is_none_or(|port| scheme.map_or(port == 80 || port == 443, |scheme| port == scheme.default_port()))
        };
        found == self.port || (usual(found) && usual(self.port))
    }

    /// The port as it is written behind the host, under a scheme: nothing if it is the usual one.
    pub(super) fn port_for(&self, scheme: Option<Scheme>) -> Option<u16> {
        let usual = scheme.or(self.scheme).unwrap_or(Scheme::Https).default_port();
        self.port.filter(|port| *port != usual)
    }
}

impl fmt::Display for AppAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(scheme) = self.scheme {
            write!(f, "{}://", scheme.word())?;
        }
        f.write_str(&self.host)?;
        if let Some(port) = self.port {
            write!(f, ":{port}")?;
        }
        f.write_str(&self.path)
    }
}
