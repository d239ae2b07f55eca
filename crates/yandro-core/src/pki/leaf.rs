//! The wanted content of a leaf certificate.

use core::net::IpAddr;

use time::OffsetDateTime;

use super::{CertificateFacts, Serial};
use crate::name::HostName;

/// The wanted content of a leaf.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Leaf {
    /// The names that it covers.
    pub names: Vec<HostName>,
    /// The names of which it covers all those that have one label more (`*.` of them).
    pub wildcards: Vec<HostName>,
    /// The addresses that it covers.
    pub addresses: Vec<IpAddr>,
    /// How many days it is valid.
    pub days: i64,
}

impl Leaf {
    /// The content of a certificate, for issuing it again; `None` if it names a text that is not a host name.
    pub fn of(facts: &CertificateFacts) -> Option<Self> {
        let (wild, plain): (Vec<&String>, Vec<&String>) = facts.names.iter().partition(|name| name.starts_with("*."));
        let read = |names: Vec<&String>| -> Option<Vec<HostName>> {
            names.into_iter().map(|name| HostName::parse(name.strip_prefix("*.").unwrap_or(name)).ok()).collect()
        };
        let addresses = facts.addresses.clone();
        Some(Self { names: read(plain)?, wildcards: read(wild)?, addresses, days: facts.days() })
    }

    /// The DNS names as written in a certificate.
    pub(super) fn written(&self) -> impl Iterator<Item = String> {
        let wildcards = self.wildcards.iter().map(|name| format!("*.{name}"));
        self.names.iter().map(ToString::to_string).chain(wildcards)
    }
}

/// A leaf that is asked for.
#[derive(Clone, Copy, Debug)]
pub struct LeafRequest<'a> {
    /// The wanted content.
    pub leaf: &'a Leaf,
    /// The present time.
    pub now: OffsetDateTime,
    /// Its serial number.
    pub serial: Serial,
}
