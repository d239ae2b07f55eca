//! Roles of steps whose record doesn't have them: versions 1 and 2.

use camino::Utf8Path;

use super::model::is_shared;
use super::observed::Observed;
use super::role::{Role, site_file_role};

impl Observed {
    /// Role of a step of an old record, by its path.
    pub(super) fn role_of(&self, path: &Utf8Path) -> Role {
        let places = &self.places;
        if path == places.hosts {
            return Role::HostsFile;
        }
        if path == places.site_list() {
            return Role::SiteList;
        }
        if path == places.applied() {
            return Role::AppliedSites;
        }
        if path == places.settings() {
            return Role::Settings;
        }
        if path == places.issued() {
            return Role::IssuedList;
        }
        if path == places.root_certificate() {
            return Role::Root;
        }
        if let Some(name) = places.certificate_of(path) {
            return if path == places.key(&name) { Role::Key(name) } else { Role::Certificate(name) };
        }
        if let Ok(below) = path.strip_prefix(places.former_authorities()) {
            let id = below.components().next().map(|id| id.to_string()).unwrap_or_default();
            return Role::FormerAuthority(id);
        }
        if path.starts_with(places.authority()) {
            return Role::Authority;
        }
        self.role_in_a_server(path).unwrap_or(Role::Export)
    }

    fn role_in_a_server(&self, path: &Utf8Path) -> Option<Role> {
        self.configured().into_iter().find_map(|model| {
            let (own, server) = (model.own(), model.id());
            let of_site = own.layout.site_of_file(path).or_else(|| own.layout.site_of_link(path));
            if let Some(name) = of_site {
                return Some(site_file_role(name, server));
            }
            let links = own.layout.links.as_ref();
            if links.is_some_and(|links| path.parent() == Some(links.enabled_modules.as_path())) {
                let module = path.file_stem().unwrap_or_default().to_owned();
                return Some(Role::ModuleLink { server, module, loads: path.extension() == Some("load") });
            }
            is_shared(model, path).then_some(Role::SharedConfig(server))
        })
    }
}
