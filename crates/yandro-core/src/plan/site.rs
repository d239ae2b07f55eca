//! Planning `map` and `unmap`.

use std::borrow::Cow;

use super::certificate::{certificate, drop_certificate};
use super::change::{Access, ChangeSet, SiteChange};
use super::content::FileContent;
use super::error::{PlanError, PlanFailure};
use super::fresh::Fresh;
use super::merge::Merging;
use super::model::{remove_site_file, set_site_aside};
use super::note::note_applied;
use super::observed::{Observed, ServerModel};
use super::others::{Placed, keep_others, release_ports};
use super::pool::{drop_pools, plan_pool};
use super::resolver::tenants_fit;
use super::role::Role;
use crate::config::OTHERS;
use crate::hosts::{self, Mapping};
use crate::name::{HostName, Suffix};
use crate::site::{Https, IndexedList, ServerId, Site, SiteList, is_bare, remove_sites, replace_site};

/// Plans to map `site`, which replaces the site of that name in `list`.
///
/// # Errors
/// A [`PlanError`] when something of the person's own is in the way, or
/// something that is needed is not there.
pub fn map_site(
    observed: &Observed,
    list: &SiteList,
    site: &Site,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    let mut set = map_next(observed, list, site, fresh)?;
    set.merge(note_applied(observed, &set.sites)?);
    Ok(set)
}

/// As [`map_site`], without writing it down as applied.
fn map_next(observed: &Observed, list: &SiteList, site: &Site, fresh: &mut dyn Fresh) -> Result<ChangeSet, PlanError> {
    let before = observed.applied.site(&site.name);
    let mut set = map_one(observed, &IndexedList::of(list), before, site, fresh)?;
    release_ports(&mut set, observed);
    sort_hosts(&mut set, observed, list);
    Ok(set)
}

/// Has the hosts file that a change set writes be in the order of the list.
pub(super) fn sort_hosts(set: &mut ChangeSet, observed: &Observed, list: &SiteList) {
    if let Some(change) = set.file_mut(&observed.places.hosts)
        && let Some(text) = &change.after
        && let Cow::Owned(sorted) = hosts::sorted(text, &observed.places.list, &order(list))
    {
        change.after = Some(sorted.into());
    }
}

/// Plans to map several sites as one change. `observed` is afterwards as the machine will be.
///
/// # Errors
/// As [`map_site`], with the site that can't be mapped.
pub fn map_sites<'s>(
    observed: &mut Observed,
    list: &SiteList,
    sites: impl IntoIterator<Item = &'s Site>,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanFailure> {
    let mut all = Merging::default();
    let mut list = Cow::Borrowed(list);
    for site in sites {
        let set = map_next(observed, &list, site, fresh).map_err(|error| PlanFailure::of(Some(&site.name), error))?;
        observed.advance(&set);
        all.add(set);
        list = Cow::Owned(list.with(site.clone()));
    }
    let mut all = all.finish();
    let noted = note_applied(observed, &all.sites).map_err(|error| PlanFailure::of(None, error))?;
    observed.advance(&noted);
    all.merge(noted);
    Ok(all)
}

/// The names in the order in which the hosts file has them.
pub(super) fn order(list: &SiteList) -> Vec<&HostName> {
    list.sites.iter().flat_map(Site::names).collect()
}

/// As [`map_site`], with the site's lines wherever they happen to go within yandro's block. `before` is the site as it
/// was applied, perhaps by another name. It isn't written down as applied.
pub(super) fn map_one(
    observed: &Observed,
    list: &IndexedList<'_>,
    before: Option<&Site>,
    site: &Site,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    if let Some(name) = site.names().find(|name| name.as_str() == OTHERS) {
        return Err(PlanError::ReservedName(name.clone()));
    }
    for name in site.names() {
        if let Some(owner) = list.owner(name).filter(|owner| owner.name != site.name) {
            return Err(PlanError::NameTaken { name: name.clone(), owner: owner.name.clone() });
        }
    }
    if let (Https::Off, Some(name)) =
        (site.https, site.names().find(|name| matches!(name.suffix(), Suffix::ForcedHttps(_))))
    {
        return Err(PlanError::HttpsForced(name.clone()));
    }
    let takes_first = observed.configured_as(site.server).is_some_and(ServerModel::takes_first);
    tenants_fit(list, site, takes_first)?;
    let mut set = ChangeSet::default();
    if before != Some(site) {
        set.sites.push(SiteChange { before: before.cloned(), after: Some(site.clone()) });
    }
    if !site.disabled {
        certificate(&mut set, observed, site, fresh)?;
    }
    plan_pool(&mut set, observed, site)?;
    match (site.server, observed.configured_as(site.server)) {
        (_, Some(server)) if site.disabled => {
            set_site_aside(&mut set, observed, server, before, site)?;
            server.go_with_the_last(&mut set, observed);
        }
        (_, None) if site.disabled => {}
        (Some(id), None) if id.is_configured() => return Err(PlanError::ServerMissing(id)),
        (_, Some(server)) => {
            let journal = server.plan_site(&mut set, observed, before, site)?;
            keep_others(&mut set, observed, &Placed { server, site, journal: &journal }, fresh)?;
        }
        (_, None) => {}
    }
    take_from_servers(&mut set, observed, &[&site.name], site.server);
    let former = before.filter(|before| before.name != site.name);
    if let Some(former) = former {
        drop_certificate(&mut set, observed, &former.name);
        drop_pools(&mut set, observed, &former.name, None);
        take_from_servers(&mut set, observed, &[&former.name], None);
    }
    if site.disabled {
        let names: Vec<HostName> = site.names().chain(before.into_iter().flat_map(Site::names)).cloned().collect();
        drop_from_hosts(&mut set, observed, hosts_file(observed)?, &names);
    } else {
        point_names(&mut set, observed, list, (before, site))?;
    }
    if list.site(&site.name) != Some(site) {
        let name = former.map_or(&site.name, |former| &former.name);
        let home = Some(&*observed.places.home);
        let changed = replace_site(observed.list.as_deref().unwrap_or_default(), name, site, home);
        set.folder(Role::SiteList, observed.places.config.clone(), Access::Private);
        let content = (observed.list.clone().map(String::into_bytes), Some(changed.into_bytes()));
        set.file(Role::SiteList, observed.places.site_list(), content, Access::Private);
    }
    Ok(set)
}

/// Plans to take sites away from everywhere they were written. The authority,
/// the modules and everybody else's lines stay.
///
/// # Errors
/// [`PlanError::HostsMissing`] when the hosts file is missing.
pub fn unmap_sites(observed: &Observed, sites: &[&Site]) -> Result<ChangeSet, PlanError> {
    let mut set = ChangeSet::default();
    let places = &observed.places;
    // An alias that was taken out of the list by hand is still on the machine.
    let all_applied = IndexedList::of(observed.applied.sites());
    let applied = sites.iter().filter_map(|site| all_applied.site(&site.name));
    let names = sites.iter().copied().chain(applied).flat_map(|site| site.names().cloned());
    let names: Vec<HostName> = names.collect();
    let before = hosts_file(observed)?;
    drop_from_hosts(&mut set, observed, before, &names);
    for &site in sites {
        let before = all_applied.site(&site.name).unwrap_or(site).clone();
        set.sites.push(SiteChange { before: Some(before), after: None });
        drop_certificate(&mut set, observed, &site.name);
        drop_pools(&mut set, observed, &site.name, None);
    }
    let names: Vec<&HostName> = sites.iter().map(|site| &site.name).collect();
    take_from_servers(&mut set, observed, &names, None);
    release_ports(&mut set, observed);
    let rest = remove_sites(observed.list.as_deref().unwrap_or_default(), &names);
    // A list in which only yandro's own first comment is left goes.
    let rest = Some(rest.into_bytes()).filter(|rest| !is_bare(rest));
    let before = observed.list.clone().map(String::into_bytes);
    set.file(Role::SiteList, places.site_list(), (before, rest), Access::Private);
    set.merge(note_applied(observed, &set.sites)?);
    Ok(set)
}

/// Takes sites' files from every server but `kept`, and what goes with the last of them.
pub(super) fn take_from_servers(set: &mut ChangeSet, observed: &Observed, names: &[&HostName], kept: Option<ServerId>) {
    for server in observed.configured().into_iter().filter(|server| Some(server.id()) != kept) {
        for name in names {
            remove_site_file(set, &observed.places, server, name);
        }
        server.go_with_the_last(set, observed);
    }
}

/// Takes names out of yandro's block, if it has them.
pub(super) fn drop_from_hosts(set: &mut ChangeSet, observed: &Observed, before: &FileContent, names: &[HostName]) {
    if let Cow::Owned(after) = hosts::drop_names(before, &observed.places.list, names) {
        let content = (Some(before.clone()), Some(after));
        set.file(Role::HostsFile, observed.places.hosts.clone(), content, Access::Public);
    }
}

fn hosts_file(observed: &Observed) -> Result<&FileContent, PlanError> {
    observed.hosts.as_ref().ok_or_else(|| PlanError::HostsMissing(observed.places.hosts.clone()))
}

/// The wanted lines of a site in the hosts file.
fn hosts_mapping(observed: &Observed, site: &Site) -> Mapping {
    let is_known = |name: &HostName| site.server.is_some_and(|server| site.is_known_by_itself(name, server));
    // A line that is there stays: without root it couldn't go.
    let needs_line = |name: &&HostName| !is_known(name) || observed.hosts_index().is_own(name);
    Mapping { addresses: observed.addresses(site), names: site.names().filter(needs_line).cloned().collect() }
}

/// Plans the lines of those sites of which the hosts file has nothing yet, all at once.
pub(super) fn point_new(observed: &Observed, sites: &[(&Site, Option<&Site>)]) -> ChangeSet {
    let mut set = ChangeSet::default();
    let Some(text) = observed.hosts.as_ref().filter(|text| hosts::check_encoding(text).is_ok()) else { return set };
    let index = observed.hosts_index();
    let is_new = |(site, before): &&(&Site, Option<&Site>)| {
        let names = site.names().chain(before.iter().flat_map(|before| before.names()));
        !site.disabled && index.has_none(names)
    };
    let new: Vec<Mapping> = sites.iter().filter(is_new).map(|(site, _)| hosts_mapping(observed, site)).collect();
    if new.is_empty() {
        return set;
    }
    let after = hosts::with_new(text, &observed.places.list, &new);
    let content = (Some(text.clone()), Some(after));
    set.file(Role::HostsFile, observed.places.hosts.clone(), content, Access::Public);
    set
}

fn point_names(
    set: &mut ChangeSet,
    observed: &Observed,
    list: &IndexedList<'_>,
    (before, site): (Option<&Site>, &Site),
) -> Result<(), PlanError> {
    let path = &observed.places.hosts;
    let mapping = hosts_mapping(observed, site);
    let index = observed.hosts_index();
    if mapping.names.is_empty() && before.is_none_or(|before| !before.names().any(|name| index.is_own(name))) {
        return Ok(());
    }
    // A name that another site has by now is its.
    let is_free = |name: &&HostName| list.owner(name).is_none_or(|owner| owner.name == site.name);
    let former: Vec<HostName> = before.into_iter().flat_map(Site::names).filter(is_free).cloned().collect();
    let text = hosts_file(observed)?;
    if index.says(text, &mapping, &former) {
        return Ok(());
    }
    let adopted = hosts::adopted(text, &observed.places.list, || order(list.list));
    let pointed = hosts::point(&adopted, &observed.places.list, &mapping, &former, observed.wishes.take_over)
        .map_err(|error| PlanError::Hosts { path: path.clone(), error })?;
    if *pointed != ***text {
        let content = (Some(text.clone()), Some(pointed.into_owned()));
        set.file(Role::HostsFile, path.clone(), content, Access::Public);
    }
    Ok(())
}
