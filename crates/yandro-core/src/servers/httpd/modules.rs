//! Modules that links enable, as Debian has them.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};

use crate::config::Links;

/// Content of `mods-available` for one module.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ModuleFiles {
    /// The text of its `.load` file.
    pub load: String,
    /// Whether it has a `.conf` file, too.
    pub has_conf: bool,
}

impl Links {
    /// The links that enable a module, with where they point to.
    pub fn of_module(&self, module: &str, files: &ModuleFiles) -> Vec<(Utf8PathBuf, Utf8PathBuf)> {
        let endings: &[&str] = if files.has_conf { &["load", "conf"] } else { &["load"] };
        let folder = self.modules.file_name().unwrap_or_default();
        let link = |ending: &&str| {
            let file = format!("{module}.{ending}");
            (self.enabled_modules.join(&file), Utf8Path::new("..").join(folder).join(file))
        };
        endings.iter().map(link).collect()
    }
}

/// The name of a module that isn't there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct NoSuchModule(pub String);

/// The modules to enable so that all of `wanted` work, dependencies first: the
/// `# Depends:` lines of the `.load` files name them.
///
/// # Errors
/// The name of a module that `available` doesn't have.
pub(crate) fn modules_to_enable(
    wanted: &[&str],
    available: &BTreeMap<String, ModuleFiles>,
    enabled: &BTreeSet<String>,
) -> Result<Vec<String>, NoSuchModule> {
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
) -> Result<(), NoSuchModule> {
    if enabled.contains(module) || order.iter().any(|done| done == module) {
        return Ok(());
    }
    let files = available.get(module).ok_or_else(|| NoSuchModule(module.to_owned()))?;
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
        assert_eq!(modules_to_enable(&["proxy"], &available, &enabled), Err(NoSuchModule("proxy".to_owned())));
    }
}
