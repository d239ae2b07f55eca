//! Planning a site's part of nginx: its file, and the include that reads it.

use super::change::{Access, ChangeSet};
use super::observed::{Observed, ObservedNginx};
use super::role::Role;
use super::server::{not_taken, tell_after, write_site};
use super::site::PlanError;
use crate::config::{Journal, Place};
use crate::nginx::name_bucket;
use crate::site::Site;

impl ObservedNginx {
    /// The size of the buckets of names that somebody else than yandro has set, and where.
    pub(super) fn own_name_bucket(&self) -> Option<&(usize, Place)> {
        let is_own = |file: &str| self.own.layout.is_own(&self.own.view.here_or_same(file.into()));
        self.shared.configuration.name_bucket.as_ref().filter(|(_, place)| !is_own(&place.file))
    }
}

/// Plans the file of a site, and what has it read. Gives the lines of that.
pub(super) fn nginx_site(
    set: &mut ChangeSet,
    observed: &Observed,
    nginx: &ObservedNginx,
    before: Option<&Site>,
    site: &Site,
) -> Result<Journal, PlanError> {
    let count = set.steps.len();
    if let Some(fault) = &nginx.shared.configuration.fault {
        return Err(PlanError::Broken(nginx.own.id, Box::new(fault.clone())));
    }
    if let (Some(needed), Some((size, place))) = (name_bucket(site.names()), nginx.own_name_bucket())
        && *size < needed
    {
        return Err(PlanError::NameBucket { place: place.clone(), size: *size, needed });
    }
    not_taken(&nginx.own.view, site, &nginx.foreign_names)?;
    let pattern = nginx.own.view.there_or_same(&nginx.own.layout.pattern());
    let mut journal = Journal::default();
    if !nginx.shared.includes(&pattern) {
        let main = nginx.shared.main();
        let (text, lines) = nginx
            .shared
            .include(&pattern)
            .ok_or_else(|| PlanError::Unreached { what: format!("include {pattern};"), file: main.to_owned() })?;
        let before = nginx.shared.text(main).map(<[u8]>::to_vec);
        let (role, here) = (Role::SharedConfig(nginx.own.id), nginx.own.view.here_or_same(main));
        set.file(role, here, (before, Some(text)), Access::Public);
        journal = lines;
    }
    write_site(set, observed, nginx, before, site)?;
    tell_after(set, count, nginx.own.id);
    Ok(journal)
}
