//! The system's answer from the file.

use core::net::{IpAddr, Ipv4Addr};

use super::parse::HostsFile;
use crate::name::HostName;

/// The address family that is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AddressFamily {
    /// Both, as browsers ask (`AF_UNSPEC`).
    Any,
    /// Only IPv4 (`AF_INET`).
    V4,
    /// Only IPv6 (`AF_INET6`).
    V6,
}

/// `multi` in `host.conf(5)`: whether all lines of a name count, or only the first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Multi {
    /// All: Debian's choice.
    On,
    /// The first: glibc's own choice.
    Off,
}

impl Multi {
    /// Reads `/etc/host.conf`; without the file glibc uses only the first line.
    pub fn of_host_conf(text: &[u8]) -> Self {
        let text = String::from_utf8_lossy(text);
        let said = text.lines().map(|line| line.split('#').next().unwrap_or(line)).filter_map(|line| {
            let (key, value) = line.trim().split_once(char::is_whitespace)?;
            key.eq_ignore_ascii_case("multi").then(|| value.trim().eq_ignore_ascii_case("on"))
        });
        if said.fold(false, |_, on| on) { Self::On } else { Self::Off }
    }
}

/// The facts that getaddrinfo(3) goes by apart from the file.
#[derive(Clone, Copy)]
pub struct Sorting<'s> {
    /// The lines of a name that count.
    pub multi: Multi,
    /// Whether this machine has a way to an address.
    pub is_usable: &'s dyn Fn(IpAddr) -> bool,
}

impl core::fmt::Debug for Sorting<'_> {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        f.debug_struct("Sorting").field("multi", &self.multi).finish_non_exhaustive()
    }
}

impl Sorting<'_> {
    /// Puts the lines of a name, each with its address, into the order in which getaddrinfo(3) gives them: those that
    /// can be reached, then by precedence and scope (RFC 6724 section 6, rules 1, 6 and 8), else as they are in the
    /// file. With `multi` off only the first line is given, whatever its family.
    pub fn sort(&self, lines: &mut [(IpAddr, usize)]) {
        if self.multi == Multi::On && lines.iter().any(|(address, _)| *address != lines[0].0) {
            lines.sort_by_cached_key(|(address, _)| {
                (!(self.is_usable)(*address), core::cmp::Reverse(precedence(*address)), scope(*address))
            });
        }
    }
}

/// The precedence of an address (RFC 6724 section 2.1, the default table).
fn precedence(address: IpAddr) -> u8 {
    let IpAddr::V6(address) = address else { return 35 };
    let segments = address.segments();
    match segments[0] {
        _ if address.is_loopback() => 50,
        _ if address.to_ipv4_mapped().is_some() => 35,
        0x2002 => 30,
        0x2001 if segments[1] == 0 => 5,
        first if first & 0xfe00 == 0xfc00 => 3,
        first if first & 0xffc0 == 0xfec0 || first == 0x3ffe => 1,
        0 if segments[..6] == [0; 6] => 1,
        _ => 40,
    }
}

/// The scope of an address (RFC 6724 section 3.1 and 3.2): the smaller one comes first.
fn scope(address: IpAddr) -> u8 {
    const LINK: u8 = 2;
    const SITE: u8 = 5;
    const GLOBAL: u8 = 14;
    match address {
        IpAddr::V4(address) if address.is_loopback() || address.is_link_local() => LINK,
        IpAddr::V6(address) if address.is_loopback() || address.segments()[0] & 0xffc0 == 0xfe80 => LINK,
        IpAddr::V6(address) if address.segments()[0] & 0xffc0 == 0xfec0 => SITE,
        _ => GLOBAL,
    }
}

impl HostsFile<'_> {
    /// The answer of getaddrinfo for `name` from this file only, in the order of the file;
    /// the system then sorts them by reach (RFC 6724). A repeated line counts twice.
    ///
    /// Known difference: of a line that begins with blanks and has a NUL, glibc repeats the last
    /// bytes before the NUL, as many as there are blanks; here the NUL just ends the line.
    pub fn lookup(&self, name: &HostName, family: AddressFamily, multi: Multi) -> Vec<IpAddr> {
        let mut found: Vec<IpAddr> =
            self.entries_of(name).iter().filter_map(|entry| as_asked(entry.address, family)).collect();
        if multi == Multi::Off {
            found.truncate(1);
        }
        found
    }
}

/// A line's address in the family that is asked for. glibc answers a question for IPv4 from
/// `::1`, with 127.0.0.1, and from mapped addresses (RFC 4291 section 2.5.5.2), too.
fn as_asked(address: IpAddr, family: AddressFamily) -> Option<IpAddr> {
    match (family, address) {
        (AddressFamily::V4, IpAddr::V6(address)) if address.is_loopback() => Some(Ipv4Addr::LOCALHOST.into()),
        (AddressFamily::V4, IpAddr::V6(address)) => address.to_ipv4_mapped().map(IpAddr::V4),
        (AddressFamily::V4 | AddressFamily::Any, address) => Some(address),
        (AddressFamily::V6, address) => address.is_ipv6().then_some(address),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_given_by_reach_precedence_and_scope() {
        let sorted = |texts: &[&str], multi| {
            let mut lines: Vec<(IpAddr, usize)> =
                (1..).zip(texts).map(|(line, text)| (text.parse().unwrap(), line)).collect();
            let is_usable = |address: IpAddr| address != "10.9.9.9".parse::<IpAddr>().unwrap();
            Sorting { multi, is_usable: &is_usable }.sort(&mut lines);
            lines.into_iter().map(|(_, line)| line).collect::<Vec<_>>()
        };
        for (texts, order) in [
            (&["10.0.0.5", "127.0.0.1"][..], [2, 1]),
            (&["127.0.0.1", "::1"], [2, 1]),
            (&["10.9.9.9", "10.0.0.5"], [2, 1]),
            (&["192.168.0.1", "10.0.0.5"], [1, 2]),
            (&["10.0.0.5", "2001:db8::5"], [2, 1]),
            (&["fd00::5", "10.0.0.5"], [2, 1]),
            (&["2001:db8::5", "fe80::5"], [2, 1]),
        ] {
            assert_eq!(sorted(texts, Multi::On), order, "{texts:?}");
            assert_eq!(sorted(texts, Multi::Off), [1, 2], "{texts:?}");
        }
    }

    #[test]
    fn multi_is_read_as_glibc_reads_it() {
        for (text, multi) in [
            ("multi on\n", Multi::On),
            ("# multi on\n", Multi::Off),
            ("order hosts\n\tMULTI  ON # note\n", Multi::On),
            ("multi on\nmulti off\n", Multi::Off),
            ("", Multi::Off),
        ] {
            assert_eq!(Multi::of_host_conf(text.as_bytes()), multi, "{text:?}");
        }
    }
}
