//! An nginx as it was found, and planning a site's part of it: its file, and the include that reads it.

use std::collections::{BTreeMap, BTreeSet};

use crate::server_path::ServerPath;

use super::syntax::NginxSyntax;
use super::{NginxShared, name_bucket};
use crate::config::{Dialect, FileOwner, Journal, Place, ServerTraits, VirtualHost};
use crate::plan::{
    Access, ChangeSet, Observed, OwnFiles, PlanError, Role, ServerModel, is_on_port, not_taken, others_go, tell_after,
    write_site,
};
use crate::site::Site;

/// An nginx as it was found.
#[derive(Clone, Debug)]
pub(crate) struct NginxModel {
    /// Yandro's own files.
    pub(super) own: OwnFiles,
    /// Its main file and what that includes, yandro's files for sites left out.
    pub(super) shared: NginxShared,
    /// How server blocks are written for it.
    pub(super) traits: ServerTraits,
    /// The addresses of other people's server blocks, such as `*:80`.
    pub(super) foreign_addresses: BTreeSet<String>,
    /// Those where a server block of the user is the default one.
    pub(super) foreign_first: BTreeSet<String>,
    /// The names of other people's server blocks, in lower case.
    pub(super) foreign_names: BTreeMap<String, Place>,
}

impl NginxModel {
    /// The size of the buckets of names that somebody else than yandro has set, and where.
    fn own_name_bucket(&self) -> Option<&(usize, Place)> {
        let is_own = |file: &str| self.own.layout.is_own(&self.own.view.here_or_same(&file.into()));
        self.shared.configuration.name_bucket.as_ref().filter(|(_, place)| !is_own(&place.file))
    }
}

impl NginxModel {
    /// Sums up what other people's server blocks have. `owner_of` tells whose a file is.
    pub(crate) fn new(own: OwnFiles, shared: NginxShared, owner_of: &dyn Fn(&ServerPath) -> FileOwner) -> Self {
        let is_own = |host: &VirtualHost| owner_of(&host.place.file.as_str().into()).is_yandro();
        let (mut foreign_addresses, mut foreign_first) = (BTreeSet::new(), BTreeSet::new());
        let mut foreign_names: BTreeMap<String, Place> = BTreeMap::new();
        for at in &shared.configuration.answering() {
            for (place, host) in at.hosts.iter().enumerate().filter(|(_, host)| !is_own(host)) {
                foreign_addresses.insert(at.address.clone());
                if place == at.default {
                    foreign_first.insert(at.address.clone());
                }
                for name in host.name.iter().chain(&host.aliases) {
                    foreign_names.insert(name.to_ascii_lowercase(), host.place.clone());
                }
            }
        }
        Self { own, shared, traits: ServerTraits::default(), foreign_addresses, foreign_first, foreign_names }
    }
}

impl ServerModel for NginxModel {
    fn listens_on_v6(&self) -> bool {
        self.traits.listens_on_v6
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &NginxSyntax
    }

    fn own(&self) -> &OwnFiles {
        &self.own
    }

    fn own_mut(&mut self) -> &mut OwnFiles {
        &mut self.own
    }

    fn go_with_the_last(&self, set: &mut ChangeSet, observed: &Observed) {
        others_go(set, observed, self);
    }

    fn plan_site(
        &self,
        set: &mut ChangeSet,
        observed: &Observed,
        before: Option<&Site>,
        site: &Site,
    ) -> Result<Journal, PlanError> {
        nginx_site(set, observed, self, before, site)
    }

    fn take_shared(&mut self, set: &ChangeSet) {
        let main = self.own.view.here_or_same(self.shared.main());
        if let Some(text) = set.change_of(&main).and_then(|change| change.after.as_deref()) {
            self.shared = self.shared.with(self.shared.main(), text.clone());
        }
    }

    fn traits(&self) -> ServerTraits {
        ServerTraits { published: self.own.published.clone(), ..self.traits.clone() }
    }

    fn is_theirs(&self, address: &str, has_own: bool) -> bool {
        let hosts = if has_own { &self.foreign_first } else { &self.foreign_addresses };
        hosts.contains(address)
    }

    fn is_foreign_port(&self, port: u16) -> bool {
        is_on_port(&self.foreign_addresses, port)
    }

    fn shared_text(&self, path: &ServerPath) -> Option<&[u8]> {
        self.shared.text(path)
    }

    fn name_bucket(&self, site: &Site) -> Option<usize> {
        if self.own_name_bucket().is_none() { name_bucket(site.names()) } else { None }
    }
}

/// Plans the file of a site, and what has it read. Gives the lines of that.
fn nginx_site(
    set: &mut ChangeSet,
    observed: &Observed,
    nginx: &NginxModel,
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
