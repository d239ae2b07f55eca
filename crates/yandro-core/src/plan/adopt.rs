//! Planning to take over a site that a person wrote.

use std::borrow::Cow;

use camino::Utf8PathBuf;

use super::change::{Access, ChangeSet};
use super::content::FileContent;
use super::error::PlanError;
use super::fresh::Fresh;
use super::observed::Observed;
use super::role::Role;
use super::site::map_site;
use crate::adopt::Brought;
use crate::hosts::remove_lines;
use crate::site::{Site, SiteList};

/// A site that is to be taken over.
#[derive(Clone, Debug)]
pub struct Adoption {
    /// The site that it becomes.
    pub site: Site,
    /// Its lines.
    pub brought: Brought,
    /// The files that contain the site, by their paths on this machine: as they are, and without it.
    pub files: Vec<(Utf8PathBuf, FileContent, Option<Vec<u8>>)>,
    /// The links to such files that go, each with its target.
    pub links: Vec<(Utf8PathBuf, Utf8PathBuf)>,
}

/// Plans to take over a site: its virtual hosts move from the user's files into yandro's, and its hosts lines
/// into yandro's block. `observed` is the machine as it would be without the person's virtual hosts.
///
/// # Errors
/// As [`map_site`].
pub fn adopt_site(
    observed: &mut Observed,
    list: &SiteList,
    adoption: &Adoption,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    let Adoption { site, brought, files, links } = adoption;
    let mut set = ChangeSet::default();
    for (link, target) in links {
        set.link(Role::HandWritten, link.clone(), Some(target.clone()), None);
    }
    for (path, before, after) in files {
        set.file(Role::HandWritten, path.clone(), (Some(before.clone()), after.clone()), Access::Public);
    }
    let path = observed.places.hosts.clone();
    if let Some(before) = &observed.hosts {
        let mut text = Cow::Borrowed(before.as_slice());
        for name in site.names() {
            let without = remove_lines(&text, name.as_str()).map(Cow::into_owned);
            let without = without.map_err(|error| PlanError::Hosts { path: path.clone(), error })?;
            text = Cow::Owned(without);
        }
        let content = (Some(before.clone()), Some(text.into_owned()));
        set.file(Role::HostsFile, path, content, Access::Public);
    }
    if let Some(change) = set.change_of(&observed.places.hosts) {
        observed.hosts.clone_from(&change.after);
    }
    observed.wishes.adopted.insert(site.name.clone(), brought.clone());
    set.merge(map_site(observed, list, site, fresh)?);
    set.servers.extend(site.server);
    Ok(set)
}
