//! nginx on this machine: where it is and what it has.

use camino::Utf8Path;
use yandro_core::config::Layout;
use yandro_core::nginx::KNOWN;
use yandro_core::nginx::run::Configuration;

use crate::apache::FilesBelow;
use crate::machine::Machine;

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
