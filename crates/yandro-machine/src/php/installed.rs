//! The php-fpm programs of this machine, with their versions, pools and users.

use camino::Utf8Path;
use yandro_core::{FastCgi, PhpPool};

use super::look::{Sockets, is_same, pools};
use super::programs::{PhpProgram, PhpVerb, programs};
use super::sockets;
use crate::machine::Machine;
use crate::process;

/// A pool of a php-fpm, or one that is installed and has no pool.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Php {
    /// Its version, such as `8.2`; empty if it isn't known.
    pub version: String,
    /// The name of the pool.
    pub pool: Option<String>,
    /// The user that runs its PHP files.
    pub user: Option<String>,
    /// The address that web servers reach it at.
    pub address: Option<FastCgi>,
    /// Whether something listens there.
    pub listens: bool,
    /// The command that starts it, if it doesn't run.
    pub start: Option<String>,
}

/// Every php-fpm that is installed or listens, the highest version first.
pub fn installed(machine: &Machine) -> Vec<Php> {
    let (pools, programs, listening) = (pools(machine), programs(machine), Sockets::look());
    let mut found: Vec<Php> = Vec::new();
    for pool in &pools {
        let version = version_of_pool(machine, pool, &programs);
        let program = programs.iter().find(|own| is_version(machine, own, &version, &programs));
        found.push(Php {
            listens: listening.has(machine, &pool.address),
            pool: Some(pool.name.clone()),
            user: pool.user.clone(),
            address: Some(pool.address.clone()),
            start: program.filter(|own| !own.is_running).map(|own| own.command(machine, PhpVerb::Start)),
            version,
        });
    }
    // A socket without a file that says so, as of a container.
    for socket in sockets(machine).into_iter().map(FastCgi::Socket) {
        let is_known = found.iter().filter_map(|php| php.address.as_ref()).any(|own| is_same(machine, own, &socket));
        if !is_known && listening.has(machine, &socket) {
            let version = socket.to_string().rsplit('/').next().map(version_in).unwrap_or_default();
            let address = Some(socket);
            found.push(Php { version, pool: None, user: None, address, listens: true, start: None });
        }
    }
    found.sort_by_key(|php| std::cmp::Reverse(numbers(&php.version)));
    found
}

/// The program of a version.
pub(super) fn program_of(machine: &Machine, version: &str) -> Option<PhpProgram> {
    let all = programs(machine);
    all.iter().find(|own| is_version(machine, own, version, &all)).cloned()
}

fn version_of_pool(machine: &Machine, pool: &PhpPool, programs: &[PhpProgram]) -> String {
    version_of_folder(machine, Utf8Path::new(&pool.place.file), programs)
}

/// The version in a path of pools (`/etc/php/8.2/…`, `/etc/opt/remi/php82/…`), or that of the only program.
pub(super) fn version_of_folder(machine: &Machine, path: &Utf8Path, programs: &[PhpProgram]) -> String {
    let parts = path.components().map(|part| part.as_str().to_owned());
    let in_path = parts.map(|part| version_in(&part)).find(|version| !version.is_empty());
    in_path.unwrap_or_else(|| match programs {
        [only] => version_of_program(machine, only),
        _ => String::new(),
    })
}

/// A version in a word: `8.2`, `php8.2-fpm.sock`, or `php82` as 8.2.
fn version_in(word: &str) -> String {
    let start = word.strip_prefix("php").unwrap_or(word);
    let number: String = start.chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    let number = number.trim_end_matches('.');
    match number.len() {
        2 if word.starts_with("php") && !number.contains('.') => format!("{}.{}", &number[..1], &number[1..]),
        _ if number.contains('.') => number.to_owned(),
        _ => String::new(),
    }
}

/// The version of a program: by its name, or as it says itself.
fn version_of_program(machine: &Machine, program: &PhpProgram) -> String {
    if !program.version().is_empty() || !machine.is_real() {
        return program.version().to_owned();
    }
    let ran = process::run(&program.path(), &["-v"]);
    let words = ran.map(|ran| ran.words).unwrap_or_default();
    let version = words.strip_prefix("PHP ").unwrap_or_default();
    version.split('.').take(2).collect::<Vec<_>>().join(".")
}

/// Whether a program is the one of a version. A single program is that of every pool.
pub(super) fn is_version(machine: &Machine, program: &PhpProgram, version: &str, all: &[PhpProgram]) -> bool {
    match all {
        [only] if only.version().is_empty() => version.is_empty() || version_of_program(machine, only) == version,
        _ => !version.is_empty() && program.version() == version,
    }
}

pub(super) fn numbers(version: &str) -> Vec<u32> {
    version.split('.').filter_map(|part| part.parse().ok()).collect()
}

#[cfg(test)]
mod tests {
    use std::fs;

    use camino::Utf8PathBuf;

    use super::*;
    use crate::machine::Environment;

    #[test]
    fn pools_of_several_versions_are_listed_the_highest_first() {
        let folder = tempfile::tempdir().unwrap();
        let sysroot = Utf8PathBuf::from_path_buf(folder.path().to_owned()).unwrap();
        let pool = |name: &str, listen: &str| format!("[{name}]\nuser = {name}\nlisten = {listen}\n");
        for (file, text) in [
            ("etc/php/8.1/fpm/pool.d/www.conf", pool("www-data", "/run/php/php8.1-fpm.sock")),
            ("etc/php/8.10/fpm/pool.d/www.conf", pool("www-data", "/run/php/php8.10-fpm.sock")),
            ("etc/php/8.10/fpm/pool.d/tides.conf", pool("ada", "/run/php/tides.sock")),
            ("etc/opt/remi/php82/php-fpm.d/www.conf", pool("apache", "127.0.0.1:9")),
            ("usr/sbin/php-fpm8.1", String::new()),
            ("usr/sbin/php-fpm8.10", String::new()),
        ] {
            let path = sysroot.join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let environment =
            Environment { sysroot, home: Some("/home/ada".into()), config_home: None, data_home: None, sudo_uid: None };
        let all = installed(&Machine::new(&environment).unwrap());
        let told: Vec<String> = all
            .iter()
            .map(|php| {
                let address = php.address.as_ref().map(ToString::to_string).unwrap_or_default();
                let start = php.start.as_deref().unwrap_or("-");
                format!("{} {} {address} {} {start}", php.version, php.user.as_deref().unwrap_or("?"), php.listens)
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @"
        8.10 ada /run/php/tides.sock false sudo /usr/sbin/php-fpm8.10
        8.10 www-data /run/php/php8.10-fpm.sock false sudo /usr/sbin/php-fpm8.10
        8.2 apache 127.0.0.1:9 false -
        8.1 www-data /run/php/php8.1-fpm.sock false sudo /usr/sbin/php-fpm8.1
        ");
    }

    #[test]
    fn versions_are_read_from_paths() {
        for (word, version) in
            [("8.2", "8.2"), ("php8.2-fpm.sock", "8.2"), ("php82", "8.2"), ("php-fpm.d", ""), ("opt", ""), ("82", "")]
        {
            assert_eq!(version_in(word), version, "{word}");
        }
    }
}
