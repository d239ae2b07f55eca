//! Planning sites as they were before a change, on the files as they are now.

use std::collections::HashSet;

use camino::Utf8Path;

use super::change::{Access, ChangeSet};
use super::error::PlanError;
use super::fresh::Fresh;
use super::merge::Merging;
use super::note::note_applied;
use super::observed::Observed;
use super::others::release_ports;
use super::pool::pool_of_file;
use super::role::Role;
use super::site::{map_one, point_new, sort_hosts, unmap_sites};
use super::undoing::{DoneStep, Undoing};
use crate::name::HostName;
use crate::site::{IndexedList, Site, SiteList, replace_site};

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
    let touched: HashSet<&Utf8Path> = undoing.steps.iter().map(DoneStep::path).collect();
    let is_touched = |path: &Utf8Path| touched.contains(path);
    for site in &gone {
        observed.hide(&site.name, is_touched);
    }
    let mut merging = Merging::default();
    if !gone.is_empty() {
        let set = unmap_sites(observed, &gone)?;
        observed.advance(&set);
        merging.add(set);
    }
    if !back.is_empty() {
        let list = list.clone().with_changes(gone.iter().map(|site| (Some(*site), None)));
        bring_back(observed, &list, &back, (&mut merging, &is_touched), fresh)?;
    }
    let mut set = merging.finish();
    match undoing.steps.iter().find(|step| *step.role() == Role::SiteList) {
        // A command that brought the machine in line with the list didn't write that.
        None => set.steps.retain(|step| step.role != Role::SiteList),
        Some(_) if back.is_empty() => {}
        Some(written) => {
            set.folder(Role::SiteList, observed.places.config.clone(), Access::Private);
            // As it is, the list is written as it was. Edited since, it gets the sites back.
            if matches!(written, DoneStep::Edited { .. }) {
                put_into_list(&mut set, observed, &back);
            }
        }
    }
    Ok(set)
}

/// Sites as they were and as the change set left them.
type Back<'b> = [(&'b Site, Option<&'b Site>)];

/// Plans sites as they were, all on the list as it will be. Each plan sees the shared files after the one before.
fn bring_back(
    observed: &mut Observed,
    list: &SiteList,
    back: &Back<'_>,
    (merging, is_touched): (&mut Merging, &dyn Fn(&Utf8Path) -> bool),
    fresh: &mut dyn Fresh,
) -> Result<(), PlanError> {
    let applied = observed.applied.sites().clone();
    let (applied, listed) = (IndexedList::of(&applied), IndexedList::of(list));
    let pairs: Vec<(&Site, Option<&Site>)> = back
        .iter()
        .map(|(site, after)| match after.filter(|after| after.name != site.name) {
            Some(after) => (*site, applied.site(&after.name).or_else(|| listed.site(&after.name))),
            None => (*site, applied.site(&site.name)),
        })
        .collect();
    let wanted = list.clone().with_changes(back.iter().map(|(site, after)| (*after, Some(*site))));
    let indexed = IndexedList::of(&wanted);
    let mut all = Merging::default();
    let new = point_new(observed, &pairs);
    observed.advance(&new);
    all.add(new);
    for (site, before) in pairs {
        let mut next = map_one(observed, &indexed, before, site, fresh)?;
        next.steps.retain(|step| !observed.is_of_site(step.path(), &site.name) || is_touched(step.path()));
        observed.advance(&next);
        all.add(next);
    }
    let mut all = all.finish();
    let mut last = ChangeSet::default();
    release_ports(&mut last, observed);
    observed.advance(&last);
    all.merge(last);
    sort_hosts(&mut all, observed, &wanted);
    let noted = note_applied(observed, &all.sites)?;
    observed.advance(&noted);
    all.merge(noted);
    merging.add(all);
    Ok(())
}

/// Writes sites into the list as they were.
fn put_into_list(set: &mut ChangeSet, observed: &Observed, back: &Back<'_>) {
    let home = Some(&*observed.places.home);
    let before = observed.list.clone().unwrap_or_default();
    let after = back.iter().fold(before, |text, (site, after)| {
        let name = after.map_or(&site.name, |after| &after.name);
        replace_site(&text, name, site, home)
    });
    let mut next = ChangeSet::default();
    let content = (observed.list.clone().map(String::into_bytes), Some(after.into_bytes()));
    next.file(Role::SiteList, observed.places.site_list(), content, Access::Private);
    set.merge(next);
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
