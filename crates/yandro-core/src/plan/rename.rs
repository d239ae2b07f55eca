//! Planning another name for a site.

use super::change::ChangeSet;
use super::error::PlanError;
use super::fresh::Fresh;
use super::note::note_applied;
use super::observed::Observed;
use super::others::release_ports;
use super::site::{map_one, sort_hosts};
use crate::name::HostName;
use crate::site::{IndexedList, Site, SiteList};

/// Plans to have the site `old` of `list` be `new`, which has another name: its hosts lines, its certificate, its
/// virtual hosts with what was edited in them, and its place in the list.
///
/// # Errors
/// As [`map_site`](super::map_site).
pub fn rename_site(
    observed: &Observed,
    list: &SiteList,
    old: &HostName,
    new: &Site,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    let before = observed.applied.site(old).or_else(|| list.site(old));
    let mut set = map_one(observed, &IndexedList::of(&list.without(old)), before, new, fresh)?;
    release_ports(&mut set, observed);
    sort_hosts(&mut set, observed, &list.replaced(old, new));
    set.merge(note_applied(observed, &set.sites)?);
    Ok(set)
}
