//! Planning that the system asks yandro's responder for the names below sites.

use std::collections::BTreeMap;

use camino::{Utf8Path, Utf8PathBuf};

use super::change::{Access, ChangeSet};
use super::content::FileContent;
use super::error::PlanError;
use super::observed::Observed;
use super::role::Role;
use crate::name::HostName;
use crate::site::{IndexedList, ListId, ServerId, Site, SiteList};
use crate::system::{ResolverPlace, is_of_responder};

/// The way by which the system resolves names that no hosts file has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Resolver {
    /// The part of it that can be told of a responder.
    pub place: ResolverPlace,
    /// Of each part, the file that tells it; for macOS the folder of such files.
    pub paths: BTreeMap<ResolverPlace, Utf8PathBuf>,
    /// The content of those that are there.
    pub files: BTreeMap<Utf8PathBuf, FileContent>,
}

impl Resolver {
    /// Takes in what a step does to a file.
    pub(super) fn take(&mut self, path: &Utf8Path, after: Option<&FileContent>) {
        match after {
            Some(content) => _ = self.files.insert(path.to_owned(), content.clone()),
            None => _ = self.files.remove(path),
        }
    }

    /// Those of its files that have something of a list's.
    pub fn own_files<'r>(&'r self, list: &'r ListId) -> impl Iterator<Item = &'r Utf8Path> {
        let is_own = |(path, content): &(&Utf8PathBuf, &FileContent)| {
            let rest = self.place_of(path).and_then(|place| place.rest(list, content));
            rest.map_or_else(|| is_of_responder(content, list), |rest| rest != content.as_slice())
        };
        self.files.iter().filter(is_own).map(|(path, _)| path.as_path())
    }

    /// The part that a file tells.
    pub fn place_of(&self, path: &Utf8Path) -> Option<ResolverPlace> {
        let is_of = |own: &Utf8Path, place| own == path || place == ResolverPlace::MacOs && path.parent() == Some(own);
        self.paths.iter().find(|(place, own)| is_of(own, **place)).map(|(place, _)| *place)
    }
}

/// The sites whose tenants a responder answers for. Names below `localhost` resolve by themselves (RFC 6761 section
/// 6.3).
pub fn answered_tenants(sites: &[Site]) -> impl Iterator<Item = &Site> {
    let is_answered = |site: &&Site| {
        site.serving.tenants && !site.disabled && !site.is_known_by_itself(&site.name, ServerId::BuiltIn)
    };
    sites.iter().filter(is_answered)
}

/// Plans the files by which the system asks the responder for names below these sites, and takes away those that it
/// needs no more.
///
/// # Errors
/// When somebody else has such a file, or only the list of name servers is left and may not be changed.
pub(super) fn plan_resolver(set: &mut ChangeSet, observed: &Observed, sites: &SiteList) -> Result<(), PlanError> {
    let Some(resolver) = &observed.resolver else { return Ok(()) };
    let (list, place) = (&observed.places.list, resolver.place);
    let names: Vec<&HostName> = answered_tenants(&sites.sites).map(|site| &site.name).collect();
    let now = |path: &Utf8Path| resolver.files.get(path).map(|content| content.to_vec());
    let wanted = match resolver.paths.get(&place) {
        Some(path) => place.wanted(list, &names, path, now),
        None => Vec::new(),
    };
    for (path, content) in &resolver.files {
        if wanted.iter().any(|(own, _)| own == path) {
            continue;
        }
        let Some(place) = resolver.place_of(path) else { continue };
        let rest = place.rest(list, content);
        if rest.is_some() || is_of_responder(content, list) {
            set.file(Role::Resolver(place), path.clone(), (Some(content.clone()), rest), Access::Public);
        }
    }
    for (path, after) in wanted {
        let before = resolver.files.get(&path);
        let is_own = |content: &FileContent| is_of_responder(content, list) || place == ResolverPlace::ResolvConf;
        if before.is_some_and(|content| !is_own(content)) {
            return Err(PlanError::ResolverTaken(path));
        }
        let is_new = before.is_none_or(|content| content.as_slice() != after);
        if let (ResolverPlace::ResolvConf, true, false, [name, ..]) =
            (place, is_new, observed.wishes.name_servers, &names[..])
        {
            return Err(PlanError::NameServers { name: (*name).clone(), path });
        }
        set.file(Role::Resolver(place), path, (before.cloned(), Some(after)), Access::Public);
    }
    Ok(())
}

/// Refuses tenants that nobody could reach, and, where the first virtual host that fits answers, sites that one with
/// tenants would answer for.
pub(super) fn tenants_fit(list: &IndexedList<'_>, site: &Site, takes_first: bool) -> Result<(), PlanError> {
    if site.serving.tenants && !site.name.as_str().contains('.') {
        return Err(PlanError::SuffixTenants(site.name.clone()));
    }
    if !takes_first || !list.has_tenants && !site.serving.tenants {
        return Ok(());
    }
    let mut others = list.list.sites.iter().filter(|other| other.server == site.server && other.name != site.name);
    let is_taken = |inner: &Site, outer: &Site| {
        outer.serving.tenants
            && outer.name < inner.name
            && inner.names().any(|name| name.is_below_or_equal(outer.name.as_str()))
    };
    let pair = others.find_map(|other| match (is_taken(site, other), is_taken(other, site)) {
        (true, _) => Some((site, other)),
        (_, true) => Some((other, site)),
        _ => None,
    });
    match pair {
        Some((inner, outer)) => Err(PlanError::AmongTenants { name: inner.name.clone(), site: outer.name.clone() }),
        None => Ok(()),
    }
}
