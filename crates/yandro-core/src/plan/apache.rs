//! Planning a site's part of Apache httpd: its file, and what the shared files need for it.

use camino::{Utf8Path, Utf8PathBuf};

use super::change::{Access, ChangeSet, Opened};
use super::observed::{Observed, ObservedApache};
use super::role::Role;
use super::server::{not_taken, others_go, tell_after, write_site};
use super::site::PlanError;
use crate::config::Switched;
use crate::httpd::run::Listen;
use crate::httpd::{self, Activation, Lack, Needs};
use crate::site::{ServerId, Site};

/// Plans the file of a site and all that it needs. Gives what the shared files have changed to,
/// and the lines of that.
pub(super) fn apache_site(
    set: &mut ChangeSet,
    observed: &Observed,
    apache: &ObservedApache,
    before: Option<&Site>,
    site: &Site,
) -> Result<Activation, PlanError> {
    let view = &apache.own.view;
    let count = set.steps.len();
    let modules = modules_by_links(set, apache, site)?;
    let needed = httpd::required_modules(site);
    // A module that is built in or comes with another needs no line.
    let needed: Vec<&str> =
        needed.into_iter().filter(|module| apache.links().is_none() || apache.shared.has_module(module)).collect();
    let secure = site.https_ports(443).into_iter().map(|port| (port, true));
    let ports: Vec<(u16, bool)> = site.http_ports(80).into_iter().map(|port| (port, false)).chain(secure).collect();
    let pattern = view.there_or_same(&apache.own.layout.pattern());
    let needs = Needs { modules: &needed, ports: &ports, address: site.address, sites: &pattern };
    // Where the main file isn't here, it is taken for granted that it has what sites need.
    let enabled = modules.clone();
    let activation = if apache.own.layout.is_folder() || apache.shared.meets(&needs) {
        Activation::default()
    } else {
        // What links enable is there by then.
        let shared = apache.shared_with(modules, &Activation::default());
        shared.activate(&needs).map_err(|lack| lacking(lack, apache))?
    };
    let is_same = activation.files.is_empty() && enabled.is_empty();
    let shared = if is_same { &apache.shared } else { &apache.shared_with(enabled, &activation) };
    let known = |listen: &&Listen| {
        apache.shared.listens.iter().all(|own| (own.address, own.port) != (listen.address, listen.port))
    };
    let server = apache.own.id;
    let opened = shared.listens.iter().filter(known);
    set.opens.extend(opened.map(|listen| Opened { server, address: listen.address, port: listen.port }));
    not_taken(view, site, &shared.foreign_names)?;
    for (file, text) in &activation.files {
        let before = apache.shared.text(file).map(<[u8]>::to_vec);
        set.file(Role::SharedConfig(server), view.here_or_same(file), (before, Some(text.clone())), Access::Public);
    }
    let here = |(file, switched): &(Utf8PathBuf, Switched)| (view.here_or_same(file), switched.clone());
    set.switched.extend(activation.switched.iter().map(here));
    write_site(set, observed, apache, before, site)?;
    tell_after(set, count, apache.own.id);
    Ok(activation)
}

fn lacking(lack: Lack, apache: &ObservedApache) -> PlanError {
    match lack {
        Lack::Module(module) => {
            let install = apache.own.layout.known.install_tls.filter(|_| module == "ssl");
            PlanError::ModuleMissing { module, install }
        }
        Lack::Unreached { what, file } => PlanError::Unreached { what, file },
        Lack::Broken(fault) => PlanError::Broken(apache.own.id, fault),
    }
}

/// Enables what a site needs where links do that; gives the modules that are new by that.
fn modules_by_links(set: &mut ChangeSet, apache: &ObservedApache, site: &Site) -> Result<Vec<String>, PlanError> {
    let Some(links) = apache.links() else { return Ok(Vec::new()) };
    let mut wanted = httpd::required_modules(site);
    // What is built in or loaded by a line of a person's has no link.
    wanted.retain(|module| !apache.shared.has_module(module));
    let modules = httpd::modules_to_enable(&wanted, &apache.available_modules, &apache.enabled_modules)
        .map_err(|module| PlanError::ModuleMissing { module, install: None })?;
    for module in &modules {
        for (link, target) in links.of_module(module, &apache.available_modules[module]) {
            // A module that is half enabled has one of its two links.
            if link.file_name().is_none_or(|name| !apache.module_links.contains(name)) {
                set.link(module_link(apache.own.id, module, &link), link, None, Some(target));
            }
        }
    }
    Ok(modules)
}

/// What a module's link is about: of the two that a module may have, one loads it.
fn module_link(server: ServerId, module: &str, link: &Utf8Path) -> Role {
    Role::ModuleLink { server, module: module.to_owned(), loads: link.extension() == Some("load") }
}

/// When the last of yandro's sites goes from Apache httpd, takes all with it that was there for
/// sites, and the modules that yandro enabled and nobody else uses.
pub(super) fn go_with_the_last(set: &mut ChangeSet, observed: &Observed, apache: &ObservedApache) {
    let Some(others) = others_go(set, observed, apache) else { return };
    let Some(links) = apache.links() else { return };
    // In reverse: what was enabled for another comes before it.
    for module in others.modules.iter().rev().filter(|module| is_idle(module, &others.modules, apache)) {
        for (link, target) in
            apache.available_modules.get(module).into_iter().flat_map(|files| links.of_module(module, files))
        {
            if link.file_name().is_some_and(|name| apache.module_links.contains(name)) {
                set.link(module_link(apache.own.id, module, &link), link, Some(target), None);
            }
        }
    }
}

/// Whether nobody else needs a module: no directive of it stands in another's file, and no
/// module that is to stay depends on it.
fn is_idle(module: &str, going: &[String], apache: &ObservedApache) -> bool {
    let prefixes: &[&str] = match module {
        "ssl" | "socache_shmcb" => &["ssl"],
        "rewrite" => &["rewrite"],
        "headers" => &["header", "requestheader"],
        "proxy" | "proxy_http" | "proxy_fcgi" => &["proxy"],
        // What is not known to be idle stays.
        _ => return false,
    };
    let is_used =
        apache.shared.foreign_directives.iter().any(|own| prefixes.iter().any(|prefix| own.starts_with(prefix)));
    let staying = apache.enabled_modules.iter().filter(|other| !going.contains(other));
    let mut dependencies =
        staying.filter_map(|other| apache.available_modules.get(other)).flat_map(|files| files.load.lines());
    let is_needed = dependencies.any(|line| {
        line.strip_prefix("# Depends:").is_some_and(|rest| rest.split_whitespace().any(|own| own == module))
    });
    !is_used && !is_needed
}

impl ObservedApache {
    /// The shared files as they are once links enable these modules and an activation is written.
    pub(super) fn shared_with(&self, modules: Vec<String>, activation: &Activation) -> httpd::Shared {
        self.shared.with(modules, &activation.files, |file| self.own.layout.owner_of(&self.own.view.here_or_same(file)))
    }
}
