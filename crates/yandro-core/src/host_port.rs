//! A host with a port, as addresses and configuration files write them.

use core::fmt;
use core::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use crate::name::HostName;

/// `HOST:PORT` (RFC 3986 section 3.2.2 and 3.2.3): a host name or an address, that of IPv6 in brackets.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HostPort {
    host: String,
    port: u16,
}

impl HostPort {
    /// Reads `HOST:PORT`, or `HOST` where there is a `usual` port. The host is `localhost`, another host name in its
    /// ASCII form, or an address. `None` for anything else, and for port 0.
    pub fn parse(text: &str, usual: Option<u16>) -> Option<Self> {
        let (host, port) = Self::split(text);
        let port = match port {
            Some(port) => port.parse().ok()?,
            None => usual?,
        };
        let is_v6 = in_brackets(host).is_some_and(|inner| inner.parse::<Ipv6Addr>().is_ok());
        let is_known = is_v6
            || host == "localhost"
            || host.parse::<Ipv4Addr>().is_ok()
            || HostName::parse(host).is_ok_and(|name| name.as_str() == host);
        (is_known && port != 0).then(|| Self { host: host.to_owned(), port })
    }

    /// Splits off the text behind the last colon, unless that is within the brackets of an IPv6 address.
    pub fn split(text: &str) -> (&str, Option<&str>) {
        match text.rsplit_once(':') {
            Some((host, port)) if !port.ends_with(']') => (host, Some(port)),
            _ => (text, None),
        }
    }

    /// The port that a text such as `*:80` or `[::1]:443` ends with.
    pub fn port_of(text: &str) -> Option<u16> {
        Self::split(text).1?.parse().ok()
    }

    /// The host: a name or an address, that of IPv6 in brackets.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Its address, if that is what its host is.
    pub fn address(&self) -> Option<IpAddr> {
        in_brackets(&self.host).unwrap_or(&self.host).parse().ok()
    }

    /// Whether it is on the machine itself that asks.
    pub fn is_loopback(&self) -> bool {
        self.host == "localhost" || self.address().is_some_and(|address| address.is_loopback())
    }
}

impl fmt::Display for HostPort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.host, self.port)
    }
}

/// The text within square brackets, if there is nothing else.
pub(crate) fn in_brackets(text: &str) -> Option<&str> {
    text.strip_prefix('[')?.strip_suffix(']')
}

/// The addresses that servers listen on for `localhost`: they resolve it when they start, as a rule to both.
pub(crate) const LOCALHOST: [&str; 2] = ["127.0.0.1", "[::1]"];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_with_ports_are_read_and_written_back() {
        for (text, host, port, is_loopback) in [
            ("localhost:3000", "localhost", 3000, true),
            ("127.0.0.1:9000", "127.0.0.1", 9000, true),
            ("[::1]:8443", "[::1]", 8443, true),
            ("tides.saltmarsh.test:443", "tides.saltmarsh.test", 443, false),
            ("192.0.2.7:80", "192.0.2.7", 80, false),
        ] {
            let read = HostPort::parse(text, None).unwrap();
            assert_eq!((read.host(), read.port(), read.is_loopback()), (host, port, is_loopback), "{text}");
            assert_eq!(read.to_string(), text);
        }
        assert_eq!(HostPort::parse("[::1]", Some(80)).unwrap().to_string(), "[::1]:80");
    }

    #[test]
    fn addresses_without_host_or_port_are_refused() {
        for text in
            ["", "80", ":80", "localhost", "localhost:", "localhost:0", "localhost:70000", "[::1]", "::1:80", "a b:80"]
        {
            assert_eq!(HostPort::parse(text, None), None, "{text}");
        }
        assert_eq!(
            (HostPort::port_of("*:443"), HostPort::port_of("*:*"), HostPort::port_of("[::1]")),
            (Some(443), None, None)
        );
    }
}
