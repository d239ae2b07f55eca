//! What an authority may vouch for (RFC 5280 section 4.2.1.10).

use core::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::fmt::Write as _;

use rcgen::{CidrSubnet, GeneralSubtree, NameConstraints};

use crate::name::{HostName, RESERVED};

/// The permitted suffixes and networks. Names and addresses outside are refused
/// by the clients, whoever holds the key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Constraints {
    /// Suffixes without a leading dot: a name that is one, or stands below one, is permitted.
    pub suffixes: Vec<String>,
    /// Networks as address and prefix length in bits.
    pub networks: Vec<(IpAddr, u8)>,
}

impl Default for Constraints {
    /// Names that nobody on the internet can own, and loopback addresses.
    fn default() -> Self {
        let suffixes = RESERVED.iter().copied().chain(["local"]).map(str::to_owned).collect();
        Self { suffixes, networks: vec![(Ipv4Addr::new(127, 0, 0, 0).into(), 8), (Ipv6Addr::LOCALHOST.into(), 128)] }
    }
}

impl Constraints {
    /// Whether a certificate for `name` is within the constraints.
    pub fn permits_name(&self, name: &HostName) -> bool {
        self.suffixes.iter().any(|suffix| name.is_below_or_equal(suffix))
    }

    /// Whether a certificate for `address` is within the constraints.
    pub fn permits_address(&self, address: IpAddr) -> bool {
        self.networks.iter().any(|&(network, bits)| match (network, address) {
            (IpAddr::V4(network), IpAddr::V4(address)) => {
                bits == 0 || (network.to_bits() ^ address.to_bits()) >> (32 - u32::from(bits.min(32))) == 0
            }
            (IpAddr::V6(network), IpAddr::V6(address)) => {
                bits == 0 || (network.to_bits() ^ address.to_bits()) >> (128 - u32::from(bits.min(128))) == 0
            }
            _ => false,
        })
    }

    /// The suffixes for people: `.test`, `.localhost` or `.internal`.
    pub fn suffixes_in_words(&self) -> String {
        in_words(self.suffixes.iter().map(|suffix| format!("`.{suffix}`")))
    }

    /// The networks for people: `127.0.0.0/8 or ::1/128`.
    pub fn networks_in_words(&self) -> String {
        in_words(self.networks.iter().map(|(network, bits)| format!("{network}/{bits}")))
    }

    pub(super) fn to_extension(&self) -> NameConstraints {
        let names = self.suffixes.iter().cloned().map(GeneralSubtree::DnsName);
        let networks = self
            .networks
            .iter()
            .map(|&(network, bits)| GeneralSubtree::IpAddress(CidrSubnet::from_addr_prefix(network, bits)));
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
