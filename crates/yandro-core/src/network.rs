//! Networks of IP addresses (RFC 4632, RFC 4291 section 2.3).

use core::net::IpAddr;

pub use ipnet::IpNet;

/// Reads `ADDRESS/BITS`, or a single address; bits beyond the network's may be set. `None` for what is none.
pub(crate) fn parse(text: &str) -> Option<IpNet> {
    text.parse().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from))
}
