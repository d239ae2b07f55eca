//! How this system resolves names, as plain values.

use core::net::{IpAddr, SocketAddr};

use crate::config::Place;
use crate::name::HostName;
use crate::system::{Cache, HostsMaker, ResolverPlace};

/// How names below a site are resolved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TenantsSetup {
    /// A name that was made up: it is asked for like the site's own.
    pub name: HostName,
    /// The part of the system that passes questions on to the responder; `None` for names below `localhost`.
    pub place: Option<ResolverPlace>,
    /// The address of the responder.
    pub responder: SocketAddr,
    /// Whether something listens there.
    pub is_up: bool,
    /// Whether the system's files say that it is asked.
    pub is_told: bool,
    /// Whether systemd-resolved asks no server now, since no network is up.
    pub is_offline: bool,
    /// A line of systemd-resolved's settings that names other servers for all links: it may ask these instead.
    pub others: Option<Place>,
}

/// The parts between the hosts file and the resolver's answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ResolverSetup {
    /// The caches that run.
    pub caches: Vec<Cache>,
    /// The sources of host names in `nsswitch.conf(5)`, in their order.
    pub sources: Vec<String>,
    /// This machine's own addresses; empty where they are not known.
    pub own_addresses: Vec<IpAddr>,
    /// The addresses by which other computers reach it, at most one of each family.
    pub usual_addresses: Vec<IpAddr>,
    /// The program that writes the hosts file again at each start, if there is one.
    pub hosts_maker: Option<HostsMaker>,
}
