//! The state of php-fpm as seen from a site.

use std::io::ErrorKind;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{FastCgi, PhpFacts, PhpPool, PhpState, System, php_pools};

use super::programs::{PhpProgram, PhpVerb, install, programs};
use super::sockets;
use crate::files;
use crate::machine::Machine;
use crate::os::{self, NamedSocket};
use crate::permissions::{self, User};
use crate::ports;

/// The folders of pools' files, by distribution. `*` is a version.
pub(super) const POOLS: [&str; 6] = [
    "/etc/php/*/fpm/pool.d",
    "/etc/opt/remi/*/php-fpm.d",
    "/etc/php-fpm.d",
    "/etc/php/php-fpm.d",
    "/usr/local/etc/php-fpm.d",
    "/opt/homebrew/etc/php/*/php-fpm.d",
];

/// Looks at the address `php` that a site's PHP files are passed on to, as `user`, the web server's, uses it, and at
/// what else is there.
pub(crate) fn look(machine: &Machine, php: Option<&FastCgi>, user: Option<&User>) -> PhpFacts {
    let (pools, programs) = (pools(machine), programs(machine));
    let listening = Sockets::look();
    let pool = php.and_then(|php| pools.iter().find(|pool| is_same(machine, &pool.address, php)));
    let known = pools.iter().map(|pool| pool.address.clone());
    let found = sockets(machine).into_iter().map(FastCgi::Socket);
    let mut answering: Vec<FastCgi> = Vec::new();
    for address in found.chain(known) {
        if !answering.contains(&address) && listening.has(machine, &address) && may_use(&address, user) {
            answering.push(address);
        }
    }
    let own = |program: &&PhpProgram| match (pool, php) {
        (Some(pool), _) if pool.place.file.contains(&format!("/{}/", program.version())) => true,
        (_, Some(FastCgi::Socket(path))) => {
            !program.version().is_empty() && path.as_str().contains(&format!("php{}-", program.version()))
        }
        _ => false,
    };
    let own = programs.iter().find(own);
    let idle = |program: &&PhpProgram| !program.is_running;
    let busy = own.filter(|own| own.is_running).or_else(|| programs.iter().find(|program| program.is_running));
    PhpFacts {
        address: php.map(|php| (php.clone(), state(machine, php, user, &listening))),
        pool: pool.cloned(),
        answering,
        start_own: own.filter(idle).map(|own| own.command(machine, PhpVerb::Start)).or_else(|| by_hand(machine, php)),
        starts: programs.iter().filter(idle).map(|own| own.command(machine, PhpVerb::Start)).collect(),
        restart: busy.map(|own| own.command(machine, PhpVerb::Restart)),
        install: if programs.is_empty() { install(machine) } else { None },
    }
}

/// The command that starts PHP on Windows, which has no php-fpm: its CGI program listens on a port.
fn by_hand(machine: &Machine, php: Option<&FastCgi>) -> Option<String> {
    match php {
        Some(FastCgi::Address(address)) if machine.system == System::Windows => {
            Some(format!("Start-Process php-cgi \"-b {address}\""))
        }
        _ => None,
    }
}

/// The pools of all versions.
pub(super) fn pools(machine: &Machine) -> Vec<PhpPool> {
    let mut found = Vec::new();
    for pattern in POOLS {
        for folder in folders(machine, pattern) {
            let real = machine.real_path(folder.as_str());
            let mut names: Vec<String> =
                real.read_dir_utf8().into_iter().flatten().flatten().map(|own| own.file_name().to_owned()).collect();
            names.sort();
            for name in names.iter().filter(|name| Utf8Path::new(name).extension() == Some("conf")) {
                let text = files::read(&real.join(name)).unwrap_or_default();
                found.extend(php_pools(folder.join(name).as_str(), &String::from_utf8_lossy(&text)));
            }
        }
    }
    found
}

/// The folders that a pattern with at most one `*` names, the highest version first.
pub(super) fn folders(machine: &Machine, pattern: &str) -> Vec<Utf8PathBuf> {
    let Some((above, below)) = pattern.split_once('*') else { return vec![pattern.into()] };
    let entries = machine.real_path(above).read_dir_utf8().into_iter().flatten().flatten();
    let mut versions: Vec<String> = entries.map(|entry| entry.file_name().to_owned()).collect();
    versions.sort();
    versions.reverse();
    versions.into_iter().map(|version| format!("{above}{version}{below}").into()).collect()
}

/// Whether two addresses are one: a distribution may keep a link to the socket of its usual version.
pub(super) fn is_same(machine: &Machine, one: &FastCgi, other: &FastCgi) -> bool {
    let target = |address: &FastCgi| match address {
        FastCgi::Socket(path) => end_of_links(machine, &path.to_native()).to_string(),
        FastCgi::Address(address) => address.to_string(),
    };
    one == other || target(one) == target(other)
}

/// The end of a chain of links, whether it exists or not.
fn end_of_links(machine: &Machine, path: &Utf8Path) -> Utf8PathBuf {
    let mut here = path.to_owned();
    for _ in 0..8 {
        match machine.real_path(here.as_str()).read_link_utf8() {
            Ok(next) => here = here.parent().unwrap_or(Utf8Path::new("/")).join(next),
            Err(_) => break,
        }
    }
    here
}

fn state(machine: &Machine, php: &FastCgi, user: Option<&User>, listening: &Sockets) -> PhpState {
    if !listening.has(machine, php) {
        return PhpState::Down;
    }
    if let (FastCgi::Socket(path), Some(user)) = (php, user)
        && !may_use(php, Some(user))
    {
        let mode = os::mode(&path.to_native()).unwrap_or(0);
        return PhpState::Forbidden { user: user.name.clone(), mode };
    }
    if listening.waiting(machine, php) > 0 { PhpState::Full } else { PhpState::Listens }
}

/// Whether the user may connect to a socket, which takes the right to write (unix(7)).
fn may_use(address: &FastCgi, user: Option<&User>) -> bool {
    match (address, user) {
        (FastCgi::Socket(path), Some(user)) => permissions::may_write(&path.to_native(), user),
        _ => true,
    }
}

/// The sockets of the file system that are in use.
pub(super) struct Sockets(Vec<NamedSocket>);

impl Sockets {
    pub(super) fn look() -> Self {
        Self(os::named_sockets())
    }

    /// Whether something listens at an address.
    pub(super) fn has(&self, machine: &Machine, address: &FastCgi) -> bool {
        match address {
            FastCgi::Socket(path) => match os::connects(&machine.real_path(path.as_str())) {
                Ok(()) => true,
                // Other users' sockets can't be tried.
                Err(error) if error.kind() == ErrorKind::PermissionDenied => {
                    let path = end_of_links(machine, &path.to_native());
                    path.exists() && self.0.iter().any(|own| own.path == path && own.is_listening)
                }
                Err(_) => false,
            },
            FastCgi::Address(address) => std::net::TcpStream::connect(address.to_string()).is_ok(),
        }
    }

    /// How many connections wait to be taken.
    fn waiting(&self, machine: &Machine, address: &FastCgi) -> usize {
        match address {
            FastCgi::Socket(path) => {
                let path = end_of_links(machine, &path.to_native());
                self.0.iter().filter(|own| own.path == path && own.is_waiting).count()
            }
            FastCgi::Address(address) => ports::waiting(address.port()),
        }
    }
}
