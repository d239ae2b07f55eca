//! Networks of IP addresses (RFC 4632, RFC 4291 section 2.3).

use core::net::IpAddr;

/// A network: its base address, and how many bits of it are the network's.
pub type Network = (IpAddr, u8);

/// Reads `ADDRESS/BITS`, or a single address; bits beyond the network's may be set. `None` for what is none.
pub fn parse(text: &str) -> Option<Network> {
    let (address, bits) = match text.split_once('/') {
        Some((address, bits)) => (address, Some(bits.parse::<u8>().ok()?)),
        None => (text, None),
    };
    let address: IpAddr = address.parse().ok()?;
    let most = if address.is_ipv4() { 32 } else { 128 };
    let bits = bits.unwrap_or(most);
    (bits <= most).then_some((address, bits))
}

/// Whether an address is within a network. One of the other family never is.
pub fn is_within((network, bits): Network, address: IpAddr) -> bool {
    match (network, address) {
        (IpAddr::V4(network), IpAddr::V4(address)) => {
            bits == 0 || (network.to_bits() ^ address.to_bits()) >> (32 - u32::from(bits.min(32))) == 0
        }
        (IpAddr::V6(network), IpAddr::V6(address)) => {
            bits == 0 || (network.to_bits() ^ address.to_bits()) >> (128 - u32::from(bits.min(128))) == 0
        }
        _ => false,
    }
}
