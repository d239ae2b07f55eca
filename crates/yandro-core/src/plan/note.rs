//! Writing down what was applied.

use super::change::{Access, ChangeSet, SiteChange};
use super::error::PlanError;
use super::observed::Observed;
use super::resolver::plan_resolver;
use super::role::Role;
use crate::site::SiteList;

/// The steps that write down as applied what a change set does to sites.
///
/// # Errors
/// When names below a site can't be resolved.
pub(super) fn note_applied(observed: &Observed, changes: &[SiteChange]) -> Result<ChangeSet, PlanError> {
    let changes = changes.iter().map(|change| (change.before.as_ref(), change.after.as_ref()));
    let sites = observed.applied.sites().clone().with_changes(changes);
    note_sites(observed, &sites)
}

/// The steps that write down these sites as applied, and have the system ask for the names below them.
///
/// # Errors
/// When names below a site can't be resolved.
pub(super) fn note_sites(observed: &Observed, sites: &SiteList) -> Result<ChangeSet, PlanError> {
    let mut set = ChangeSet::default();
    if sites.sites.is_empty() || !observed.applied.says(sites) {
        let text = (!sites.sites.is_empty()).then(|| sites.to_text().into_bytes());
        let content = (observed.applied.content(), text);
        set.file(Role::AppliedSites, observed.places.applied(), content, Access::Private);
    }
    plan_resolver(&mut set, observed, sites)?;
    Ok(set)
}
