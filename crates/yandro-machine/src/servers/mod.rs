//! The servers of this machine, and those that the person named: in a bundle's folder, a container
//! or a virtual machine.

mod commands;
mod control;
mod daemon;
mod disk;
mod files;
mod found;
mod generation;
mod hand;
mod kinds;
mod present;
mod program;
mod registry;
mod running;
mod sandbox;
mod wait;
mod words;

pub use commands::Commands;
pub(crate) use commands::run as run_command;
pub use control::Control;
pub use daemon::Daemon;
pub use disk::Disk;
pub(crate) use files::kept_sites;
pub(crate) use files::list;
use files::own_files;
pub use files::sites;
pub use found::Found;
use hand::WithoutHand;
pub use hand::{adoption, hand_sites};
pub(crate) use kinds::DaemonKind;
pub use present::Present;
pub(crate) use program::unasked_configuration;
pub use program::{configuration, configured_ports, report, user, version};
pub use registry::Registry;
pub use running::{RunningServer, running};
pub use sandbox::{hidden, sandbox};

use yandro_core::{CutFile, FileOwner, HostName, Loopback6, Place, Seeing, ServerModel, VirtualHost};

use crate::files::FileError;
use crate::machine::Machine;
use crate::network;

/// Reads what planning needs of a server, for the sites of these names. `is_asked` has its program
/// asked for its version: some things are written in the way that it knows.
///
/// # Errors
/// When a file or folder of yandro's own is there and can't be read.
pub fn observe(
    machine: &Machine,
    found: &Found,
    names: &[HostName],
    is_asked: bool,
) -> Result<Box<dyn ServerModel>, FileError> {
    observe_without(machine, found, names, is_asked, &[])
}

/// The same as if virtual hosts of a person's were not there.
///
/// # Errors
/// As [`observe`].
pub fn observe_without(
    machine: &Machine,
    found: &Found,
    names: &[HostName],
    is_asked: bool,
    cuts: &[CutFile],
) -> Result<Box<dyn ServerModel>, FileError> {
    let is_known = found.kind.software().knows_built_in(&found.layout);
    let start = program::start(machine, found, is_asked || !is_known);
    let loopback6 = || Loopback6 {
        is_there: !machine.is_real() || network::has_v6_loopback(),
        listens: if machine.is_real() { network::listens_on_v6(80) } else { None },
        would_listen: !machine.is_real() || network::would_listen_on_v6(),
    };
    Ok(found.kind.software().observe(Seeing {
        own: own_files(found, names)?,
        start,
        files: &WithoutHand::new(found, cuts),
        owner_of: &|file| found.owner_of(file),
        loopback6: (!found.is_elsewhere()).then(loopback6),
    }))
}

/// The virtual hosts of other people that answered for names without a site, and whose place a
/// site of yandro's has taken, since its file comes first: place and address.
pub fn displaced(machine: &Machine, found: &Found) -> Vec<(Place, String)> {
    let configuration = unasked_configuration(machine, found);
    let owner = |host: &VirtualHost| found.owner_of(&host.place.file.as_str().into());
    let displaced = configuration.answering().into_iter().filter_map(|at| {
        let default = at.hosts.get(at.default).filter(|default| matches!(owner(default), FileOwner::Site(_)));
        let other = at.hosts.iter().find(|host| !owner(host).is_yandro())?;
        default.map(|_| (other.place.clone(), at.address.clone()))
    });
    displaced.collect()
}
