//! Caches of the resolver's answers on this machine.

use camino::Utf8Path;
use yandro_core::{Cache, Multi, ResolverSetup, Surroundings};

use crate::files;
use crate::machine::Machine;
use crate::network;
use crate::os;
use crate::process;
use crate::process::ProgramError;

/// The caches that run; none within a sysroot, which no resolver reads.
pub fn running(machine: &Machine) -> Vec<Cache> {
    let known = if machine.is_real() { machine.system.caches() } else { &[] };
    known.iter().copied().filter(|cache| runs(*cache)).collect()
}

fn runs(cache: Cache) -> bool {
    let is_there = cache == Cache::Windows || cache.flush().iter().all(|line| Utf8Path::new(line[0]).is_file());
    is_there && cache.socket().is_none_or(|socket| os::connects(Utf8Path::new(socket)).is_ok())
}

/// Has a cache forget its answers.
///
/// # Errors
/// The program that failed.
pub fn flush(cache: Cache) -> Result<(), ProgramError> {
    if cache == Cache::Windows {
        return os::flush_names().map_err(|source| ProgramError::NotRun { program: cache.title().to_owned(), source });
    }
    for line in cache.flush() {
        ProgramError::check(line[0], process::run(Utf8Path::new(line[0]), &line[1..]))?;
    }
    Ok(())
}

/// The parts between the hosts file and the resolver's answer; empty within a sysroot.
pub fn resolver_setup(machine: &Machine) -> ResolverSetup {
    if !machine.is_real() {
        return ResolverSetup::default();
    }
    let surroundings = surroundings(machine);
    ResolverSetup {
        caches: running(machine),
        sources: surroundings.name_sources().iter().map(|&source| source.to_owned()).collect(),
        own_addresses: network::addresses().iter().map(|own| own.address).collect(),
        hosts_maker: surroundings.hosts_maker(machine.places.hosts.as_str()),
        usual_addresses: [true, false].into_iter().filter_map(network::usual).collect(),
    }
}

/// The lines of a name in the hosts file that count, by `/etc/host.conf`.
pub fn multi(machine: &Machine) -> Multi {
    let conf = files::read_if_there(&machine.path("/etc/host.conf")).ok().flatten();
    Multi::of_host_conf(&conf.unwrap_or_default())
}

/// Facts about the place of the hosts file.
pub fn surroundings(machine: &Machine) -> Surroundings {
    let read = |path: &Utf8Path| {
        let bytes = files::read_if_there(path).ok().flatten().unwrap_or_default();
        String::from_utf8_lossy(&bytes).into_owned()
    };
    let text = |absolute: &str| read(&machine.path(absolute));
    Surroundings {
        kernel: text("/proc/version"),
        wsl_conf: text("/etc/wsl.conf"),
        mounts: text("/proc/self/mountinfo"),
        nsswitch: text("/etc/nsswitch.conf"),
        is_of_cloud_init: read(&machine.places.hosts).contains("manage_etc_hosts"),
        has_text_twin: machine.places.hosts.with_extension("txt").is_file(),
    }
}
