//! An Apache httpd as it was found, and planning a site's part of it: its file, and what the shared files need.

use core::net::{IpAddr, Ipv6Addr};
use std::collections::{BTreeMap, BTreeSet};

use camino::Utf8Path;

use super::run::Listen;
use super::shared::ForeignDirective;
use super::syntax::ApacheSyntax;
use super::{Activation, HttpdShared, Lack, ModuleFiles, Needs, NoSuchModule, modules_to_enable, required_modules};
use crate::config::{Dialect, Journal, Links, ServerTraits, Switched};
use crate::plan::{
    Access, Change, ChangeSet, FileChange, LinkChange, Observed, Opened, OwnFiles, PlanError, Role, ServerModel,
    is_on_port, not_taken, others_go, tell_after, write_site,
};
use crate::server_path::ServerPath;
use crate::servers::Loopback6;
use crate::site::Scheme;
use crate::site::{ServerId, Site};

/// An Apache httpd as it was found.
#[derive(Clone, Debug)]
pub(crate) struct HttpdModel {
    /// Yandro's own files.
    pub(super) own: OwnFiles,
    /// Its main file and what that includes.
    pub(super) shared: HttpdShared,
    /// Whether it listens on IPv6's loopback, too.
    pub(super) listens_on_v6: bool,
    /// Content of `mods-available`.
    pub(super) available_modules: BTreeMap<String, ModuleFiles>,
    /// The modules with a `.load` link in `mods-enabled`.
    pub(super) enabled_modules: BTreeSet<String>,
    /// The names of all links in `mods-enabled`.
    pub(super) module_links: BTreeSet<String>,
}

impl HttpdModel {
    /// The folders of its links, if it enables by links.
    pub(super) fn links(&self) -> Option<&Links> {
        self.own.layout.links.as_ref()
    }
}

impl HttpdModel {
    /// A server of which only yandro's own files were read so far.
    pub(crate) fn new(own: OwnFiles) -> Self {
        Self {
            own,
            shared: HttpdShared::default(),
            listens_on_v6: false,
            available_modules: BTreeMap::new(),
            enabled_modules: BTreeSet::new(),
            module_links: BTreeSet::new(),
        }
    }

    /// Whether it listens on the loopback address of IPv6: sockets tell, or, if it is yet to be started, its
    /// configuration.
    pub(super) fn would_listen_on(&self, loopback: Loopback6) -> bool {
        let address = IpAddr::V6(Ipv6Addr::LOCALHOST);
        let mut listens = self.shared.listens.iter();
        // A port that is yet to be listened on is one of all addresses.
        let is_configured =
            self.shared.listens.is_empty() || listens.any(|listen| listen.takes_in(address, listen.port));
        loopback.listens.unwrap_or(loopback.would_listen && is_configured)
    }
}

impl ServerModel for HttpdModel {
    fn listens_on_v6(&self) -> bool {
        self.listens_on_v6
    }

    fn takes_first(&self) -> bool {
        true
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &ApacheSyntax
    }

    fn own(&self) -> &OwnFiles {
        &self.own
    }

    fn own_mut(&mut self) -> &mut OwnFiles {
        &mut self.own
    }

    fn plan_site(
        &self,
        set: &mut ChangeSet,
        observed: &Observed,
        before: Option<&Site>,
        site: &Site,
    ) -> Result<Journal, PlanError> {
        httpd_site(set, observed, self, before, site)
    }

    fn go_with_the_last(&self, set: &mut ChangeSet, observed: &Observed) {
        go_with_the_last(set, observed, self);
    }

    fn take_link(&mut self, role: &Role, change: &LinkChange) {
        self.take_module_link(role, change);
    }

    fn take_shared(&mut self, set: &ChangeSet) {
        self.take_shared_files(set);
    }

    fn traits(&self) -> ServerTraits {
        let published = self.own.published.clone();
        ServerTraits { published, ..self.shared.traits(self.own.layout.known.logs) }
    }

    fn is_theirs(&self, address: &str, has_own: bool) -> bool {
        let hosts = if has_own { &self.shared.foreign_first } else { &self.shared.foreign_addresses };
        hosts.contains(address)
    }

    fn is_foreign_port(&self, port: u16) -> bool {
        is_on_port(&self.shared.foreign_addresses, port)
    }

    fn shared_text(&self, path: &ServerPath) -> Option<&[u8]> {
        self.shared.text(path)
    }
}

/// Plans the file of a site and all that it needs. Gives the lines of the shared files that change.
fn httpd_site(
    set: &mut ChangeSet,
    observed: &Observed,
    httpd: &HttpdModel,
    before: Option<&Site>,
    site: &Site,
) -> Result<Journal, PlanError> {
    let view = &httpd.own.view;
    let count = set.steps.len();
    if required_modules(site).contains(&"http2") && httpd.shared.is_prefork() {
        return Err(PlanError::Prefork { server: httpd.own.id, has_links: httpd.links().is_some() });
    }
    let modules = modules_by_links(set, httpd, site)?;
    let needed = required_modules(site);
    // A module that is built in or comes with another needs no line.
    let needed: Vec<&str> =
        needed.into_iter().filter(|module| httpd.links().is_none() || httpd.shared.has_module(module)).collect();
    let secure = site.https_ports(443).into_iter().map(|port| (port, Scheme::Https));
    let plain = site.http_ports(80).into_iter().map(|port| (port, Scheme::Http));
    let ports: Vec<(u16, Scheme)> = plain.chain(secure).collect();
    let pattern = view.there_or_same(&httpd.own.layout.pattern());
    let needs = Needs { modules: &needed, ports: &ports, address: site.address, sites: &pattern };
    // If the main file isn't on this machine, it is assumed to have everything that sites need.
    let enabled = modules.clone();
    let activation = if httpd.own.layout.is_folder() || httpd.shared.meets(&needs) {
        Activation::default()
    } else {
        // Modules that links enable exist by then.
        let shared = httpd.shared_with(modules, &Activation::default());
        shared.activate(&needs).map_err(|lack| lacking(lack, httpd))?
    };
    let is_same = activation.files.is_empty() && enabled.is_empty();
    let shared = if is_same { &httpd.shared } else { &httpd.shared_with(enabled, &activation) };
    let known = |listen: &&Listen| {
        httpd.shared.listens.iter().all(|own| (own.address, own.port) != (listen.address, listen.port))
    };
    let server = httpd.own.id;
    let opened = shared.listens.iter().filter(known);
    set.opens.extend(opened.map(|listen| Opened { server, address: listen.address, port: listen.port }));
    not_taken(view, site, &shared.foreign_names)?;
    for (file, text) in &activation.files {
        let before = httpd.shared.text(file).map(<[u8]>::to_vec);
        set.file(Role::SharedConfig(server), view.here_or_same(file), (before, Some(text.clone())), Access::Public);
    }
    let here = |(file, switched): &(ServerPath, Switched)| (view.here_or_same(file), switched.clone());
    set.switched.extend(activation.switched.iter().map(here));
    write_site(set, observed, httpd, before, site)?;
    tell_after(set, count, httpd.own.id);
    Ok(activation.journal)
}

fn lacking(lack: Lack, httpd: &HttpdModel) -> PlanError {
    match lack {
        Lack::Module(module) => {
            let install = if module == "ssl" { httpd.own.layout.known.install_tls } else { None };
            PlanError::ModuleMissing { module, install }
        }
        Lack::Unreached { what, file } => PlanError::Unreached { what, file },
        Lack::Broken(fault) => PlanError::Broken(httpd.own.id, fault),
    }
}

/// Enables what a site needs where links do that; gives the modules that are new by that.
fn modules_by_links(set: &mut ChangeSet, httpd: &HttpdModel, site: &Site) -> Result<Vec<String>, PlanError> {
    let Some(links) = httpd.links() else { return Ok(Vec::new()) };
    let mut wanted = required_modules(site);
    // A module that is built in, or loaded by a line of the user, has no link.
    wanted.retain(|module| !httpd.shared.has_module(module));
    let modules = modules_to_enable(&wanted, &httpd.available_modules, &httpd.enabled_modules)
        .map_err(|NoSuchModule(module)| PlanError::ModuleMissing { module, install: None })?;
    for module in &modules {
        for (link, target) in links.of_module(module, &httpd.available_modules[module]) {
            // A module that is half enabled has one of its two links.
            if link.file_name().is_none_or(|name| !httpd.module_links.contains(name)) {
                set.link(module_link(httpd.own.id, module, &link), link, None, Some(target));
            }
        }
    }
    Ok(modules)
}

/// Role of a module's link: of the two that a module may have, one loads it.
fn module_link(server: ServerId, module: &str, link: &Utf8Path) -> Role {
    Role::ModuleLink { server, module: module.to_owned(), loads: link.extension() == Some("load") }
}

/// When the last of yandro's sites goes from Apache httpd, takes all with it that was there for
/// sites, and the modules that yandro enabled and nobody else uses.
fn go_with_the_last(set: &mut ChangeSet, observed: &Observed, httpd: &HttpdModel) {
    let Some(others) = others_go(set, observed, httpd) else { return };
    let Some(links) = httpd.links() else { return };
    // In reverse: what was enabled for another comes before it.
    let (going, staying): (Vec<&String>, Vec<&String>) =
        others.modules.iter().rev().partition(|module| is_idle(module, &others.modules, httpd));
    for module in staying {
        if let Some(own) = user_of(module, httpd) {
            set.staying.push((format!("the module {module}"), own.place.clone()));
        }
    }
    for module in going {
        for host in httpd.shared.configuration.virtual_hosts().iter().filter(|host| host.is_guarded_by(module)) {
            set.silenced.push((host.name.clone().unwrap_or_default(), host.place.clone()));
        }
        for (link, target) in
            httpd.available_modules.get(module).into_iter().flat_map(|files| links.of_module(module, files))
        {
            if link.file_name().is_some_and(|name| httpd.module_links.contains(name)) {
                set.link(module_link(httpd.own.id, module, &link), link, Some(target), None);
            }
        }
    }
}

/// How the directives of a module begin; empty for one of which nothing is known.
fn prefixes(module: &str) -> &'static [&'static str] {
    match module {
        "ssl" | "socache_shmcb" => &["ssl"],
        "rewrite" => &["rewrite"],
        "headers" => &["header", "requestheader"],
        "http2" => &["h2", "protocols"],
        "env" => &["setenv", "passenv", "unsetenv"],
        "proxy" | "proxy_http" | "proxy_fcgi" => &["proxy"],
        _ => &[],
    }
}

/// The first directive of somebody else's that the server would refuse without a module.
fn user_of<'h>(module: &str, httpd: &'h HttpdModel) -> Option<&'h ForeignDirective> {
    httpd.shared.foreign_directives.iter().find(|own| own.needs(module, prefixes(module)))
}

/// Whether nobody else needs a module: no other file has a directive of it, and no
/// module that is to stay depends on it.
fn is_idle(module: &str, going: &[String], httpd: &HttpdModel) -> bool {
    // A module stays unless it is known to be unused.
    if prefixes(module).is_empty() {
        return false;
    }
    let is_used = user_of(module, httpd).is_some();
    let staying = httpd.enabled_modules.iter().filter(|other| !going.contains(other));
    let mut dependencies =
        staying.filter_map(|other| httpd.available_modules.get(other)).flat_map(|files| files.load.lines());
    let is_needed = dependencies.any(|line| {
        line.strip_prefix("# Depends:").is_some_and(|rest| rest.split_whitespace().any(|own| own == module))
    });
    !is_used && !is_needed
}

impl HttpdModel {
    fn take_module_link(&mut self, role: &Role, change: &LinkChange) {
        let Role::ModuleLink { server, module, loads } = role else { return };
        if *server != self.own.id {
            return;
        }
        let Some(name) = change.path.file_name() else { return };
        match change.after {
            Some(_) => _ = self.module_links.insert(name.to_owned()),
            None => _ = self.module_links.remove(name),
        }
        if *loads {
            match change.after {
                Some(_) => _ = self.enabled_modules.insert(module.clone()),
                None => _ = self.enabled_modules.remove(module),
            }
        }
    }

    fn take_shared_files(&mut self, set: &ChangeSet) {
        let (mut modules, mut files) = (Vec::new(), BTreeMap::new());
        for step in &set.steps {
            match (&step.role, &step.change) {
                (Role::ModuleLink { module, loads: true, server }, Change::Link(LinkChange { after: Some(_), .. }))
                    if *server == self.own.id =>
                {
                    modules.push(module.clone());
                }
                // The server reads it where its link is.
                (Role::DefaultHost(server), Change::File(FileChange { path, after: Some(text), .. }))
                    if *server == self.own.id =>
                {
                    let read = self.own.layout.read_folder().join(path.file_name().unwrap_or_default());
                    files.insert(self.own.view.there_or_same(&read), text.to_vec());
                }
                (Role::SharedConfig(server), Change::File(FileChange { path, after: Some(text), .. }))
                    if *server == self.own.id =>
                {
                    files.insert(self.own.view.there_or_same(path), text.to_vec());
                }
                _ => {}
            }
        }
        if !modules.is_empty() || !files.is_empty() {
            self.shared = self.shared_with(modules, &Activation { files, ..Activation::default() });
        }
    }
}

impl HttpdModel {
    /// The shared files as they are once links enable these modules and an activation is written.
    fn shared_with(&self, modules: Vec<String>, activation: &Activation) -> HttpdShared {
        self.shared.with(modules, &activation.files, |file| self.own.layout.owner_of(&self.own.view.here_or_same(file)))
    }
}
