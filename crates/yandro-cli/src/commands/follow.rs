//! Sites at this computer's network address after that has become another one.

use std::net::IpAddr;

use yandro_core::{HostName, Site, SiteList};
use yandro_machine::network;

use crate::context::Context;
use crate::view::{COMMAND, STRONG, WARN};

/// A site that is to follow.
#[derive(Clone, Debug)]
pub(super) struct Moved {
    /// As it is to be.
    pub(super) site: Site,
    /// The address that no interface has any more.
    pub(super) from: IpAddr,
}

/// The sites of a server of this computer whose address is gone, where the computer has another one of that family.
pub(super) fn moved(context: &Context, list: &SiteList) -> Vec<Moved> {
    let is_gone = |site: &&Site| {
        let server = context.server_of_site(site);
        let is_here = server.is_configured() && context.present().is_here(server);
        context.machine.is_real() && is_here && !context.is_own(site.address)
    };
    let follow = |site: &Site| {
        let (from, to) = (site.address, network::usual(site.address.is_ipv4())?);
        let mut site = Site { address: to, ..site.clone() };
        for address in site.certificate.addresses.iter_mut().filter(|address| **address == from) {
            *address = to;
        }
        Some(Moved { site, from })
    };
    list.sites.iter().filter(is_gone).filter_map(follow).collect()
}

/// The line about sites that could follow. An address may only be gone for a while, as that of a private network is, and who
/// reaches the sites at another one may be other people: so it takes a word.
pub(super) fn note(moved: &[Moved]) -> Option<String> {
    let first = moved.first()?;
    let names: Vec<String> = moved.iter().map(|moved| moved.site.name.to_unicode()).collect();
    let are = if names.len() == 1 { "is at an address" } else { "are at addresses" };
    Some(format!(
        "\n{WARN}!{WARN:#} {STRONG}{}{STRONG:#} {are} that this computer no longer has: {}\n    to move to its present address, {}: {COMMAND}yandro settle --follow{COMMAND:#}",
        names.join(", "),
        first.from,
        first.site.address
    ))
}

/// The line about a site that followed.
pub(super) fn line(name: &HostName, from: IpAddr, to: IpAddr) -> String {
    format!("\n{STRONG}{name}{STRONG:#} is at {to} now instead of {from}, which this computer no longer has")
}
