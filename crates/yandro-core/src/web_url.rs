//! The URL of a page.

use core::fmt;

use crate::host_port::HostPort;
use crate::name::HostName;

/// The URL of a page: `http://HOST[:PORT][/PATH]` or `https://…` (RFC 3986), without credentials.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WebUrl {
    /// Whether it is `https`.
    pub is_secure: bool,
    /// What to connect to.
    pub host_port: HostPort,
    /// The path with its query, beginning with `/`; without the fragment, which no client sends.
    pub path: String,
}

/// A text that is not such a URL.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a URL: give `https://HOST/PATH` or `http://HOST:PORT/PATH`")]
pub struct WebUrlError(String);

impl WebUrl {
    /// Reads a URL. A name in Unicode becomes its ASCII form (RFC 5891).
    ///
    /// # Errors
    /// For another scheme, credentials, a host that is neither a name nor an address, and characters that a URL
    /// can't have.
    pub fn parse(text: &str) -> Result<Self, WebUrlError> {
        let error = || WebUrlError(text.to_owned());
        let (scheme, rest) = text.split_once("://").ok_or_else(error)?;
        let is_secure = match scheme.to_ascii_lowercase().as_str() {
            "https" => true,
            "http" => false,
            _ => return Err(error()),
        };
        let rest = rest.split('#').next().unwrap_or_default();
        let end = rest.find(['/', '?']).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(end);
        let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
        if path.bytes().any(|byte| !byte.is_ascii_graphic()) {
            return Err(error());
        }
        let (host, port) = HostPort::split(authority);
        let host = match HostName::parse(host) {
            Ok(name) => name.as_str().to_owned(),
            // An address, or `localhost`, which no site can have as its name.
            Err(_) => host.strip_suffix('.').unwrap_or(host).to_ascii_lowercase(),
        };
        let authority = port.map_or(host.clone(), |port| format!("{host}:{port}"));
        let host_port = HostPort::parse(&authority, Some(if is_secure { 443 } else { 80 })).ok_or_else(error)?;
        Ok(Self { is_secure, host_port, path })
    }

    /// The host and, if it is not the scheme's own, the port: what a request sends as `Host` (RFC 9110 section 7.2).
    pub fn host_field(&self) -> String {
        let usual = if self.is_secure { 443 } else { 80 };
        if self.host_port.port() == usual { self.host_port.host().to_owned() } else { self.host_port.to_string() }
    }
}

impl fmt::Display for WebUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scheme = if self.is_secure { "https" } else { "http" };
        write!(f, "{scheme}://{}{}", self.host_field(), self.path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn urls_are_read_as_clients_read_them() {
        let shown = |text: &str| WebUrl::parse(text).map(|url| url.to_string()).ok();
        let same = |text: &str, other: &str| assert_eq!(shown(text).as_deref(), Some(other), "{text}");
        same("https://saltmarsh.test", "https://saltmarsh.test/");
        same("HTTPS://Saltmarsh.test:443/a?b#c", "https://saltmarsh.test/a?b");
        same("http://saltmarsh.test:8080?tide=high", "http://saltmarsh.test:8080/?tide=high");
        same("https://[::1]:8443/", "https://[::1]:8443/");
        same("https://fähre.test/", "https://xn--fhre-loa.test/");
        for refused in ["saltmarsh.test", "ftp://saltmarsh.test", "https://", "https://a:b@saltmarsh.test/"] {
            assert_eq!(shown(refused), None, "{refused}");
        }
        for refused in ["https://saltmarsh.test:0/", "https://saltmarsh.test/a b", "https://saltmarsh.test/\n"] {
            assert_eq!(shown(refused), None, "{refused}");
        }
    }
}
