//! Planning a site's part of Apache httpd: its file, and what the shared files need for it.

use std::collections::BTreeSet;

use super::change::{Access, ChangeSet, Step};
use super::observed::{Observed, ObservedApache};
use super::others::others_name;
use super::site::{PlanError, drop_certificate};
use crate::config::Others;
use crate::httpd::run::Place;
use crate::httpd::{self, Activation, ApacheSyntax, Lack, Needs};
use crate::name::HostName;
use crate::site::{Logs, ServerKind, Site};

/// Plans the file of a site and all that it needs. Gives what the shared files have changed to,
/// and the lines of that.
pub(super) fn apache_site(
    set: &mut ChangeSet,
    observed: &Observed,
    apache: &ObservedApache,
    before: Option<&Site>,
    site: &Site,
) -> Result<Activation, PlanError> {
    let places = &observed.places;
    let path = apache.layout.site_file(&site.name);
    let count = set.steps.len();
    let modules = modules_by_links(set, apache, site)?;
    let needed = httpd::required_modules(site);
    // A module that is built in or comes with another needs no line.
    let needed: Vec<&str> =
        needed.into_iter().filter(|module| apache.links().is_none() || apache.shared.has_module(module)).collect();
    let secure = site.https_ports(443).into_iter().map(|port| (port, true));
    let ports: Vec<(u16, bool)> = site.http_ports(80).into_iter().map(|port| (port, false)).chain(secure).collect();
    let pattern = places.inside(&apache.layout.pattern());
    let needs = Needs { modules: &needed, ports: &ports, address: site.address, sites: &pattern };
    let activation = if apache.shared.meets(&needs) {
        Activation::default()
    } else {
        // What links enable is there by then.
        let shared = apache.shared_with(places, modules, &Activation::default());
        shared.activate(&needs).map_err(|lack| lacking(lack, apache))?
    };
    let shared =
        if activation.files.is_empty() { &apache.shared } else { &apache.shared_with(places, Vec::new(), &activation) };
    for name in site.names() {
        if let Some(place) = shared.foreign_names.get(name.as_str()) {
            let is_path = place.file.starts_with('/');
            let file =
                if is_path { places.outside(place.file.as_str().into()).into_string() } else { place.file.clone() };
            return Err(PlanError::VirtualHostTaken { place: Place { file, line: place.line }, name: name.clone() });
        }
    }
    for (file, text) in &activation.files {
        let before = apache.shared.text(file).map(<[u8]>::to_vec);
        set.file(places.outside(file), before, Some(text.clone()), Access::Public);
    }

    let files = |site: &Site| places.site_files(site, &apache.traits());
    let now = files(site);
    now.check(&site.serving)?;
    if let Logs::Folder(folder) = &site.serving.logs {
        // The server makes the files in it, and no folder.
        set.steps.push(Step::Folder { path: folder.clone(), access: Access::Public });
    }
    let earlier =
        before.filter(|before| before.server == Some(ServerKind::Apache)).map(|before| (before, files(before)));
    let existing = apache.site_files.get(&site.name);
    let earlier = earlier.as_ref().map(|(before, files)| (*before, files));
    let text = httpd::site_file(existing.map(Vec::as_slice), earlier, (site, &now))
        .map_err(|error| PlanError::SiteFile { path: path.clone(), error })?;
    set.file(path, existing.cloned(), Some(text), Access::Public);
    if let Some((link, target)) = apache.layout.site_link(&site.name) {
        let old_target = apache.site_links.get(link.file_name().unwrap_or_default()).cloned();
        if let Some(other) = old_target.as_ref().filter(|old| **old != target) {
            return Err(PlanError::LinkTaken { path: link, target: other.clone() });
        }
        set.link(link, old_target, Some(target));
    }
    if set.steps.iter().skip(count).any(|step| !matches!(step, Step::Folder { .. })) {
        set.servers.insert(ServerKind::Apache);
    }
    Ok(activation)
}

fn lacking(lack: Lack, apache: &ObservedApache) -> PlanError {
    match lack {
        Lack::Module(module) => {
            let install = apache.layout.known.install_tls.filter(|_| module == "ssl");
            PlanError::ModuleMissing { module, install }
        }
        Lack::Unreached { what, file } => PlanError::Unreached { what, file },
        Lack::Broken(fault) => PlanError::Broken(fault),
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
                set.link(link, None, Some(target));
            }
        }
    }
    Ok(modules)
}

pub(super) fn remove_apache_site(set: &mut ChangeSet, apache: &ObservedApache, name: &HostName) {
    let count = set.steps.len();
    if let Some((link, target)) = apache.layout.site_link(name) {
        // A link that leads elsewhere is somebody else's.
        if apache.site_links.get(link.file_name().unwrap_or_default()) == Some(&target) {
            set.link(link, Some(target), None);
        }
    }
    set.file(apache.layout.site_file(name), apache.site_files.get(name).cloned(), None::<Vec<u8>>, Access::Public);
    if set.steps.len() > count {
        set.servers.insert(ServerKind::Apache);
    }
}

/// When the last of yandro's sites goes from the server, takes the virtual hosts for other names
/// with it, the lines that it changed in other files, and the modules that it enabled and nobody
/// else uses.
pub(super) fn go_with_the_last(set: &mut ChangeSet, observed: &Observed, apache: &ObservedApache) {
    let name = others_name();
    let gone = |step: &Step| match step {
        Step::File(change) if change.after.is_none() => apache.layout.site_of_file(&change.path),
        _ => None,
    };
    let gone: BTreeSet<HostName> = set.steps.iter().filter_map(gone).collect();
    if gone.is_empty() || apache.own_sites.difference(&gone).next().is_some() {
        return;
    }
    let others = apache.site_files.get(&name).map(|text| Others::read(&ApacheSyntax, text)).unwrap_or_default();
    remove_apache_site(set, apache, &name);
    drop_certificate(set, observed, &name);
    for file in others.journal.files() {
        if let Some(text) = apache.shared.text(file) {
            let after = others.journal.taken_back(file, text);
            set.file(observed.places.outside(file), Some(text.to_vec()), Some(after), Access::Public);
        }
    }
    let Some(links) = apache.links() else { return };
    // In reverse: what was enabled for another comes before it.
    for module in others.modules.iter().rev().filter(|module| is_idle(module, &others.modules, apache)) {
        for (link, target) in
            apache.available_modules.get(module).into_iter().flat_map(|files| links.of_module(module, files))
        {
            if link.file_name().is_some_and(|name| apache.module_links.contains(name)) {
                set.link(link, Some(target), None);
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
    pub(super) fn shared_with(
        &self,
        places: &super::Places,
        modules: Vec<String>,
        activation: &Activation,
    ) -> httpd::Shared {
        self.shared.with(modules, &activation.files, |file| self.layout.is_own(&places.outside(file)))
    }
}
