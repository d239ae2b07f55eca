//! The sites as they were last applied: what the site list is compared with.

use std::collections::HashSet;

use super::content::FileContent;
use crate::name::HostName;
use crate::site::{Site, SiteList};

/// The sites as they were last applied, and the file that holds them.
#[derive(Clone, Debug, Default)]
pub struct Applied {
    content: Option<FileContent>,
    sites: SiteList,
    /// Whether the file could be read.
    is_known: bool,
}

impl Applied {
    /// Reads the file. A missing or damaged file counts as no information.
    pub fn read(content: Option<FileContent>) -> Self {
        let text = content.as_deref().and_then(|bytes| std::str::from_utf8(bytes).ok());
        let sites = text.and_then(|text| SiteList::parse(text, None).ok());
        Self { is_known: sites.is_some(), sites: sites.unwrap_or_default(), content }
    }

    /// These sites.
    pub(super) fn of(sites: SiteList) -> Self {
        Self { content: None, sites, is_known: true }
    }

    /// If there is no such file, assume that every listed site with parts on the machine was applied as listed.
    #[must_use]
    pub fn or_listed(self, list: impl FnOnce() -> SiteList, is_there: impl Fn(&Site) -> bool) -> Self {
        if self.is_known {
            return self;
        }
        let sites = list().sites.into_iter().filter(|site| is_there(site)).collect();
        Self { sites: SiteList { sites }, ..self }
    }

    /// The text of the file as it is.
    pub(super) fn content(&self) -> Option<FileContent> {
        self.content.clone()
    }

    /// Whether the file says just these sites.
    pub(super) fn says(&self, sites: &SiteList) -> bool {
        self.is_known && self.content.is_some() && self.sites == *sites
    }

    /// The sites.
    pub fn sites(&self) -> &SiteList {
        &self.sites
    }

    /// The site of this name.
    pub fn site(&self, name: &HostName) -> Option<&Site> {
        self.sites.site(name)
    }

    /// The sites that another list has them in place of, by their new names: a site whose name is gone, and a new one
    /// with the same content, where no other fits as well.
    pub fn renamed<'a>(&'a self, list: &'a SiteList) -> Vec<(&'a Site, &'a Site)> {
        let names =
            |list: &'a SiteList| -> HashSet<&'a HostName> { list.sites.iter().map(|site| &site.name).collect() };
        let (applied, listed) = (names(&self.sites), names(list));
        let gone: Vec<&Site> = self.sites.sites.iter().filter(|site| !listed.contains(&site.name)).collect();
        let fits =
            |old: &Site, new: &Site| old.content == new.content && (new.server.is_none() || old.server == new.server);
        if gone.is_empty() {
            return Vec::new();
        }
        let new: Vec<&Site> = list.sites.iter().filter(|site| !applied.contains(&site.name)).collect();
        let only = |of: &Site| {
            let mut fitting = gone.iter().filter(|old| fits(old, of));
            fitting.next().filter(|_| fitting.next().is_none()).copied()
        };
        let pairs = new.iter().filter_map(|new| Some((only(new)?, *new)));
        pairs.filter(|(old, _)| new.iter().filter(|new| fits(old, new)).count() == 1).collect()
    }
}
