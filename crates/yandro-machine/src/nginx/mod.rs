//! nginx on this machine: where it is, what it has, its control.

mod control;
mod observe;

pub use control::Nginx;
pub use observe::observe;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::Layout;
use yandro_core::nginx::KNOWN;
use yandro_core::nginx::run::Configuration;

use crate::apache::FilesBelow;
use crate::machine::Machine;
use crate::permissions::User;
use crate::process;

/// The layout of the nginx that is there, if there is one.
pub fn find_layout(machine: &Machine) -> Option<Layout> {
    Layout::find(KNOWN, |path| machine.path(path).exists(), |path| machine.path(path))
}

/// Runs through the configuration of a layout.
pub fn configuration(machine: &Machine, layout: &Layout) -> Configuration {
    run_through(&machine.places.sysroot, &machine.places.inside(&layout.main))
}

/// Runs through a configuration below `sysroot`.
pub fn run_through(sysroot: &Utf8Path, main: &Utf8Path) -> Configuration {
    Configuration::run(main, &FilesBelow(sysroot))
}

/// Whom the workers run as, by the configuration; without a word on it, nginx's own default.
pub fn server_user(machine: &Machine) -> Option<User> {
    let configuration = configuration(machine, &find_layout(machine)?);
    User::of_name(configuration.user.as_deref().unwrap_or("nobody"))
}

/// The server's program.
fn program(layout: &Layout) -> Option<Utf8PathBuf> {
    process::find(layout.known.programs)
}
