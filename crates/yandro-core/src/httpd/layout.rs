//! Where a distribution keeps Apache httpd's files.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};

use super::parse::Tree;
use super::run::bare;
use crate::name::HostName;

/// Debian's layout: `sites-available` and `mods-available`, enabled by links.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DebianLayout {
    /// The configuration's folder, `/etc/apache2`.
    pub root: Utf8PathBuf,
}

/// What `mods-available` holds for one module.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ModuleFiles {
    /// The text of its `.load` file.
    pub load: String,
    /// Whether it has a `.conf` file, too.
    pub has_conf: bool,
}

impl DebianLayout {
    /// The main file.
    pub fn main_file(&self) -> Utf8PathBuf {
        self.root.join("apache2.conf")
    }

    /// The file of a site's virtual hosts.
    pub fn site_file(&self, name: &HostName) -> Utf8PathBuf {
        self.root.join("sites-available").join(site_file_name(name))
    }

    /// The site whose file this is, if it is one of yandro's.
    pub fn site_of_file(&self, path: &Utf8Path) -> Option<HostName> {
        let name = path.file_name()?.strip_prefix("yandro-")?.strip_suffix(".conf")?;
        let is_here = path.parent() == Some(&self.root.join("sites-available"));
        HostName::parse(name).ok().filter(|_| is_here)
    }

    /// Whether a link in `sites-enabled` is one of yandro's.
    pub fn is_own_link(&self, path: &Utf8Path) -> bool {
        let file = path.file_name().map(|name| self.root.join("sites-available").join(name));
        file.is_some_and(|file| self.site_of_file(&file).is_some())
    }

    /// The folder whose links say which sites are enabled.
    pub fn enabled_sites(&self) -> Utf8PathBuf {
        self.root.join("sites-enabled")
    }

    /// The link that enables a site, and where it points to.
    pub fn site_link(&self, name: &HostName) -> (Utf8PathBuf, Utf8PathBuf) {
        let file = site_file_name(name);
        (self.enabled_sites().join(&file), Utf8Path::new("../sites-available").join(file))
    }

    /// The folder of the modules that can be enabled.
    pub fn available_modules(&self) -> Utf8PathBuf {
        self.root.join("mods-available")
    }

    /// The folder whose links say which modules are enabled.
    pub fn enabled_modules(&self) -> Utf8PathBuf {
        self.root.join("mods-enabled")
    }

    /// The links that enable a module, with where they point to.
    pub fn module_links(&self, module: &str, files: &ModuleFiles) -> Vec<(Utf8PathBuf, Utf8PathBuf)> {
        let endings: &[&str] = if files.has_conf { &["load", "conf"] } else { &["load"] };
        let link = |ending: &&str| {
            let file = format!("{module}.{ending}");
            (self.enabled_modules().join(&file), Utf8Path::new("../mods-available").join(file))
        };
        endings.iter().map(link).collect()
    }
}

fn site_file_name(name: &HostName) -> String {
    format!("yandro-{name}.conf")
}

/// The modules to enable so that all of `wanted` work, dependencies first: the
/// `# Depends:` lines of the `.load` files name them.
///
/// # Errors
/// The name of a module that `available` doesn't have.
pub fn modules_to_enable(
    wanted: &[&str],
    available: &BTreeMap<String, ModuleFiles>,
    enabled: &BTreeSet<String>,
) -> Result<Vec<String>, String> {
    let mut order = Vec::new();
    for module in wanted {
        enable(module, available, enabled, &mut order)?;
    }
    Ok(order)
}

fn enable(
    module: &str,
    available: &BTreeMap<String, ModuleFiles>,
    enabled: &BTreeSet<String>,
    order: &mut Vec<String>,
) -> Result<(), String> {
    if enabled.contains(module) || order.iter().any(|done| done == module) {
        return Ok(());
    }
    let files = available.get(module).ok_or_else(|| module.to_owned())?;
    let depends = files.load.lines().filter_map(|line| line.strip_prefix("# Depends:"));
    for dependency in depends.flat_map(str::split_whitespace) {
        enable(dependency, available, enabled, order)?;
    }
    // A dependency that leads back here has put it in already.
    if !order.iter().any(|done| done == module) {
        order.push(module.to_owned());
    }
    Ok(())
}

/// Where a file has a virtual host for `name`, as its name or as an alias: the
/// line. Files that can't be read as a configuration have none.
pub fn named_virtual_host(file: &[u8], name: &HostName) -> Option<usize> {
    // Most files don't speak of the name at all.
    memchr::memmem::find(&file.to_ascii_lowercase(), name.as_str().as_bytes())?;
    let tree = Tree::parse(file).ok()?;
    let hosts = tree.virtual_hosts();
    let is_it = |value: &str| bare(value).eq_ignore_ascii_case(name.as_str());
    hosts
        .iter()
        .find(|host| {
            host.directives("ServerName").chain(host.directives("ServerAlias")).any(|own| own.values().any(is_it))
        })
        .map(|host| host.open.line)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn modules_come_with_what_they_depend_on() {
        let module =
            |depends: &str| ModuleFiles { load: format!("# Depends: {depends}\nLoadModule x x.so\n"), has_conf: false };
        let available = BTreeMap::from([
            ("ssl".to_owned(), module("setenvif mime socache_shmcb")),
            ("socache_shmcb".to_owned(), ModuleFiles::default()),
            ("rewrite".to_owned(), ModuleFiles::default()),
        ]);
        let enabled = BTreeSet::from(["setenvif".to_owned(), "mime".to_owned()]);
        assert_eq!(
            modules_to_enable(&["ssl", "rewrite"], &available, &enabled).unwrap(),
            ["socache_shmcb", "ssl", "rewrite"]
        );
        assert_eq!(modules_to_enable(&["proxy"], &available, &enabled), Err("proxy".to_owned()));
    }

    #[test]
    fn a_name_is_found_with_scheme_and_port() {
        let name = HostName::parse("saltmarsh.test").unwrap();
        let file = b"<IfModule x>\n<VirtualHost *>\nServerName http://Saltmarsh.test:80\n</VirtualHost>\n</IfModule>\n";
        assert_eq!(named_virtual_host(file, &name), Some(2));
        assert_eq!(
            named_virtual_host(b"<VirtualHost *>\nServerAlias depot.test saltmarsh.test\n</VirtualHost>", &name),
            Some(1)
        );
        assert_eq!(named_virtual_host(b"ServerName saltmarsh.test\n", &name), None);
    }
}
