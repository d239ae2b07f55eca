//! Having php-fpm read its pools again.

use std::time::{Duration, Instant};

use camino::Utf8Path;
use yandro_core::PhpPool;

use super::homes::homes;
use super::installed::program_of;
use super::look::{Sockets, pools};
use super::start::start;
use crate::changes::ControlError;
use crate::files;
use crate::machine::Machine;
use crate::os::{self, Signal};
use crate::process;

/// How long it has.
const PATIENCE: Duration = Duration::from_secs(20);
/// How often it is looked at.
const LOOK: Duration = Duration::from_millis(10);

/// Has the php-fpm of a version test its configuration and use it, or starts one that doesn't run. Returns once all of
/// its pools listen, and none of the former processes is left. Root's.
///
/// # Errors
/// When there is none, others than root can change it, or it refuses its configuration, in its own words.
pub(crate) fn reload(machine: &Machine, version: &str) -> Result<(), ControlError> {
    let program = program_of(machine, version).ok_or(ControlError::NoCommand)?;
    let path = program.path();
    if !files::only_root_changes(&path) {
        return Err(ControlError::Said(format!("others than root can change {path}, and root doesn't run it")));
    }
    let tested = process::run(&path, &["-t"]).map_err(|error| ControlError::Said(format!("{path}: {error}")))?;
    if !tested.succeeded {
        return Err(ControlError::Said(tested.words));
    }
    let name = path.file_name().unwrap_or_default();
    let all = os::processes_named(&[name]);
    let is_master = |pid: &i32| {
        let found = os::process(*pid);
        found.is_some_and(|found| found.is_alive && !all.contains(&found.parent)) && os::shares_processes(*pid)
    };
    let masters: Vec<i32> = all.iter().copied().filter(is_master).collect();
    if masters.is_empty() {
        return start(machine, version);
    }
    let workers: Vec<i32> = masters.iter().flat_map(|master| os::children(*master)).collect();
    for master in &masters {
        let signalled = os::send(*master, Signal::Usr2);
        signalled.map_err(|source| ControlError::Signal { pid: *master, what: "read its pools again", source })?;
    }
    let home = homes(machine).remove(version).unwrap_or_default();
    let is_of_version = |pool: &PhpPool| Utf8Path::new(&pool.place.file).parent() == Some(&home);
    let wanted: Vec<_> = pools(machine).into_iter().filter(is_of_version).collect();
    let began = Instant::now();
    loop {
        if masters.iter().any(|master| os::process(*master).is_none_or(|found| !found.is_alive)) {
            return Err(ControlError::Ended);
        }
        let listening = Sockets::look();
        let is_done = wanted.iter().all(|pool| listening.has(machine, &pool.address));
        let is_left = workers.iter().any(|worker| os::process(*worker).is_some_and(|found| found.is_alive));
        if is_done && !is_left {
            return Ok(());
        }
        if began.elapsed() > PATIENCE {
            return Err(ControlError::NotUp);
        }
        std::thread::sleep(LOOK);
    }
}
