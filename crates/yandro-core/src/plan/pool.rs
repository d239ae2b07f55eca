//! Pools of php-fpm that sites have for themselves: PHP files run as the project's owner.
//!
//! A pool is a file of root's beside those of the distribution (PHP manual, "FPM configuration"). Its user is the owner
//! of the project's folder, and only the web server may connect to it. Secrets of a site don't go into that file, which
//! everybody can read: the pool runs a script of the owner's before each page, which reads them from their own files.

use std::collections::BTreeMap;

use camino::{Utf8Path, Utf8PathBuf};

use super::change::{Access, ChangeSet};
use super::content::FileContent;
use super::error::PlanError;
use super::observed::Observed;
use super::places::Places;
use super::role::Role;
use crate::config::{head, list_of};
use crate::name::HostName;
use crate::site::{FastCgi, ListId, ServerId, Site};

/// php-fpm on a machine, as far as pools of sites need it.
#[derive(Clone, Debug, Default)]
pub struct Pools {
    /// The folder of pools' files by version of PHP.
    pub folders: BTreeMap<String, Utf8PathBuf>,
    /// The files of sites' pools.
    pub files: BTreeMap<Utf8PathBuf, FileContent>,
    /// The scripts that read secrets.
    pub scripts: BTreeMap<HostName, FileContent>,
    /// The owners of the projects of sites with a pool, if they are persons: their names or numbers.
    pub owners: BTreeMap<HostName, String>,
    /// The users of the web servers that are on this machine.
    pub servers: BTreeMap<ServerId, String>,
}

/// The beginning and the end of the name of a pool's file.
const FILE: (&str, &str) = ("yandro-", ".conf");
/// The longest name of a site with a pool: paths of sockets have at most 107 bytes (unix(7)).
const LONGEST_NAME: usize = 80;
/// The lines of a new pool that people may change: few processes, and none while nobody asks.
const USUAL: &str = "pm = ondemand\npm.max_children = 10\npm.process_idle_timeout = 60s\n";
/// The setting that runs a script before each page.
const PREPEND: &str = "php_admin_value[auto_prepend_file]";

/// The site whose pool a file is, by its name.
pub fn pool_of_file(path: &Utf8Path) -> Option<HostName> {
    let name = path.file_name()?.strip_prefix(FILE.0)?.strip_suffix(FILE.1)?;
    HostName::parse(name).ok()
}

impl Places {
    /// The folder of the scripts that read secrets.
    pub fn secrets_scripts(&self) -> Utf8PathBuf {
        self.data.join("php")
    }

    /// The script that reads a site's secrets.
    pub fn secrets_script(&self, name: &HostName) -> Utf8PathBuf {
        self.secrets_scripts().join(format!("{name}.php"))
    }
}

impl Pools {
    /// The names of the sites that have a pool's file of this list.
    pub(super) fn of_list<'p>(&'p self, list: &'p ListId) -> impl Iterator<Item = HostName> + 'p {
        let own = self.files.iter().filter(move |(_, text)| list_of(text).as_ref() == Some(list));
        own.filter_map(|(path, _)| pool_of_file(path))
    }
}

impl Observed {
    /// Whether a path is the file of a site's pool.
    pub(super) fn is_pool(&self, path: &Utf8Path) -> bool {
        pool_of_file(path).is_some() && self.pools.folders.values().any(|folder| path.parent() == Some(folder))
    }
}

/// Plans the pool of a site that is to have one, and takes away those that it has no more.
///
/// # Errors
/// When PHP of that version is not here, or the pool can't run as the owner.
pub(super) fn plan_pool(set: &mut ChangeSet, observed: &Observed, site: &Site) -> Result<(), PlanError> {
    let version = site.serving.php_as_owner.as_ref().filter(|_| !site.disabled);
    let path = match version {
        Some(version) => Some(write_pool(set, observed, site, version)?),
        None => None,
    };
    drop_pools(set, observed, &site.name, path.as_deref());
    Ok(())
}

/// Takes the pools of a site away but this one. Those of other lists stay.
pub(super) fn drop_pools(set: &mut ChangeSet, observed: &Observed, name: &HostName, kept: Option<&Utf8Path>) {
    let places = &observed.places;
    for (path, text) in &observed.pools.files {
        let is_own = pool_of_file(path).as_ref() == Some(name) && list_of(text).as_ref() == Some(&places.list);
        if is_own && Some(&**path) != kept {
            let role = Role::PhpPool { site: name.clone(), version: observed.pools.version_of(path) };
            set.file(role, path.clone(), (Some(text.clone()), None::<Vec<u8>>), Access::Public);
        }
    }
    if kept.is_none() {
        let script = observed.pools.scripts.get(name).cloned();
        let role = Role::PhpSecrets(name.clone());
        set.file(role, places.secrets_script(name), (script, None::<Vec<u8>>), Access::Private);
    }
}

impl Pools {
    fn version_of(&self, path: &Utf8Path) -> String {
        let own = self.folders.iter().find(|(_, folder)| path.parent() == Some(folder));
        own.map(|(version, _)| version.clone()).unwrap_or_default()
    }
}

fn write_pool(set: &mut ChangeSet, observed: &Observed, site: &Site, version: &str) -> Result<Utf8PathBuf, PlanError> {
    let (pools, places, name) = (&observed.pools, &observed.places, &site.name);
    if name.as_str().len() > LONGEST_NAME {
        return Err(PlanError::PoolName(name.clone()));
    }
    let missing = || PlanError::PhpMissing { version: version.to_owned(), name: name.clone() };
    let folder = pools.folders.get(version).ok_or_else(missing)?;
    let unowned = || PlanError::PoolOwner { name: name.clone(), folder: site.content.to_string() };
    let owner = pools.owners.get(name).ok_or_else(unowned)?;
    let foreign = || PlanError::PoolServer(name.clone());
    let server = site.server.and_then(|id| pools.servers.get(&id)).ok_or_else(foreign)?;
    let path = folder.join(format!("{}{name}{}", FILE.0, FILE.1));
    let existing = pools.files.get(&path);
    match existing.map(|text| list_of(text)) {
        Some(None) => return Err(PlanError::PoolTaken(path)),
        Some(Some(list)) if list != places.list => {
            return Err(PlanError::OtherList { name: name.clone(), list, path });
        }
        _ => {}
    }
    let secrets: Vec<(&str, &Utf8Path)> = site.serving.variables.iter().filter_map(|own| own.secret()).collect();
    let script = places.secrets_script(name);
    let text = (!secrets.is_empty()).then(|| secrets_script(name, &secrets));
    let prepend = text.is_some().then(|| places.inside(&script));
    if prepend.as_ref().is_some_and(|script| !is_plain(script)) {
        return Err(PlanError::PoolScript { name: name.clone(), path: script });
    }
    if text.is_some() {
        let folder = script.parent().unwrap_or(&script).to_owned();
        set.folder(Role::PhpSecrets(name.clone()), folder, Access::Private);
    }
    let present = pools.scripts.get(name).cloned();
    set.file(Role::PhpSecrets(name.clone()), script, (present, text.map(String::into_bytes)), Access::Private);
    let wanted = [
        ("user", Some(owner.clone())),
        ("listen", Some(FastCgi::of_pool(version, name).to_string())),
        ("listen.owner", Some(server.clone())),
        ("listen.mode", Some("0600".to_owned())),
        (PREPEND, prepend.map(|script| format!("\"{script}\""))),
    ];
    let text = pool_text(existing.map(|text| text.as_slice()), &places.list, name, &wanted);
    let role = Role::PhpPool { site: name.clone(), version: version.to_owned() };
    set.file(role, path.clone(), (existing.cloned(), Some(text.into_bytes())), Access::Public);
    Ok(path)
}

/// Whether the text of a pool's file has only lines of yandro's, with this user, and lines that `present` has, too.
pub fn is_own_pool(text: &[u8], owner: &str, present: &[u8]) -> bool {
    let (text, present) = (String::from_utf8_lossy(text), String::from_utf8_lossy(present));
    let is_own = |line: &str| match line.split_once('=').map(|(key, value)| (key.trim(), value.trim())) {
        Some(("user", user)) => user == owner,
        Some(("listen", socket)) => socket.starts_with("/run/yandro-php") && !socket.contains(".."),
        Some(("listen.owner" | "listen.mode" | PREPEND, _)) => true,
        Some(_) => USUAL.lines().any(|usual| usual == line),
        None => line.trim().is_empty() || line.starts_with(';') || line.starts_with("[yandro-"),
    };
    text.lines().all(|line| is_own(line) || present.lines().any(|own| own == line))
}

/// Whether php-fpm's reader takes a path in quotes as it is.
fn is_plain(path: &Utf8Path) -> bool {
    !path.as_str().contains(['"', '$', '\\']) && !path.as_str().chars().any(char::is_control)
}

/// The text of a pool's file: the lines that are wanted, in those that are there. Other lines stay.
fn pool_text(existing: Option<&[u8]>, list: &ListId, name: &HostName, wanted: &[(&str, Option<String>)]) -> String {
    let line = |(key, value): &(&str, Option<String>)| value.as_ref().map(|value| format!("{key} = {value}"));
    let heading = format!("[yandro-{name}]");
    let Some(existing) = existing else {
        let lines: Vec<String> = wanted.iter().filter_map(line).collect();
        let first = head(name, Some(list)).replacen('#', ";", 1);
        return format!("{first}\n{heading}\n{}\n{USUAL}", lines.join("\n"));
    };
    let text = String::from_utf8_lossy(existing);
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    let is_of = |line: &String, key: &str| line.split_once('=').is_some_and(|(own, _)| own.trim() == key);
    for own @ (key, _) in wanted {
        let wanted = line(own);
        let mut is_there = false;
        // Of a setting that stands twice the last counts.
        lines.retain_mut(|present| {
            if !is_of(present, key) {
                return true;
            }
            let stays = wanted.is_some() && !is_there;
            is_there = true;
            if let Some(wanted) = &wanted {
                present.clone_from(wanted);
            }
            stays
        });
        if let Some(wanted) = wanted.filter(|_| !is_there) {
            let at = lines.iter().position(|line| line.trim() == heading);
            let at = at.unwrap_or_else(|| {
                lines.push(heading.clone());
                lines.len() - 1
            });
            lines.insert(at + 1, wanted);
        }
    }
    lines.join("\n") + "\n"
}

/// The script that has secrets in the environment of a page, read anew for each.
fn secrets_script(name: &HostName, secrets: &[(&str, &Utf8Path)]) -> String {
    let quoted = |text: &str| format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"));
    let rows: String = secrets
        .iter()
        .map(|(name, file)| format!("        {} => {},\n", quoted(name), quoted(file.as_str())))
        .collect();
    format!(
        "<?php\n// {name}: yandro keeps this file, and its pool of php-fpm runs it before each page.\n(static function (): void {{\n    $files = [\n{rows}    ];\n    foreach ($files as $name => $file) {{\n        $value = @file_get_contents($file);\n        if ($value === false) {{\n            error_log(\"the secret $name of {name}: $file can't be read\");\n            continue;\n        }}\n        $value = rtrim($value, \"\\r\\n\");\n        putenv(\"$name=$value\");\n        $_ENV[$name] = $_SERVER[$name] = $value;\n    }}\n}})();\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(script: Option<&str>) -> [(&'static str, Option<String>); 3] {
        [
            ("user", Some("ada".to_owned())),
            ("listen", Some("/run/yandro-php8.2-a.sock".to_owned())),
            (PREPEND, script.map(str::to_owned)),
        ]
    }

    #[test]
    fn lines_of_a_person_stay_in_a_pool_and_those_that_decide_whom_it_runs_as_come_back() {
        let (list, name) = (ListId::new("ada", "/home/ada/sites.toml".into()), HostName::parse("tides.test").unwrap());
        let new = pool_text(None, &list, &name, &wanted(Some("\"/s.php\"")));
        insta::assert_snapshot!(new, @r#"
        ; tides.test: a site of ada, in /home/ada/sites.toml; lines that you add here stay
        [yandro-tides.test]
        user = ada
        listen = /run/yandro-php8.2-a.sock
        php_admin_value[auto_prepend_file] = "/s.php"
        pm = ondemand
        pm.max_children = 10
        pm.process_idle_timeout = 60s
        "#);
        assert_eq!(list_of(new.as_bytes()), Some(list.clone()));
        assert!(is_own_pool(new.as_bytes(), "ada", b"") && !is_own_pool(new.as_bytes(), "bob", b""));
        let foreign = new.clone() + "php_admin_value[extension] = /x.so\n";
        assert!(
            !is_own_pool(foreign.as_bytes(), "ada", b"") && is_own_pool(foreign.as_bytes(), "ada", foreign.as_bytes())
        );
        assert_eq!(pool_text(Some(new.as_bytes()), &list, &name, &wanted(Some("\"/s.php\""))), new);
        let edited =
            new.replace("max_children = 10", "max_children = 3").replace("user = ada", "user=root\nuser = bob")
                + "php_value[memory_limit] = 1G\n";
        let edited = edited.replace("listen = /run/yandro-php8.2-a.sock\n", "");
        insta::assert_snapshot!(pool_text(Some(edited.as_bytes()), &list, &name, &wanted(None)), @"
        ; tides.test: a site of ada, in /home/ada/sites.toml; lines that you add here stay
        [yandro-tides.test]
        listen = /run/yandro-php8.2-a.sock
        user = ada
        pm = ondemand
        pm.max_children = 3
        pm.process_idle_timeout = 60s
        php_value[memory_limit] = 1G
        ");
    }

    #[test]
    fn names_of_files_are_told_from_others() {
        let of = |path: &str| pool_of_file(path.into()).map(|name| name.to_string());
        assert_eq!(of("/etc/php/8.2/fpm/pool.d/yandro-tides.test.conf").as_deref(), Some("tides.test"));
        for path in ["/x/www.conf", "/x/yandro-.conf", "/x/yandro-a.test.conf.bak", "/x/yandro-a b.conf"] {
            assert_eq!(of(path), None, "{path}");
        }
    }
}
