//! Where pools of sites go, and whom they run as.

use std::collections::BTreeMap;

use camino::Utf8PathBuf;
use yandro_core::{FastCgi, HostName, Pools, Site, pool_of_file};

use super::installed::{is_version, numbers, version_of_folder};
use super::look::{POOLS, folders, is_same, pools};
use super::programs::programs;
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::os::{self, UserId};
use crate::permissions::user_name;
use crate::servers::{self, Found};

/// The folder of pools' files of each php-fpm that is installed, by its version.
pub fn homes(machine: &Machine) -> BTreeMap<String, Utf8PathBuf> {
    let programs = programs(machine);
    let mut found = BTreeMap::new();
    for folder in POOLS.iter().flat_map(|pattern| folders(machine, pattern)) {
        let version = version_of_folder(machine, &folder, &programs);
        let has_program = programs.iter().any(|own| is_version(machine, own, &version, &programs));
        if has_program && !version.is_empty() && machine.real_path(folder.as_str()).is_dir() {
            found.entry(version).or_insert(machine.real_path(folder.as_str()));
        }
    }
    found
}

/// The highest version of PHP whose php-fpm takes pools.
pub fn usual_version(machine: &Machine) -> Option<String> {
    homes(machine).into_keys().max_by_key(|version| numbers(version))
}

/// php-fpm as planning needs it: the pools of sites that are there, and what those of `sites` need. `names` are all of
/// whose scripts are looked for.
///
/// # Errors
/// When a file is there and can't be read.
pub(crate) fn for_planning(
    machine: &Machine,
    found: &[Found],
    sites: &[&Site],
    names: &[HostName],
) -> Result<Pools, FileError> {
    let mut pools = Pools { folders: homes(machine), ..Pools::default() };
    for folder in pools.folders.values() {
        let entries = folder.read_dir_utf8().into_iter().flatten().flatten();
        for path in entries.map(camino::Utf8DirEntry::into_path).filter(|path| pool_of_file(path).is_some()) {
            if let Some(text) = files::read_if_there(&path)? {
                pools.files.insert(path, text.into());
            }
        }
    }
    let places = &machine.places;
    let scripts = files::read_by_name(&places.secrets_scripts(), names, |name| places.secrets_script(name))?;
    pools.scripts.extend(scripts.into_iter().map(|(name, text)| (name, text.into())));
    let with_pool = || sites.iter().filter(|site| site.serving.php_as_owner.is_some());
    for site in with_pool() {
        let owner = site.document_root().and_then(|root| os::owner(&root).ok());
        if let Some(owner) = owner.and_then(owner_of_pool) {
            pools.owners.insert(site.name.clone(), owner);
        }
        let own = found.iter().find(|own| Some(own.id) == site.server);
        if let Some((own, user)) = own.and_then(|own| Some((own, servers::user(machine, own)?))) {
            pools.servers.insert(own.id, user.name);
        }
    }
    Ok(pools)
}

/// The user as a pool names them; `None` for root and for accounts of services.
pub(crate) fn owner_of_pool(owner: UserId) -> Option<String> {
    let name = os::is_person(owner).then(|| user_name(owner))?;
    let is_plain = name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"_.-".contains(&byte));
    Some(if is_plain { name } else { owner.to_string() })
}

/// Whether an address is that of a pool which runs PHP as another person than `user`.
pub(crate) fn is_of_other_person(machine: &Machine, php: &FastCgi, user: UserId) -> bool {
    let own = owner_of_pool(user);
    let is_person = |name: &String| {
        let number = os::account_named(name).map(|account| account.number);
        // A number has no name where it is one itself.
        number.is_none_or(os::is_person)
    };
    let users = pools(machine).into_iter().filter(|pool| is_same(machine, &pool.address, php));
    users.filter_map(|pool| pool.user).any(|other| Some(&other) != own.as_ref() && is_person(&other))
}
