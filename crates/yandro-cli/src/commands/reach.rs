//! Reach of a site: this computer only, or the whole network.

use yandro_core::Site;
use yandro_machine::ports;

use crate::context::Context;

/// Whether other computers can open a site. `None` for remote servers and within a sysroot, where yandro can't see it.
pub(crate) fn is_open(context: &Context, site: &Site) -> Option<bool> {
    let server = context.server_of_site(site);
    if !context.machine.is_real() || !context.present().is_here(server) {
        return None;
    }
    let ports = context.present().all_ports_of(site, server);
    let mut ports = ports.into_iter().flat_map(|(http, https)| [(http, true), (https, site.https.is_on())]);
    let listens = ports.any(|(port, is_used)| is_used && ports::is_open_to_the_network(port));
    Some(listens && !site.serving.only_here)
}

/// Note for a site at a loopback address that the whole network can open anyway. Printed once per server: `others`
/// are the sites of the list.
pub(crate) fn note(context: &Context, site: &Site, others: &[Site]) -> Option<String> {
    let is_told = |other: &Site| {
        other.name != site.name
            && other.server == site.server
            && other.address.is_loopback()
            && !other.serving.only_here
    };
    let server = site.server.filter(|server| server.is_configured())?;
    if !site.address.is_loopback() || others.iter().any(is_told) || is_open(context, site) != Some(true) {
        return None;
    }
    Some(format!(
        "other computers of your network can open this site, too, since {server} listens for all of them; for this computer only: yandro map {} --only-here on",
        site.name
    ))
}
