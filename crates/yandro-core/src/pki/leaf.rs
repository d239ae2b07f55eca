//! What a leaf certificate is to say.

use core::net::IpAddr;

use time::OffsetDateTime;

use super::{CertificateFacts, Serial};
use crate::name::HostName;

/// What a leaf is to say.
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
    /// What a certificate says, to be said again; `None` if it names what is no host name.
    pub fn of(facts: &CertificateFacts) -> Option<Self> {
        let (wild, plain): (Vec<&String>, Vec<&String>) = facts.names.iter().partition(|name| name.starts_with("*."));
        let read = |names: Vec<&String>| -> Option<Vec<HostName>> {
            names.into_iter().map(|name| HostName::parse(name.strip_prefix("*.").unwrap_or(name)).ok()).collect()
        };
        let addresses = facts.addresses.clone();
        Some(Self { names: read(plain)?, wildcards: read(wild)?, addresses, days: facts.days() })
    }

    /// The DNS names as they stand in a certificate.
    pub(super) fn written(&self) -> impl Iterator<Item = String> {
        let wildcards = self.wildcards.iter().map(|name| format!("*.{name}"));
        self.names.iter().map(ToString::to_string).chain(wildcards)
    }
}

/// A leaf that is asked for.
#[derive(Clone, Copy, Debug)]
pub struct LeafRequest<'a> {
    /// What it is to say.
    pub leaf: &'a Leaf,
    /// The present time.
    pub now: OffsetDateTime,
    /// Its serial number.
    pub serial: Serial,
}
