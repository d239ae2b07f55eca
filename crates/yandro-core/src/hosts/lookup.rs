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
