//! Planning another authority in the place of the present one.

use super::authority::{new_authority, put};
use super::authority_files::{AuthorityFiles, AuthorityTexts};
use super::change::{Access, ChangeSet};
use super::error::PlanFailure;
use super::fresh::Fresh;
use super::observed::Observed;
use super::role::Role;
use super::settle::renew;
use crate::pki::Constraints;
use crate::site::SiteList;

/// Plans another authority, limited to `constraints`, in the place of the present one: every leaf
/// of a site and every other one is issued again, and the present authority is kept
/// so that all of this can be undone.
///
/// # Errors
/// A certificate that can't be issued, with its site.
pub fn replace_authority(
    mut observed: Observed,
    list: &SiteList,
    constraints: &Constraints,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanFailure> {
    let texts = new_authority(&observed, constraints, fresh).map_err(|error| PlanFailure::of(None, error.into()))?;
    put_in_place(&mut observed, list, &texts, fresh)
}

/// Replaces the present authority, keeps the old one, and issues all certificates again.
pub(super) fn put_in_place(
    observed: &mut Observed,
    list: &SiteList,
    texts: &AuthorityTexts,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanFailure> {
    let mut set = ChangeSet::default();
    put_aside(&mut set, observed);
    put(&mut set, observed, texts);
    // The old authority tells which certificates are ours.
    let old = observed.authority.take().and_then(|old| AuthorityFiles::read(old.texts, None).ok());
    observed.former.extend(old.map(|old| (old.id(), old)));
    observed.advance(&set);
    set.merge(renew(observed, list, fresh)?);
    Ok(set)
}

/// Keeps a copy of the present authority.
fn put_aside(set: &mut ChangeSet, observed: &Observed) {
    let (Some(files), places) = (&observed.authority, &observed.places) else { return };
    let (old, id) = (&files.texts, files.id());
    let role = Role::FormerAuthority(id.clone());
    for folder in [places.former_authorities(), places.former_authority(&id)] {
        set.folder(role.clone(), folder, Access::Private);
    }
    // It may have been put aside before, and have come back.
    let was = observed.former.get(&id).map(|former| &former.texts);
    let kept = [
        ("root.pem", &old.root, was.map(|was| &was.root), Access::Private),
        ("issuing.pem", &old.issuing, was.map(|was| &was.issuing), Access::Private),
        ("issuing.key", &old.key, was.map(|was| &was.key), Access::Secret),
    ];
    for (name, content, was, access) in kept {
        let path = places.former_authority(&id).join(name);
        set.file(role.clone(), path, (was.cloned(), Some(content.clone())), access);
    }
}
