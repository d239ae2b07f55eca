//! What planning needs to know of nginx.

use std::collections::{BTreeMap, BTreeSet};

use camino::Utf8Path;
use yandro_core::config::{Files, Layout, Place, ServerTraits, Variable, VirtualHost};
use yandro_core::name::HostName;
use yandro_core::nginx::Shared;
use yandro_core::plan::ObservedNginx;

use crate::apache::WithoutOwn;
use crate::files::FileError;
use crate::machine::Machine;
use crate::{apache, network, process};

/// The first version in which HTTP/2 is a directive of its own.
const HTTP2_DIRECTIVE: [u32; 3] = [1, 25, 1];

/// Reads what planning needs, for the sites of these names. `is_asked` has the program asked for
/// its version.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub fn observe(
    machine: &Machine,
    layout: &Layout,
    names: &[HostName],
    is_asked: bool,
) -> Result<ObservedNginx, FileError> {
    let own = apache::own_files(layout, names)?;
    let files = WithoutOwn { machine, layout };
    let shared = Shared::of(&machine.places.inside(&layout.main), &files as &dyn Files);
    let is_own = |host: &VirtualHost| layout.is_own(&machine.path(&host.place.file));
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
    let version = if is_asked && machine.is_real() { version(layout) } else { None };
    let is_one = |address: &&String| !address.starts_with("*:") && !address.starts_with("[::]:");
    let traits = ServerTraits {
        log_folder: layout.known.logs.unwrap_or("logs").to_owned(),
        listens_on_v6: !machine.is_real() || network::has_v6_loopback(),
        has_http2_directive: version.is_some_and(|version| version >= HTTP2_DIRECTIVE),
        specific: addresses.iter().filter(is_one).cloned().collect(),
        variable: Variable::Plain,
        ..ServerTraits::default()
    };
    Ok(ObservedNginx { own, shared, traits, foreign_addresses: addresses, foreign_first: first, foreign_names })
}

/// What `-v` says: `nginx version: nginx/1.22.1`.
fn version(layout: &Layout) -> Option<[u32; 3]> {
    let program = super::program(layout)?;
    let words = process::run(Utf8Path::new(&program), &["-v"]).ok()?.words;
    let text = words.split("nginx/").nth(1)?.split_whitespace().next()?;
    let mut numbers = text.split('.').map(|part| part.parse().unwrap_or(0));
    Some([numbers.next()?, numbers.next().unwrap_or(0), numbers.next().unwrap_or(0)])
}
