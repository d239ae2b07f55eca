//! This machine's own addresses.

use std::net::{IpAddr, Ipv6Addr};

/// An address that one of this machine's interfaces has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InterfaceAddress {
    /// The interface, such as `eth0`.
    pub interface: String,
    /// The address.
    pub address: IpAddr,
}

/// All of them; none where the system doesn't tell.
pub fn addresses() -> Vec<InterfaceAddress> {
    let Ok(found) = nix::ifaddrs::getifaddrs() else { return Vec::new() };
    let of = |found: nix::ifaddrs::InterfaceAddress| {
        let socket = found.address?;
        let v4 = socket.as_sockaddr_in().map(|own| IpAddr::V4(own.ip()));
        let address = v4.or_else(|| socket.as_sockaddr_in6().map(|own| IpAddr::V6(own.ip())))?;
        Some(InterfaceAddress { interface: found.interface_name, address })
    };
    found.filter_map(of).collect()
}

/// Whether an interface has this address; all of 127.0.0.0/8 is the loopback interface's (RFC 1122).
pub fn is_own(address: IpAddr) -> bool {
    let is_v4_loopback = address.is_ipv4() && address.is_loopback();
    is_v4_loopback || addresses().iter().any(|own| own.address == address)
}

/// Whether something listens on a port of `::1`; `None` if nothing listens on that port at all.
pub fn listens_on_v6(port: u16) -> Option<bool> {
    let v6: Vec<Ipv6Addr> = listening("/proc/net/tcp6", port).filter_map(|address| v6_of(&address)).collect();
    if v6.iter().any(|address| address.is_unspecified() || address.is_loopback()) {
        return Some(true);
    }
    listening("/proc/net/tcp", port).next().map(|_| false)
}

/// The local addresses of the sockets that listen on a port, as proc(5) writes them.
fn listening(table: &str, port: u16) -> impl Iterator<Item = String> {
    let text = std::fs::read_to_string(table).unwrap_or_default();
    let lines: Vec<String> = text.lines().skip(1).map(str::to_owned).collect();
    lines.into_iter().filter_map(move |line| {
        let mut fields = line.split_whitespace().skip(1);
        let (local, state) = (fields.next()?, fields.nth(1)?);
        let (address, own) = local.split_once(':')?;
        (state == "0A" && u16::from_str_radix(own, 16) == Ok(port)).then(|| address.to_owned())
    })
}

/// Four words in the byte order of the machine.
fn v6_of(text: &str) -> Option<Ipv6Addr> {
    let word = |at: usize| u32::from_str_radix(text.get(at..at + 8)?, 16).ok().map(u32::to_ne_bytes);
    let bytes: Vec<u8> = [0, 8, 16, 24].map(word).into_iter().collect::<Option<Vec<_>>>()?.concat();
    Some(<[u8; 16]>::try_from(bytes).ok()?.into())
}

/// Whether a server that is told a port alone would listen on IPv6, too: they ask the system
/// for the families that it is set up for (`AI_ADDRCONFIG`, RFC 3493 section 6.1), by which
/// loopback alone counts for both.
pub fn would_listen_on_v6() -> bool {
    let known: Vec<IpAddr> = addresses().into_iter().map(|own| own.address).filter(|own| !own.is_loopback()).collect();
    known.is_empty() || known.iter().any(IpAddr::is_ipv6)
}

/// Whether there is `::1`: IPv6 can be switched off.
pub fn has_v6_loopback() -> bool {
    is_own(Ipv6Addr::LOCALHOST.into())
}
