//! php-fpm: its addresses, its pools, the state of both.

mod homes;
mod installed;
mod look;
mod own;
mod programs;
mod reload;
mod start;

use yandro_core::{FastCgi, ServerPath};

use crate::machine::Machine;

pub(crate) use homes::{for_planning, is_of_other_person, owner_of_pool};
pub use homes::{homes, usual_version};
pub use installed::{Php, installed};
pub(crate) use look::look;
pub use own::{OwnPhp, own_address};
pub(crate) use reload::reload;
pub(crate) use start::start;

/// The folders and names of sockets, by distribution: a name without a version first, for it
/// stays after an update of PHP.
const SOCKETS: [(&str, &str, &str); 6] = [
    // Debian: its alternatives keep a link, then one socket for each version.
    ("/run/php", "php-fpm", ".sock"),
    ("/run/php", "php", "-fpm.sock"),
    // Red Hat, Arch.
    ("/run/php-fpm", "www", ".sock"),
    ("/run/php-fpm", "php-fpm", ".sock"),
    // FreeBSD and others.
    ("/var/run", "php", "-fpm.sock"),
    ("/var/run", "php-fpm", ".sock"),
];

/// The socket of the php-fpm that is here; of several versions the highest.
pub fn find(machine: &Machine) -> Option<FastCgi> {
    sockets(machine).into_iter().next().map(FastCgi::Socket)
}

/// Every socket of one that is here, or was.
pub(crate) fn sockets(machine: &Machine) -> Vec<ServerPath> {
    let in_folder = |(folder, prefix, suffix): &(&str, &str, &str)| -> Option<Vec<(Vec<u32>, ServerPath)>> {
        let real = machine.real_path(folder);
        let names = real.read_dir_utf8().ok()?.filter_map(|entry| Some(entry.ok()?.file_name().to_owned()));
        let versions = names.filter_map(|name| {
            let version = name.strip_prefix(prefix)?.strip_suffix(suffix)?.to_owned();
            let is_version = version.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
            let number: Vec<u32> = version.split('.').filter_map(|part| part.parse().ok()).collect();
            is_version.then(|| (number, ServerPath::from(format!("{folder}/{name}"))))
        });
        let mut versions: Vec<_> = versions.collect();
        versions.sort();
        versions.reverse();
        Some(versions)
    };
    SOCKETS.iter().filter_map(in_folder).flatten().map(|(_, socket)| socket).collect()
}

#[cfg(test)]
mod tests {
    use std::fs;

    use camino::Utf8PathBuf;

    use super::*;
    use crate::machine::Environment;

    #[test]
    fn a_name_without_a_version_comes_first_and_of_versions_the_highest() {
        let folder = tempfile::tempdir().unwrap();
        let sysroot = Utf8PathBuf::from_path_buf(folder.path().to_owned()).unwrap();
        let environment = Environment {
            sysroot: sysroot.clone(),
            home: Some("/home/ada".into()),
            config_home: None,
            data_home: None,
            sudo_uid: None,
        };
        let machine = Machine::new(&environment).unwrap();
        let found = || find(&machine).map(|own| own.to_string());
        let put = |path: &str| {
            let path = sysroot.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, "").unwrap();
        };
        assert_eq!(found(), None);
        put("run/php-fpm/www.sock");
        assert_eq!(found().as_deref(), Some("/run/php-fpm/www.sock"));
        for name in ["php8.2-fpm.sock", "php8.10-fpm.sock", "php8.3-fpm.pid", "phpx-fpm.sock"] {
            put(&format!("run/php/{name}"));
        }
        assert_eq!(found().as_deref(), Some("/run/php/php8.10-fpm.sock"));
        put("run/php/php-fpm.sock");
        assert_eq!(found().as_deref(), Some("/run/php/php-fpm.sock"));
    }
}
