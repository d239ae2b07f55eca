//! Writing down what was applied.

use super::change::{Access, ChangeSet, SiteChange};
use super::observed::Observed;
use super::role::Role;
use crate::site::SiteList;

/// The step that writes down as applied what a change set does to sites.
pub(super) fn note_applied(observed: &Observed, changes: &[SiteChange]) -> ChangeSet {
    let mut sites = observed.applied.sites().clone();
    for SiteChange { before, after } in changes {
        sites = match (before, after) {
            (before, Some(after)) => sites.replaced(&before.as_ref().unwrap_or(after).name, after),
            (Some(before), None) => sites.without(&before.name),
            (None, None) => continue,
        };
    }
    note_sites(observed, &sites)
}

/// The step that writes down these sites as applied.
pub(super) fn note_sites(observed: &Observed, sites: &SiteList) -> ChangeSet {
    let mut set = ChangeSet::default();
    let text = (!sites.sites.is_empty()).then(|| sites.to_text().into_bytes());
    let content = (observed.applied.content(), text);
    set.file(Role::AppliedSites, observed.places.applied(), content, Access::Private);
    set
}
