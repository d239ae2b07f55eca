//! Planning to bring the machine in line with the site list.

use std::borrow::Cow;
use std::collections::HashMap;

use super::authority::renew_issued;
use super::certificate::{certificate, drop_certificate};
use super::change::{Access, ChangeSet, SiteChange};
use super::error::{PlanError, PlanFailure};
use super::fresh::Fresh;
use super::merge::Merging;
use super::model::Owner;
use super::note::{note_applied, note_sites};
use super::observed::Observed;
use super::others::{drop_unused_certificate, release_ports, renew_others};
use super::pool::drop_pools;
use super::role::Role;
use super::site::{drop_from_hosts, map_one, order, point_new, take_from_servers};
use crate::config::HandEdit;
use crate::config::{self, OTHERS};
use crate::hosts;
use crate::name::HostName;
use crate::site::{IndexedList, ServerId, Site, SiteList};

/// Differences between a machine and its site list.
#[derive(Debug, Default)]
pub struct Settlement {
    /// Missing parts, as changes.
    pub set: ChangeSet,
    /// Directives of yandro's that a person changed or took out; they stay so.
    pub edited: Vec<(HostName, HandEdit)>,
    /// The sites that have another name in the list now: the former one and the new one.
    pub renamed: Vec<(HostName, HostName)>,
    /// Names that yandro wrote for this list and that are no longer in it; the changes remove them.
    pub orphans: Vec<HostName>,
    /// Names that an earlier build wrote without a list and that are not in this one; they stay.
    pub unowned: Vec<HostName>,
}

/// Whether sites that are no longer in the list are removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Orphans {
    /// They are removed.
    Removed,
    /// They stay.
    Kept,
}

/// Plans all sites of the list, and takes away what belongs to none. `observed` is afterwards as the machine will be.
///
/// # Errors
/// The first [`PlanError`](super::PlanError) of a site.
pub fn settle(
    observed: &mut Observed,
    list: &SiteList,
    default_server: ServerId,
    orphans_are: Orphans,
    fresh: &mut dyn Fresh,
) -> Result<Settlement, PlanFailure> {
    observed.wishes.keeps_edits = true;
    let sites = list.sites.iter().map(|site| Site { server: site.server.or(Some(default_server)), ..site.clone() });
    let wanted = SiteList { sites: sites.collect() };
    let applied = observed.applied.clone();
    let renamed = applied.renamed(&wanted);
    let former = |site: &Site| renamed.iter().find(|(_, new)| new.name == site.name).map(|(old, _)| *old);
    let (mut orphans, unowned) = match orphans_are {
        Orphans::Removed => (orphans(observed, list), unowned(observed, list)),
        Orphans::Kept => (Vec::new(), Vec::new()),
    };
    // The names of a site that has another name now go with it.
    let is_former = |name: &HostName| renamed.iter().any(|(old, _)| old.names().any(|own| own == name));
    orphans.retain(|name| !is_former(name));
    // So does an alias that a site of the list had.
    let was_alias = |name: &HostName| applied.sites().owner(name).is_some_and(|owner| list.site(&owner.name).is_some());
    orphans.retain(|name| !was_alias(name));
    let renames = renamed.iter().map(|(old, new)| (old.name.clone(), new.name.clone())).collect();
    let mut settlement = Settlement { orphans, unowned, renamed: renames, ..Settlement::default() };
    let gone = hosts_without(observed, &settlement.orphans);
    observed.advance(&gone);
    settlement.set.merge(gone);
    let mut renewed = ChangeSet::default();
    // Without sites the default virtual hosts go, too.
    if !list.sites.is_empty() {
        renew_others(&mut renewed, observed, fresh).map_err(unsited)?;
    }
    observed.advance(&renewed);
    settlement.set.merge(renewed);
    let mut issued = ChangeSet::default();
    renew_issued(&mut issued, observed, fresh).map_err(unsited)?;
    settlement.set.merge(issued);
    let mut changed = Vec::new();
    let mut merging = Merging::of(std::mem::take(&mut settlement.set));
    let by_name: HashMap<&HostName, &Site> = applied.sites().sites.iter().map(|site| (&site.name, site)).collect();
    let before_of = |site: &Site| former(site).or_else(|| by_name.get(&site.name).copied());
    let pairs: Vec<(&Site, Option<&Site>)> = wanted.sites.iter().map(|site| (site, before_of(site))).collect();
    let new = point_new(observed, &pairs);
    observed.advance(&new);
    merging.add(new);
    let indexed = IndexedList::of(&wanted);
    for (site, before) in pairs {
        // An edit can only conflict with a site that changed in the list.
        let changes = before.filter(|before| *before != site);
        let earlier = changes.map(|before| hand_edits(observed, before));
        // The list says what is wanted: it isn't written itself.
        let next = map_one(observed, &indexed, before, site, fresh)
            .map_err(|error| PlanFailure::of(Some(&site.name), error))?;
        changed.extend(next.sites.iter().cloned());
        observed.advance(&next);
        merging.add(next);
        let edits = hand_edits(observed, site);
        let dropped = dropped_edits(observed, site, earlier.as_deref().unwrap_or_default(), &edits);
        let stays = |edit: HandEdit| {
            let is_new = |edits: &Vec<HandEdit>| edits.iter().all(|other| other.wanted != edit.wanted);
            let conflicts = earlier.as_ref().is_some_and(is_new);
            (site.name.clone(), HandEdit { conflicts, ..edit })
        };
        settlement.edited.extend(edits.into_iter().chain(dropped).map(stays));
    }
    settlement.set = merging.finish();
    // After the sites: what all sites share would go with the last orphan, and come back.
    let gone = servers_without(observed, &settlement.orphans);
    observed.advance(&gone);
    settlement.set.merge(gone);
    let mut ports = ChangeSet::default();
    release_ports(&mut ports, observed);
    observed.advance(&ports);
    settlement.set.merge(ports);
    let mut unused = ChangeSet::default();
    drop_unused_certificate(&mut unused, observed);
    settlement.set.merge(unused);
    settlement.set.merge(in_order(observed, list));
    if orphans_are == Orphans::Removed {
        let is_gone = |site: &&Site| indexed.site(&site.name).is_none() && !is_former(&site.name);
        let gone = applied.sites().sites.iter().filter(is_gone);
        settlement.set.sites.extend(gone.map(|site| SiteChange { before: Some(site.clone()), after: None }));
        settlement.set.merge(note_sites(observed, &wanted).map_err(unsited)?);
    } else {
        settlement.set.merge(note_applied(observed, &changed).map_err(unsited)?);
    }
    Ok(settlement)
}

/// Plans to renew the certificates of the list that end within [`Wishes::renew_within`](super::Wishes::renew_within)
/// days, and nothing else.
///
/// # Errors
/// The first [`PlanError`](super::PlanError) of a site.
pub fn renew(observed: &mut Observed, list: &SiteList, fresh: &mut dyn Fresh) -> Result<ChangeSet, PlanFailure> {
    let mut all = Merging::default();
    for site in list.sites.iter().filter(|site| site.https.is_on() && !site.disabled) {
        let mut set = ChangeSet::default();
        certificate(&mut set, observed, site, fresh).map_err(|error| PlanFailure::of(Some(&site.name), error))?;
        observed.advance(&set);
        all.add(set);
    }
    let mut others = ChangeSet::default();
    renew_others(&mut others, observed, fresh).map_err(unsited)?;
    observed.advance(&others);
    all.add(others);
    let mut issued = ChangeSet::default();
    renew_issued(&mut issued, observed, fresh).map_err(unsited)?;
    all.add(issued);
    Ok(all.finish())
}

/// A failure that is no single site's.
fn unsited(error: PlanError) -> PlanFailure {
    PlanFailure::of(None, error)
}

/// The hosts file's block in the order of the list.
fn in_order(observed: &Observed, list: &SiteList) -> ChangeSet {
    let mut set = ChangeSet::default();
    if let Some(before) = &observed.hosts
        && let Cow::Owned(after) = hosts::sorted(before, &observed.places.list, &order(list))
    {
        let content = (Some(before.clone()), Some(after));
        set.file(Role::HostsFile, observed.places.hosts.clone(), content, Access::Public);
    }
    set
}

fn hand_edits(observed: &Observed, site: &Site) -> Vec<HandEdit> {
    let Some(server) = observed.configured_as(site.server) else { return Vec::new() };
    let Some(text) = server.own().site_files.get(&site.name) else { return Vec::new() };
    let files = server.site_files(&observed.places, site);
    config::hand_edits(server.dialect(), text, site, &files)
}

/// Edits by hand of lines that the list no longer asks for, and that stay.
fn dropped_edits(observed: &Observed, site: &Site, earlier: &[HandEdit], now: &[HandEdit]) -> Vec<HandEdit> {
    let server = observed.configured_as(site.server);
    let text =
        server.and_then(|server| server.own().site_files.get(&site.name)).map(|text| String::from_utf8_lossy(text));
    let line = |found: &str| text.as_deref()?.lines().position(|line| line.trim() == found.trim());
    let is_known = |edit: &HandEdit| now.iter().any(|other| other.found == edit.found);
    let dropped = earlier.iter().filter(|edit| !is_known(edit)).filter_map(|edit| {
        let at = line(edit.found.as_deref()?)?;
        Some(HandEdit { line: at + 1, wanted: String::new(), ..edit.clone() })
    });
    dropped.collect()
}

/// Names in this list's block, of its virtual host files and of its certificates that no site has.
fn orphans(observed: &Observed, list: &SiteList) -> Vec<HostName> {
    let places = &observed.places;
    let mut names: Vec<HostName> = Vec::new();
    if let Some(bytes) = &observed.hosts {
        names.extend(hosts::HostsFile::parse(bytes).own_names(&places.list));
    }
    for server in observed.configured() {
        let is_this = |name: &&HostName| server.owner(places, name) == Owner::This;
        let own = server.own();
        names.extend(own.site_files.keys().chain(own.disabled_files.keys()).filter(is_this).cloned());
    }
    names.extend(observed.pools.of_list(&places.list));
    names.extend(observed.keys.keys().chain(observed.chains.keys()).cloned());
    without_sites(names, list)
}

/// Names that an earlier build wrote without naming a list, and that no site of this one has.
fn unowned(observed: &Observed, list: &SiteList) -> Vec<HostName> {
    let mut names: Vec<HostName> = Vec::new();
    if let Some(bytes) = &observed.hosts {
        names.extend(hosts::HostsFile::parse(bytes).unowned_names());
    }
    for server in observed.configured() {
        let is_unknown = |name: &&HostName| server.owner(&observed.places, name) == Owner::Unknown;
        names.extend(server.own().site_files.keys().filter(is_unknown).cloned());
    }
    without_sites(names, list)
}

/// Each name once, without those of sites and of the default virtual hosts.
fn without_sites(mut names: Vec<HostName>, list: &SiteList) -> Vec<HostName> {
    let taken: std::collections::HashSet<&str> =
        list.sites.iter().flat_map(|site| site.names().map(HostName::as_str)).collect();
    names.retain(|name| !taken.contains(name.as_str()) && name.as_str() != OTHERS);
    names.sort();
    names.dedup();
    names
}

/// The hosts file without the lines of orphans.
fn hosts_without(observed: &Observed, orphans: &[HostName]) -> ChangeSet {
    let mut set = ChangeSet::default();
    if !orphans.is_empty()
        && let Some(before) = observed.hosts.as_ref()
    {
        drop_from_hosts(&mut set, observed, before, orphans);
    }
    set
}

/// The servers without the files of orphans, and their certificates removed.
fn servers_without(observed: &Observed, orphans: &[HostName]) -> ChangeSet {
    let mut set = ChangeSet::default();
    if orphans.is_empty() {
        return set;
    }
    for name in orphans {
        drop_certificate(&mut set, observed, name);
        drop_pools(&mut set, observed, name, None);
    }
    take_from_servers(&mut set, observed, &orphans.iter().collect::<Vec<_>>(), None);
    set
}
