//! The names and networks that an authority can issue for (RFC 5280 section 4.2.1.10).

use core::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::fmt::Write as _;

use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use rcgen::{CidrSubnet, GeneralSubtree, NameConstraints};

use crate::name::{HostName, RESERVED};
use crate::network;

/// The permitted suffixes and networks. Names and addresses outside are refused
/// by the clients, whoever holds the key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Constraints {
    /// Suffixes without a leading dot: a name that equals one, or ends in one, is permitted.
    pub suffixes: Vec<String>,
    /// Those whose addresses are permitted.
    pub networks: Vec<IpNet>,
}

/// A text that is not a network which an authority can issue for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NetworkError {
    /// Neither a network nor an address.
    #[error("`{0}` is not a network")]
    NotOne(String),
    /// Larger than the network of one organisation.
    #[error("`{0}` is wider than any private network (RFC 1918, RFC 4193)")]
    TooWide(String),
    /// An address within a network.
    #[error("`{text}` is not a network: it begins at {network}")]
    Begins {
        /// What was given as a network.
        text: String,
        /// What was probably meant: the same with its host bits zero.
        network: IpNet,
    },
}

impl Default for Constraints {
    /// Names that nobody on the internet can own, and loopback addresses.
    fn default() -> Self {
        let suffixes = RESERVED.iter().copied().chain(["local"]).map(str::to_owned).collect();
        Self {
            suffixes,
            networks: vec![
                Ipv4Net::new_assert(Ipv4Addr::new(127, 0, 0, 0), 8).into(),
                Ipv6Net::from(Ipv6Addr::LOCALHOST).into(),
            ],
        }
    }
}

impl Constraints {
    /// These, and further suffixes and networks.
    pub fn with(&self, suffixes: &[HostName], networks: &[IpNet]) -> Self {
        let mut wider = self.clone();
        for name in suffixes {
            if !wider.permits_name(name) {
                wider.suffixes.push(name.to_string());
            }
        }
        for network in networks {
            if !wider.networks.contains(network) {
                wider.networks.push(*network);
            }
        }
        wider
    }

    /// These without some of the suffixes and networks. Those that every authority has stay.
    pub fn without(&self, suffixes: &[HostName], networks: &[IpNet]) -> Self {
        let usual = Self::default();
        let is_dropped = |suffix: &String| suffixes.iter().any(|name| name.as_str() == suffix);
        let mut narrower = self.clone();
        narrower.suffixes.retain(|suffix| usual.suffixes.contains(suffix) || !is_dropped(suffix));
        narrower.networks.retain(|network| usual.networks.contains(network) || !networks.contains(network));
        narrower
    }

    /// Reads a network as `ADDRESS/BITS`, or a single address.
    ///
    /// # Errors
    /// A [`NetworkError`] for what is none, and for a network that is wider than any private one.
    pub fn parse_network(text: &str) -> Result<IpNet, NetworkError> {
        let network = network::parse(text).ok_or_else(|| NetworkError::NotOne(text.to_owned()))?;
        let fewest_bits = if network.addr().is_ipv4() { 8 } else { 7 };
        if network.prefix_len() < fewest_bits {
            return Err(NetworkError::TooWide(text.to_owned()));
        }
        if network.trunc() != network {
            return Err(NetworkError::Begins { text: text.to_owned(), network: network.trunc() });
        }
        Ok(network)
    }

    /// Whether a certificate for `name` is within the constraints.
    pub fn permits_name(&self, name: &HostName) -> bool {
        self.suffixes.iter().any(|suffix| name.is_below_or_equal(suffix))
    }

    /// Whether a certificate for `address` is within the constraints.
    pub fn permits_address(&self, address: IpAddr) -> bool {
        self.networks.iter().any(|network| network.contains(&address))
    }

    /// The suffixes for people: `.test`, `.localhost` or `.internal`.
    pub fn suffixes_in_words(&self) -> String {
        in_words(self.suffixes.iter().map(|suffix| format!("`.{suffix}`")))
    }

    /// The networks for people: `127.0.0.0/8 or ::1/128`.
    pub fn networks_in_words(&self) -> String {
        in_words(self.networks.iter().map(ToString::to_string))
    }

    pub(super) fn to_extension(&self) -> NameConstraints {
        let names = self.suffixes.iter().cloned().map(GeneralSubtree::DnsName);
        let networks = self.networks.iter().map(|network| {
            GeneralSubtree::IpAddress(CidrSubnet::from_addr_prefix(network.addr(), network.prefix_len()))
        });
        NameConstraints { permitted_subtrees: names.chain(networks).collect(), excluded_subtrees: Vec::new() }
    }
}

fn in_words(items: impl Iterator<Item = String>) -> String {
    let items: Vec<String> = items.collect();
    let mut words = String::new();
    for (i, item) in items.iter().enumerate() {
        let separator = match i {
            0 => "",
            _ if i + 1 == items.len() => " or ",
            _ => ", ",
        };
        _ = write!(words, "{separator}{item}");
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> HostName {
        HostName::parse(text).unwrap()
    }

    #[test]
    fn added_constraints_can_be_removed_and_default_ones_cannot() {
        let usual = Constraints::default();
        let network = Constraints::parse_network("192.168.0.0/16").unwrap();
        let wider = usual.with(&[name("ferries.example.com"), name("depot.test")], &[network]);
        assert!(wider.permits_name(&name("tides.ferries.example.com")) && !wider.permits_name(&name("example.com")));
        assert_eq!(wider.suffixes.len(), usual.suffixes.len() + 1, "below `test` all is permitted already");
        assert!(wider.permits_address("192.168.7.1".parse().unwrap()));
        assert!(!wider.permits_address("192.169.0.1".parse().unwrap()));
        assert_eq!(wider.with(&[name("ferries.example.com")], &[network]), wider);
        assert_eq!(wider.without(&[name("ferries.example.com")], &[network]), usual);
        assert_eq!(usual.without(&[name("test")], &[Constraints::parse_network("127.0.0.0/8").unwrap()]), usual);
    }

    #[test]
    fn networks_are_read_and_the_whole_internet_is_none() {
        for (text, expected) in [
            ("10.0.0.0/8", Some(("10.0.0.0", 8))),
            ("10.1.2.3", Some(("10.1.2.3", 32))),
            ("fd00::/8", Some(("fd00::", 8))),
            ("fd00::1", Some(("fd00::1", 128))),
            ("10.0.0.1/8", None),
            ("0.0.0.0/0", None),
            ("::/0", None),
            ("0.0.0.0/7", None),
            ("10.0.0.0/33", None),
            ("10.0.0.0/x", None),
            ("ferries", None),
        ] {
            let expected = expected.map(|(address, bits)| IpNet::new(address.parse().unwrap(), bits).unwrap());
            assert_eq!(Constraints::parse_network(text).ok(), expected, "{text}");
        }
        assert!(name("co.uk").is_public_suffix() && name("com").is_public_suffix());
        assert!(!name("saltmarsh.co.uk").is_public_suffix() && !name("test").is_public_suffix());
    }
}
