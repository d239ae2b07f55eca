//! Planning sites as they were before a change, on the files as they are now.

use camino::Utf8Path;

use super::change::ChangeSet;
use super::error::PlanError;
use super::fresh::Fresh;
use super::observed::Observed;
use super::pool::pool_of_file;
use super::rename::rename_site;
use super::role::Role;
use super::site::{map_site, unmap_sites};
use super::undoing::Undoing;
use crate::name::HostName;
use crate::site::{Site, SiteList};

/// The sites as they were, planned on the files as they are. What the change set didn't touch of a
/// site's own files and links stays as it is.
pub(super) fn replanned(
    observed: &mut Observed,
    list: &SiteList,
    undoing: &Undoing<'_>,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    let sites = undoing.sites;
    let gone: Vec<&Site> =
        sites.iter().filter(|change| change.before.is_none()).filter_map(|change| change.after.as_ref()).collect();
    let back: Vec<(&Site, Option<&Site>)> =
        sites.iter().filter_map(|change| Some((change.before.as_ref()?, change.after.as_ref()))).collect();
    let is_touched = |path: &Utf8Path| undoing.steps.iter().any(|step| step.path() == path);
    for site in &gone {
        observed.hide(&site.name, is_touched);
    }
    let mut set = if gone.is_empty() { ChangeSet::default() } else { unmap_sites(observed, &gone)? };
    observed.advance(&set);
    let mut list = list.clone();
    for site in gone {
        list = list.without(&site.name);
    }
    // One after the other: each plan sees the shared files after the one before.
    for (site, after) in back {
        let mut next = match after.filter(|after| after.name != site.name) {
            Some(after) => rename_site(observed, &list, &after.name, site, fresh)?,
            None => map_site(observed, &list, site, fresh)?,
        };
        list = list.replaced(&after.unwrap_or(site).name, site);
        next.steps.retain(|step| !observed.is_of_site(step.path(), &site.name) || is_touched(step.path()));
        observed.advance(&next);
        set.merge(next);
    }
    // A command that brought the machine in line with the list didn't write that.
    if !undoing.steps.iter().any(|step| *step.role() == Role::SiteList) {
        set.steps.retain(|step| step.role != Role::SiteList);
    }
    Ok(set)
}

impl Observed {
    /// Takes out of view what belongs to a site and isn't in a change set.
    fn hide(&mut self, name: &HostName, is_touched: impl Fn(&Utf8Path) -> bool) {
        if !is_touched(&self.places.chain(name)) {
            self.chains.remove(name);
        }
        if !is_touched(&self.places.key(name)) {
            self.keys.remove(name);
        }
        self.pools.files.retain(|path, _| pool_of_file(path).as_ref() != Some(name) || is_touched(path));
        if !is_touched(&self.places.secrets_script(name)) {
            self.pools.scripts.remove(name);
        }
        for server in &mut self.servers {
            let own = server.own_mut();
            if !is_touched(&own.layout.site_file(name)) {
                own.site_files.remove(name);
            }
            if let Some((link, _)) = own.layout.site_link(name).filter(|(link, _)| !is_touched(link)) {
                own.site_links.remove(link.file_name().unwrap_or_default());
            }
        }
    }

    /// Whether a path is a file or link of one site only.
    fn is_of_site(&self, path: &Utf8Path, name: &HostName) -> bool {
        let is_servers = self.configured().into_iter().any(|server| {
            let layout = &server.own().layout;
            layout.site_file(name) == path || layout.site_link(name).is_some_and(|(link, _)| link == path)
        });
        let is_pools = self.is_pool(path) && pool_of_file(path).as_ref() == Some(name);
        is_servers
            || is_pools
            || *path == self.places.secrets_script(name)
            || self.places.certificate_of(path).as_ref() == Some(name)
    }
}
