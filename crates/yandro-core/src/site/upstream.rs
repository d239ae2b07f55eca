//! A running server that requests are passed on to.

use crate::host_port::HostPort;

/// The address of a running server: `http://HOST:PORT`, or `https://HOST:PORT` for one that speaks
/// TLS itself and is asked for at its own port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Upstream {
    host_port: HostPort,
    is_secure: bool,
}

/// A text that names no upstream.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not an upstream: give `http://HOST:PORT`, such as `http://127.0.0.1:3000`, without a path")]
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
        let usual = if is_secure { 443 } else { 80 };
        let host_port = HostPort::parse(rest.strip_suffix('/').unwrap_or(rest), Some(usual)).ok_or_else(error)?;
        // Servers read `unix:` as the beginning of a socket's path.
        if host_port.host() == "unix" {
            return Err(error());
        }
        Ok(Self { host_port, is_secure })
    }

    /// Its host and port.
    pub fn host_port(&self) -> &HostPort {
        &self.host_port
    }

    /// Whether it speaks TLS itself: then nothing passes requests on to it.
    pub fn is_secure(&self) -> bool {
        self.is_secure
    }
}

impl std::fmt::Display for Upstream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}://{}", if self.is_secure { "https" } else { "http" }, self.host_port)
    }
}
