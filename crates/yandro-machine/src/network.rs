//! This machine's own addresses.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use crate::{os, ports};

/// An address that one of this machine's interfaces has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InterfaceAddress {
    /// The interface, such as `eth0`.
    pub interface: String,
    /// IPv4 or IPv6.
    pub address: IpAddr,
}

/// All of them; none where the system doesn't tell.
pub fn addresses() -> Vec<InterfaceAddress> {
    os::addresses().into_iter().map(|(interface, address)| InterfaceAddress { interface, address }).collect()
}

/// Whether an interface has this address; all of 127.0.0.0/8 is the loopback interface's (RFC 1122).
pub fn is_own(address: IpAddr) -> bool {
    let is_v4_loopback = address.is_ipv4() && address.is_loopback();
    is_v4_loopback || addresses().iter().any(|own| own.address == address)
}

/// The address of a family by which other computers reach this one: that of the way to everywhere, or without such a way the
/// only one that is neither loopback's nor of a single link. `None` if there is none, or no way to choose.
pub fn usual(is_v4: bool) -> Option<IpAddr> {
    let is_own_network = |address: &IpAddr| match address {
        IpAddr::V4(own) => is_v4 && !own.is_loopback() && !own.is_link_local(),
        IpAddr::V6(own) => !is_v4 && !own.is_loopback() && !own.is_unicast_link_local(),
    };
    let known: Vec<IpAddr> = addresses().into_iter().map(|own| own.address).filter(is_own_network).collect();
    way_to_everywhere(is_v4).filter(|address| known.contains(address)).or(match known[..] {
        [only] => Some(only),
        _ => None,
    })
}

/// The address from which the system would ask a computer that is nowhere near (RFC 5737, RFC 3849); nothing is sent.
fn way_to_everywhere(is_v4: bool) -> Option<IpAddr> {
    let (from, to): (IpAddr, IpAddr) = if is_v4 {
        (Ipv4Addr::UNSPECIFIED.into(), Ipv4Addr::new(192, 0, 2, 1).into())
    } else {
        (Ipv6Addr::UNSPECIFIED.into(), Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1).into())
    };
    let socket = std::net::UdpSocket::bind((from, 0)).ok()?;
    socket.connect((to, 9)).ok()?;
    Some(socket.local_addr().ok()?.ip())
}

/// Whether something listens on a port of `::1`; `None` if nothing listens on that port at all.
pub fn listens_on_v6(port: u16) -> Option<bool> {
    let on_port = ports::listening(port);
    let is_v6 = |address: &IpAddr| matches!(address, IpAddr::V6(own) if own.is_unspecified() || own.is_loopback());
    (!on_port.is_empty()).then(|| on_port.iter().any(is_v6))
}

/// Whether a server that listens on a port without an address would use IPv6, too: it asks the system
/// for the families that it is set up for (`AI_ADDRCONFIG`, RFC 3493 section 6.1), by which
/// only loopback counts for both.
pub fn would_listen_on_v6() -> bool {
    let known: Vec<IpAddr> = addresses().into_iter().map(|own| own.address).filter(|own| !own.is_loopback()).collect();
    known.is_empty() || known.iter().any(IpAddr::is_ipv6)
}

/// Whether there is `::1`: IPv6 can be switched off.
pub fn has_v6_loopback() -> bool {
    is_own(Ipv6Addr::LOCALHOST.into())
}

/// Whether this machine has a way to an address: the system chooses one when a datagram socket is connected, which
/// sends nothing (connect(2)).
pub fn is_usable(address: std::net::IpAddr) -> bool {
    let any: std::net::IpAddr =
        if address.is_ipv4() { std::net::Ipv4Addr::UNSPECIFIED.into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
    std::net::UdpSocket::bind((any, 0)).is_ok_and(|socket| socket.connect((address, 9)).is_ok())
}
