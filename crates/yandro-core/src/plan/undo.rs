//! Planning to take a change set back.
//!
//! A file that is still as the change set left it gets its very bytes back. One
//! that was edited since keeps the later edit: only the lines of the change set's
//! own sites are removed or restored, by planning those sites again.

use std::collections::HashSet;

use camino::Utf8PathBuf;

use super::change::{
    Change, ChangeSet, FileChange, LinkChange, RightsChange, RowsChange, SiteChange, Step, TrustChange,
};
use super::error::PlanError;
use super::fresh::Fresh;
use super::observed::{Observed, ServerModel};
use super::others::foreign_certificate;
use super::places::Places;
use super::replace::put_in_place;
use super::replan::replanned;
use super::role::Role;
use super::undoing::{DoneStep, Undoing};
use crate::config::others_name;
use crate::hosts::{TakeOver, has_taken_over};
use crate::name::HostName;
use crate::site::{IndexedList, ServerId, SiteList};

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
        /// Content that the change set wrote.
        made: Vec<u8>,
    },
    /// The lines that it changed in a file were changed again since.
    #[error("the lines that it changed in {0} were changed again since")]
    Overlaps(Utf8PathBuf),
    /// The authority that it made was replaced since.
    #[error("the authority was replaced again since")]
    AuthorityReplaced,
    /// The former site can't be planned again.
    #[error(transparent)]
    Plan(#[from] PlanError),
}

/// Plans to take back a change set.
///
/// # Errors
/// An [`UndoError`] when a later change is in the way.
pub fn undo(
    observed: Observed,
    list: &SiteList,
    undoing: &Undoing<'_>,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, UndoError> {
    let known =
        |steps: &[DoneStep]| -> Vec<DoneStep> { steps.iter().map(|step| step.clone().with_role(&observed)).collect() };
    let (steps, leftovers) = (known(undoing.steps), known(undoing.leftovers));
    let undoing = &Undoing { steps: &steps, leftovers: &leftovers, ..*undoing };
    let mut undo = Undo::new(observed, list, *undoing);
    undo.check()?;
    undo.set = replanned(&mut undo.observed, list, undoing, fresh)?;
    let overlap = reverse_edited(&mut undo.set, undoing);
    undo.bring_authority_back(list, fresh)?;
    undo.take_steps_back();
    undo.remove_leftovers();
    undo.name_servers();
    if undo.set.is_empty()
        && let Some(path) = overlap
    {
        return Err(UndoError::Overlaps(path));
    }
    let inverse = |change: &SiteChange| SiteChange { before: change.after.clone(), after: change.before.clone() };
    undo.set.sites = undoing.sites.iter().map(inverse).collect();
    Ok(undo.set)
}

/// An undo that is being planned.
struct Undo<'u> {
    observed: Observed,
    places: Places,
    undoing: Undoing<'u>,
    list: &'u SiteList,
    /// The sites that are left once it is done.
    rest: SiteList,
    set: ChangeSet,
}

impl<'u> Undo<'u> {
    fn new(mut observed: Observed, list: &'u SiteList, undoing: Undoing<'u>) -> Self {
        let places = observed.places.clone();
        if took_over(undoing.steps) {
            observed.wishes.take_over = TakeOver::Yes;
        }
        let back = undoing.sites.iter().map(|change| (change.after.as_ref(), change.before.as_ref()));
        let rest = list.clone().with_changes(back);
        Self { observed, places, undoing, list, rest, set: ChangeSet::default() }
    }

    /// Refuses what would lose a later change of a site, or an edit by hand in a file that the change set
    /// made.
    fn check(&self) -> Result<(), UndoError> {
        let writes_list = self.undoing.steps.iter().any(|step| *step.role() == Role::SiteList);
        let (listed, applied) = (IndexedList::of(self.list), IndexedList::of(self.observed.applied.sites()));
        let is_changed = |change: &&SiteChange| {
            let after = change.after.as_ref();
            let name = after.map_or_else(|| name_of(change), |after| &after.name);
            writes_list && listed.site(name) != after || applied.site(name) != after
        };
        if let Some(change) = self.undoing.sites.iter().find(is_changed) {
            return Err(UndoError::SiteChanged(name_of(change).clone()));
        }
        for step in self.undoing.steps {
            if let DoneStep::Edited { role, path, made: Some(made), .. } = step
                && !role.is_never_edited()
            {
                return Err(UndoError::Edited { path: path.clone(), made: made.clone() });
            }
        }
        Ok(())
    }

    /// If the change set replaced the authority, the former one comes back, and all that it issued with
    /// it: it was kept aside.
    fn bring_authority_back(&mut self, list: &SiteList, fresh: &mut dyn Fresh) -> Result<(), UndoError> {
        let steps = self.undoing.steps;
        let former = steps.iter().find_map(former_of);
        let former = former.and_then(|id| self.observed.former.get(id)).map(|files| files.texts.clone());
        let Some(texts) = former else { return Ok(()) };
        // The one that this change made is gone by now, and what trusts its successor isn't known here.
        if steps.iter().any(|step| matches!(step, DoneStep::Edited { role: Role::Root, .. })) {
            return Err(UndoError::AuthorityReplaced);
        }
        let again = put_in_place(&mut self.observed, list, &texts, fresh).map_err(|failed| *failed.error)?;
        self.set.merge(again);
        Ok(())
    }

    /// Takes back each step whose path is as the change set left it.
    fn take_steps_back(&mut self) {
        let has_other_lists = has_other_lists(&self.observed, self.list, self.undoing.sites);
        let emptied: Vec<ServerId> = self.set.steps.iter().filter_map(emptied_server).collect();
        let mut planned: HashSet<Utf8PathBuf> = self.set.steps.iter().map(|step| step.path().to_owned()).collect();
        let mut back = Vec::new();
        for step in self.undoing.steps {
            let DoneStep::Untouched(inverse) = step else { continue };
            if let Change::Folder { path, .. } = &inverse.change {
                if !path.starts_with(&self.places.data) && !path.starts_with(&self.places.config) {
                    let change = Change::EmptyFolder { path: path.clone() };
                    back.push(Step { role: inverse.role.clone(), change });
                }
                continue;
            }
            let (role, path) = (&inverse.role, inverse.path());
            let is_shared = role.is_shared_by_sites();
            let is_needed = has_other_lists || !self.undoing.is_last && !self.rest.sites.is_empty();
            // With the last site of a server goes all that its sites share: more than this change
            // brought, where an earlier one was undone before it.
            let server = self.observed.server_of(path);
            let goes_whole = self.rest.sites.is_empty() || server.is_some_and(|server| emptied.contains(&server));
            let is_lists = matches!(role, Role::SiteList | Role::AppliedSites);
            let is_planned = planned.contains(path);
            let is_made_anew = is_issued_again(inverse) || is_planned && self.has_foreign_certificate(inverse);
            if is_made_anew || is_shared && is_needed || (is_shared || is_lists) && goes_whole && is_planned {
                continue;
            }
            planned.insert(path.to_owned());
            back.push(inverse.clone());
        }
        self.set.replace(back);
    }

    /// Whether a step would bring the default virtual hosts back with the certificate of another list,
    /// which may be gone by now.
    fn has_foreign_certificate(&self, step: &Step) -> bool {
        let Change::File(FileChange { path, after: Some(text), .. }) = &step.change else { return false };
        let is_of = |server: &&dyn ServerModel| server.own().layout.site_file(&others_name()) == *path;
        let server = self.observed.configured().into_iter().find(is_of);
        server.is_some_and(|server| foreign_certificate(&self.places, server, text).is_some())
    }

    /// With the last site goes what earlier undos left in place for others.
    fn remove_leftovers(&mut self) {
        let has_other_lists = has_other_lists(&self.observed, self.list, self.undoing.sites);
        if !self.rest.sites.is_empty() || has_other_lists {
            return;
        }
        let mut planned: HashSet<Utf8PathBuf> = self.set.steps.iter().map(|step| step.path().to_owned()).collect();
        for step in self.undoing.leftovers {
            let DoneStep::Untouched(inverse) = step else { continue };
            let is_removal = matches!(
                inverse.change,
                Change::File(FileChange { after: None, .. }) | Change::Link(LinkChange { after: None, .. })
            );
            // Lines of files that were there before go back with their journal.
            let is_shared = inverse.role.is_shared_by_sites() && !matches!(inverse.role, Role::SharedConfig(_));
            if is_removal && is_shared && planned.insert(inverse.path().to_owned()) {
                self.set.steps.push(inverse.clone());
            }
        }
    }

    /// Names the servers to reload. A certificate that comes back has to be read again, whichever server
    /// has the site.
    fn name_servers(&mut self) {
        let paths = || self.set.steps.iter().map(Step::path);
        let changed: Vec<ServerId> = paths().filter_map(|path| self.observed.server_of(path)).collect();
        let has_certificate = self.set.steps.iter().any(|step| step.role.certificate_of().is_some());
        let of_sites = self.rest.sites.iter().filter_map(|site| site.server).filter(|server| server.is_configured());
        let of_sites: Vec<ServerId> = if has_certificate { of_sites.collect() } else { Vec::new() };
        self.set.servers.extend(changed.into_iter().chain(of_sites));
    }
}

/// The server whose last site goes, if the step removes what its sites share.
fn emptied_server(step: &Step) -> Option<ServerId> {
    match (&step.role, &step.change) {
        (Role::DefaultHost(server), Change::File(FileChange { after: None, .. })) => Some(*server),
        _ => None,
    }
}

/// Whether a step would bring a certificate or an authority back whose key is gone: it is issued
/// again.
fn is_issued_again(step: &Step) -> bool {
    let is_of_authority = |role: &Role| {
        role.certificate_of().is_some() || matches!(role, Role::Root | Role::Authority | Role::FormerAuthority(_))
    };
    matches!(step.change, Change::File(FileChange { after: Some(_), .. })) && is_of_authority(&step.role)
}

/// Whether lines of the user's own were taken over before the change set: taking it back does so again.
fn took_over(steps: &[DoneStep]) -> bool {
    let before = steps.iter().filter(|step| *step.role() == Role::HostsFile).find_map(|step| match step {
        DoneStep::Untouched(Step { change: Change::File(inverse), .. }) => inverse.after.as_deref(),
        DoneStep::Edited { part_before, .. } => part_before.as_ref(),
        DoneStep::Untouched(_) => None,
    });
    before.is_some_and(|text| has_taken_over(text))
}

/// Takes back by their lines the files that were edited since and that no site's plan speaks of. Gives one
/// whose lines were changed again.
fn reverse_edited(set: &mut ChangeSet, undoing: &Undoing<'_>) -> Option<Utf8PathBuf> {
    let is_planned = |role: &Role| {
        let is_list = matches!(role, Role::HostsFile | Role::SiteList);
        let is_own = role.is_never_edited() && !is_list && !matches!(role, Role::DefaultHost(_));
        !undoing.sites.is_empty() && (is_list || role.is_shared_by_sites()) || is_own
    };
    let mut overlap = None;
    for step in undoing.steps {
        let DoneStep::Edited { role, path, made: None, part_before, reversed } = step else { continue };
        if is_planned(role) || set.change_of(path).is_some() {
            continue;
        }
        match reversed {
            Some(change) if change.before == change.after => {}
            Some(change) => set.step(role.clone(), Change::File(change.clone())),
            None if part_before.is_some() => overlap = Some(path.clone()),
            None => {}
        }
    }
    overlap
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
fn former_of(step: &DoneStep) -> Option<&str> {
    match step {
        DoneStep::Untouched(Step {
            role: Role::FormerAuthority(id),
            change: Change::File(FileChange { after: None, .. }),
        }) => Some(id),
        _ => None,
    }
}

pub(super) fn name_of(change: &SiteChange) -> &HostName {
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

impl RowsChange {
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
