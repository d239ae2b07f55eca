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
use crate::hosts::{TakeOver, has_taken_over};
use crate::name::HostName;
use crate::site::{ServerId, Site, SiteList};

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
        /// For a file that it changed: the changed part as it was before, with some lines around it.
        part_before: Option<Vec<u8>>,
        /// For a file whose changed lines are as the change set left them: the change that takes only
        /// these back.
        reversed: Option<FileChange>,
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
    /// The lines that it changed in a file were changed again since.
    #[error("the lines that it changed in {0} were changed again since")]
    Overlaps(Utf8PathBuf),
    /// The authority that it made was replaced since.
    #[error("the authority was replaced again since")]
    AuthorityReplaced,
    /// What was there before can't be planned again.
    #[error(transparent)]
    Plan(#[from] PlanError),
}

/// What is to be taken back.
#[derive(Clone, Copy, Debug)]
pub struct Undoing<'u> {
    /// The sites that the change set was about.
    pub sites: &'u [SiteChange],
    /// Its steps, in the order in which they are taken back.
    pub steps: &'u [DoneStep],
    /// The steps of change sets that were undone before, and of those that undid them: they may have
    /// left in place what sites share.
    pub leftovers: &'u [DoneStep],
    /// Whether nothing was changed after it: then also what other sites could need by now (modules,
    /// the authority) goes as it came.
    pub is_last: bool,
}

/// Plans to take back a change set.
///
/// # Errors
/// An [`UndoError`] when a later change is in the way.
pub fn undo(
    mut observed: Observed,
    list: &SiteList,
    undoing: &Undoing<'_>,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, UndoError> {
    let Undoing { sites, steps, leftovers, is_last } = *undoing;
    let places = observed.places.clone();
    for change in sites {
        let name = name_of(change);
        if list.site(name) != change.after.as_ref() {
            return Err(UndoError::SiteChanged(name.clone()));
        }
    }
    // What a removed file held is known; what a person wrote into a made one is not ours to lose.
    // The hosts file, the list and the default virtual hosts are planned anew; certificates hold nobody's edits.
    let is_common = |path: &Utf8Path| {
        path == places.hosts
            || path == places.site_list()
            || path.starts_with(&places.data)
            || path.as_str().contains(OTHERS)
    };
    for step in steps {
        if let DoneStep::Edited { path, made: Some(made), .. } = step
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
    if took_over(steps, &places) {
        observed.take_over = TakeOver::Yes;
    }
    let mut set = replanned(&mut observed, list, undoing, fresh)?;
    reverse_edited(&mut set, undoing, &places, &configuration)?;
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
    // With the last site of a server goes all that its sites share.
    let left: Vec<_> = set.steps.iter().filter_map(|step| left_by_all(step, &observed)).collect();
    let goes_whole = |path: &Utf8Path| {
        rest.sites.is_empty() || observed.server_of(path).is_some_and(|server| left.contains(&server))
    };
    // A key that is gone is gone: what it belongs to is made anew, and not put back.
    let is_remade = |step: &Step| {
        let path = step.path();
        let is_certificates = path.starts_with(places.certificates()) || path.starts_with(places.authority());
        is_certificates && matches!(step, Step::File(FileChange { after: Some(_), .. }))
    };
    for step in steps {
        let DoneStep::Untouched(inverse) = step else { continue };
        let path = inverse.path();
        let is_shared = is_shared_by_sites(path, &places, &configuration);
        let is_needed = is_shared && (has_other_lists || !is_last && !rest.sites.is_empty());
        // With the last site goes more than this change brought, where an earlier one was undone before it.
        let is_shared = is_shared || path == places.site_list();
        let is_planned = is_shared && goes_whole(path) && set.steps.iter().any(|step| step.path() == path);
        if let Step::Folder { path, .. } = inverse
            && !path.starts_with(&places.data)
            && !path.starts_with(&places.config)
        {
            set.steps.push(Step::EmptyFolder { path: path.clone() });
        }
        if is_remade(inverse) || is_needed || is_planned || matches!(inverse, Step::Folder { .. }) {
            continue;
        }
        set.without(path);
        set.steps.push(inverse.clone());
    }
    if rest.sites.is_empty() && !has_other_lists {
        for step in leftovers {
            let DoneStep::Untouched(inverse) = step else { continue };
            let path = inverse.path();
            let is_planned = set.steps.iter().any(|step| step.path() == path);
            let is_removal = matches!(inverse, Step::File(FileChange { after: None, .. }))
                || matches!(inverse, Step::Link(LinkChange { after: None, .. }));
            if is_removal && !is_planned && is_shared_by_sites(path, &places, &[]) {
                set.steps.push(inverse.clone());
            }
        }
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

/// The server whose last site goes, if the step removes what its sites share.
fn left_by_all(step: &Step, observed: &Observed) -> Option<ServerId> {
    let Step::File(FileChange { path, after: None, .. }) = step else { return None };
    if path.as_str().contains(OTHERS) { observed.server_of(path) } else { None }
}

/// Whether a path is of what all sites share: the authority, the default virtual hosts, modules, a
/// server's own files.
fn is_shared_by_sites(path: &Utf8Path, places: &Places, configuration: &[Utf8PathBuf]) -> bool {
    let is_aside = path.starts_with(places.former_authorities());
    path.starts_with(places.authority()) && !is_aside
        || path.as_str().contains(OTHERS)
        || configuration.iter().any(|file| file == path)
        || path.parent().is_some_and(|folder| folder.file_name() == Some("mods-enabled"))
}

/// Whether lines of the user's own were taken over before the change set: taking it back does so again.
fn took_over(steps: &[DoneStep], places: &Places) -> bool {
    let before = steps.iter().filter(|step| step.path() == places.hosts).find_map(|step| match step {
        DoneStep::Untouched(Step::File(inverse)) => inverse.after.as_deref(),
        DoneStep::Edited { part_before, .. } => part_before.as_ref(),
        DoneStep::Untouched(_) => None,
    });
    before.is_some_and(|text| has_taken_over(text))
}

/// Takes back by their lines the files that were edited since and that no site's plan speaks of.
fn reverse_edited(
    set: &mut ChangeSet,
    undoing: &Undoing<'_>,
    places: &Places,
    configuration: &[Utf8PathBuf],
) -> Result<(), UndoError> {
    let is_planned = |path: &Utf8Path| {
        let is_of_sites =
            path == places.hosts || path == places.site_list() || is_shared_by_sites(path, places, configuration);
        !undoing.sites.is_empty() && is_of_sites || path.starts_with(&places.data)
    };
    for step in undoing.steps {
        let DoneStep::Edited { path, made: None, reversed, .. } = step else { continue };
        if is_planned(path) || set.change_of(path).is_some() {
            continue;
        }
        match reversed {
            Some(change) if change.before == change.after => {}
            Some(change) => set.steps.push(Step::File(change.clone())),
            None if undoing.sites.is_empty() => return Err(UndoError::Overlaps(path.clone())),
            None => {}
        }
    }
    Ok(())
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

/// The sites as they were, planned on the files as they are. What the change set didn't touch of a
/// site's own files and links stays as it is.
fn replanned(
    observed: &mut Observed,
    list: &SiteList,
    undoing: &Undoing<'_>,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, PlanError> {
    let sites = undoing.sites;
    let gone: Vec<&Site> =
        sites.iter().filter(|change| change.before.is_none()).filter_map(|change| change.after.as_ref()).collect();
    let back: Vec<&Site> = sites.iter().filter_map(|change| change.before.as_ref()).collect();
    let is_touched = |path: &Utf8Path| undoing.steps.iter().any(|step| step.path() == path);
    for site in &gone {
        observed.hide(&site.name, is_touched);
    }
    let mut set = if gone.is_empty() { ChangeSet::default() } else { unmap_sites(observed, &gone)? };
    observed.advance(&set);
    let mut list = list.clone();
    for site in gone {
        list = list.without(&site.name);
    }
    // One after the other: each sees the shared files as the one before it leaves them.
    for site in back {
        let mut next = map_site(observed, &list, site, fresh)?;
        list = list.with(site.clone());
        next.steps.retain(|step| !observed.is_of_site(step.path(), &site.name) || is_touched(step.path()));
        observed.advance(&next);
        set.merge(next);
    }
    Ok(set)
}

impl Observed {
    /// Takes out of view what belongs to a site and isn't in a change set.
    fn hide(&mut self, name: &HostName, is_touched: impl Fn(&Utf8Path) -> bool) {
        if !is_touched(&self.places.chain(name)) {
            self.chains.remove(name);
        }
        if !is_touched(&self.places.key(name)) {
            self.keys.remove(name);
        }
        for server in &mut self.servers {
            let own = server.own_mut();
            if !is_touched(&own.layout.site_file(name)) {
                own.site_files.remove(name);
            }
            if let Some((link, _)) = own.layout.site_link(name).filter(|(link, _)| !is_touched(link)) {
                own.site_links.remove(link.file_name().unwrap_or_default());
            }
        }
    }

    /// Whether a path is a file or link of one site only.
    fn is_of_site(&self, path: &Utf8Path, name: &HostName) -> bool {
        let is_servers = self.configured().into_iter().any(|server| {
            let layout = &server.own().layout;
            layout.site_file(name) == path || layout.site_link(name).is_some_and(|(link, _)| link == path)
        });
        is_servers || self.places.certificate_of(path).as_ref() == Some(name)
    }
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
