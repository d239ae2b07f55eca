//! Planning to take a change set back.
//!
//! A file that is still as the change set left it gets its very bytes back. One
//! that was edited since keeps the later edit: only the lines of the change set's
//! own sites are taken out of it or put back, by planning those sites anew.

use camino::{Utf8Path, Utf8PathBuf};

use super::authority::put_in_place;
use super::change::{ChangeSet, FileChange, LinkChange, RightsChange, SiteChange, Step, TrustChange};
use super::observed::{Fresh, Observed, Places};
use super::server::is_shared;
use super::site::{PlanError, map_site, unmap_sites};
use crate::config::OTHERS;
use crate::name::HostName;
use crate::site::{Site, SiteList};

/// One step of a change set that was carried out, and how its path stands now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DoneStep {
    /// The path is as the change set left it: this is the inverse.
    Untouched(Step),
    /// It was changed since. For a file that the change set made: what it wrote.
    Edited {
        /// The path.
        path: Utf8PathBuf,
        /// What was written, if the file is one that the change set made.
        made: Option<Vec<u8>>,
    },
}

impl DoneStep {
    /// The path that it is about.
    pub fn path(&self) -> &Utf8Path {
        match self {
            Self::Untouched(step) => step.path(),
            Self::Edited { path, .. } => path,
        }
    }
}

/// Why a change set can't be taken back. Nothing has been changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UndoError {
    /// A site of it was changed again later.
    #[error("the site `{0}` was changed again since")]
    SiteChanged(HostName),
    /// A file that it made holds later edits.
    #[error("{path} was edited since, and taking it away would lose that")]
    Edited {
        /// The file.
        path: Utf8PathBuf,
        /// What the change set wrote.
        made: Vec<u8>,
    },
    /// The authority that it made was replaced since.
    #[error("the authority was replaced again since")]
    AuthorityReplaced,
    /// What was there before can't be planned again.
    #[error(transparent)]
    Plan(#[from] PlanError),
}

/// Plans to take back a change set with these site changes and steps.
///
/// `is_last` says that nothing was changed after it: then also what other sites
/// could need by now (modules, the authority) goes as it came.
///
/// # Errors
/// An [`UndoError`] when a later change is in the way.
pub fn undo(
    mut observed: Observed,
    list: &SiteList,
    sites: &[SiteChange],
    steps: &[DoneStep],
    is_last: bool,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, UndoError> {
    let places = observed.places.clone();
    for change in sites {
        let name = name_of(change);
        if list.site(name) != change.after.as_ref() {
            return Err(UndoError::SiteChanged(name.clone()));
        }
    }
    // What a removed file held is known; what a person wrote into a made one is not ours to lose.
    // The hosts file and the list are planned anew; certificates hold nobody's edits.
    let is_common =
        |path: &Utf8Path| path == places.hosts || path == places.site_list() || path.starts_with(&places.data);
    for step in steps {
        if let DoneStep::Edited { path, made: Some(made) } = step
            && !is_common(path)
        {
            return Err(UndoError::Edited { path: path.clone(), made: made.clone() });
        }
    }
    let is_configuration =
        |observed: &Observed, path: &Utf8Path| observed.configured().into_iter().any(|server| is_shared(server, path));
    let configuration: Vec<Utf8PathBuf> = steps
        .iter()
        .map(DoneStep::path)
        .filter(|path| is_configuration(&observed, path))
        .map(Utf8Path::to_owned)
        .collect();
    let mut set = replanned(&mut observed, list, sites, fresh)?;
    // The authority that this one took the place of was kept aside: it comes back, and all that it
    // issued with it.
    let back = steps.iter().find_map(|step| former_of(step, &places));
    let back = back.and_then(|id| observed.former.get(id)).map(|files| files.texts.clone());
    if let Some(texts) = back {
        // The one that this change made is gone by now, and what trusts its successor isn't known here.
        let root = places.root_certificate();
        if steps.iter().any(|step| matches!(step, DoneStep::Edited { path, .. } if *path == root)) {
            return Err(UndoError::AuthorityReplaced);
        }
        let again = put_in_place(&mut observed, list, &texts, fresh).map_err(|failed| *failed.error)?;
        set.merge(again);
    }
    let rest = sites.iter().fold(list.clone(), |rest, change| match &change.before {
        Some(before) => rest.with(before.clone()),
        None => rest.without(name_of(change)),
    });
    let has_other_lists = has_other_lists(&observed, list, sites);
    // A key that is gone is gone: what it belongs to is made anew, and not put back.
    let is_remade = |step: &Step| {
        let path = step.path();
        let is_certificates = path.starts_with(places.certificates()) || path.starts_with(places.authority());
        is_certificates && matches!(step, Step::File(FileChange { after: Some(_), .. }))
    };
    for step in steps {
        let DoneStep::Untouched(inverse) = step else { continue };
        let path = inverse.path();
        let is_aside = path.starts_with(places.former_authorities());
        let is_others = path.starts_with(places.authority()) && !is_aside
            || path.as_str().contains(OTHERS)
            || configuration.iter().any(|own| own == path)
            || path.parent().is_some_and(|folder| folder.file_name() == Some("mods-enabled"));
        let is_needed = is_others && (has_other_lists || !is_last && !rest.sites.is_empty());
        if let Step::Folder { path, .. } = inverse
            && !path.starts_with(&places.data)
            && !path.starts_with(&places.config)
        {
            set.steps.push(Step::EmptyFolder { path: path.clone() });
        }
        if is_remade(inverse) || is_needed || matches!(inverse, Step::Folder { .. }) {
            continue;
        }
        set.without(path);
        set.steps.push(inverse.clone());
    }
    // A certificate that is put back has to be read again, whichever server has the site.
    let servers = set.steps.iter().filter_map(|step| observed.server_of(step.path())).collect::<Vec<_>>();
    let has_certificate = set.steps.iter().any(|step| places.certificate_of(step.path()).is_some());
    let of_sites = rest.sites.iter().filter_map(|site| site.server).filter(|server| server.is_configured());
    set.servers.extend(servers.into_iter().chain(of_sites.filter(|_| has_certificate)));
    set.sites =
        sites.iter().map(|change| SiteChange { before: change.after.clone(), after: change.before.clone() }).collect();
    Ok(set)
}

/// Whether a server has sites of other lists, which need what all of them share.
fn has_other_lists(observed: &Observed, list: &SiteList, sites: &[SiteChange]) -> bool {
    let is_this = |name: &HostName| {
        let is_changed = |change: &SiteChange| name_of(change) == name;
        list.site(name).is_some() || sites.iter().any(is_changed)
    };
    let is_others = |name: &HostName| !is_this(name);
    observed.configured().into_iter().any(|server| server.own().own_sites.iter().any(is_others))
}

/// The authority that a step kept aside, by its id.
fn former_of<'s>(step: &'s DoneStep, places: &Places) -> Option<&'s str> {
    let DoneStep::Untouched(Step::File(FileChange { path, after: None, .. })) = step else { return None };
    let folder = path.parent().filter(|folder| folder.parent() == Some(&places.former_authorities()))?;
    folder.file_name()
}

/// The sites as they were, planned on the files as they are.
fn replanned(
    observed: &mut Observed,
    list: &SiteList,
    sites: &[SiteChange],
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    let gone: Vec<&Site> =
        sites.iter().filter(|change| change.before.is_none()).filter_map(|change| change.after.as_ref()).collect();
    let back: Vec<&Site> = sites.iter().filter_map(|change| change.before.as_ref()).collect();
    let mut set = if gone.is_empty() { ChangeSet::default() } else { unmap_sites(observed, &gone)? };
    observed.advance(&set);
    let mut list = list.clone();
    for site in gone {
        list = list.without(&site.name);
    }
    // One after the other: each sees the shared files as the one before it leaves them.
    for site in back {
        let next = map_site(observed, &list, site, fresh)?;
        list = list.with(site.clone());
        observed.advance(&next);
        set.merge(next);
    }
    Ok(set)
}

fn name_of(change: &SiteChange) -> &HostName {
    let site = change.before.as_ref().or(change.after.as_ref());
    &site.expect("a site change has a site before or after").name
}

impl FileChange {
    /// The change the other way round.
    pub fn inverse(self) -> Self {
        Self { path: self.path, before: self.after, after: self.before, access: self.access }
    }
}

impl RightsChange {
    /// The change the other way round.
    pub fn inverse(self) -> Self {
        Self { before: self.after, after: self.before, ..self }
    }
}

impl TrustChange {
    /// The change the other way round.
    pub fn inverse(self) -> Self {
        Self { before: self.after, after: self.before, ..self }
    }
}

impl LinkChange {
    /// The change the other way round.
    pub fn inverse(self) -> Self {
        Self { path: self.path, before: self.after, after: self.before }
    }
}
