//! What planning needs to know of nginx.

use std::collections::{BTreeMap, BTreeSet};

use yandro_core::config::{Place, ServerTraits, Variable, VirtualHost};
use yandro_core::name::HostName;
use yandro_core::nginx::Shared;
use yandro_core::plan::ObservedNginx;

use crate::files::FileError;
use crate::machine::Machine;
use crate::network;
use crate::servers::{Found, WithoutOwn, own_files};

/// The first version in which HTTP/2 is a directive of its own.
const HTTP2_DIRECTIVE: [u32; 3] = [1, 25, 1];

/// Reads what planning needs, for the sites of these names. `is_asked` has the program asked for
/// its version.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub fn observe(
    machine: &Machine,
    found: &Found,
    names: &[HostName],
    is_asked: bool,
) -> Result<ObservedNginx, FileError> {
    let own = own_files(found, names)?;
    let shared = Shared::of(&found.main(), &WithoutOwn(found));
    let is_own = |host: &VirtualHost| found.is_own(host.place.file.as_str().into());
    let answering = shared.configuration.answering();
    let (mut addresses, mut first) = (BTreeSet::new(), BTreeSet::new());
    let mut foreign_names: BTreeMap<String, Place> = BTreeMap::new();
    for at in &answering {
        for (place, host) in at.hosts.iter().enumerate().filter(|(_, host)| !is_own(host)) {
            addresses.insert(at.address.clone());
            if place == at.default {
                first.insert(at.address.clone());
            }
            for name in host.name.iter().chain(&host.aliases) {
                foreign_names.insert(name.to_ascii_lowercase(), host.place.clone());
            }
        }
    }
    let is_asked = is_asked && machine.is_real() && !found.is_elsewhere();
    let version = if is_asked { super::program(found).and_then(|program| super::report(&program)) } else { None };
    let version = version.map(|report| report.version);
    let is_one = |address: &&String| !address.starts_with("*:") && !address.starts_with("[::]:");
    let traits = ServerTraits {
        log_folder: found.layout.known.logs.unwrap_or_default().to_owned(),
        listens_on_v6: !found.is_elsewhere() && (!machine.is_real() || network::has_v6_loopback()),
        has_http2_directive: version.is_some_and(|version| version >= HTTP2_DIRECTIVE),
        specific: addresses.iter().filter(is_one).cloned().collect(),
        variable: Variable::Plain,
        ..ServerTraits::default()
    };
    Ok(ObservedNginx { own, shared, traits, foreign_addresses: addresses, foreign_first: first, foreign_names })
}
