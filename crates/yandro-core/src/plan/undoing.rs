//! A change set to undo, and the present state of its paths.

use camino::{Utf8Path, Utf8PathBuf};

use super::change::{FileChange, SiteChange, Step};
use super::observed::Observed;
use super::role::Role;

/// One applied step of a change set, and the present state of its path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DoneStep {
    /// The path is as the change set left it: this is the inverse.
    Untouched(Step),
    /// It was changed since. For a file that the change set made: what it wrote.
    Edited {
        /// The step's role.
        role: Role,
        /// Where the file is.
        path: Utf8PathBuf,
        /// The written content, if the change set created the file.
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

    /// Why the step was done.
    pub fn role(&self) -> &Role {
        match self {
            Self::Untouched(step) => &step.role,
            Self::Edited { role, .. } => role,
        }
    }

    /// The same, with its role where a record doesn't say.
    pub(super) fn with_role(mut self, observed: &Observed) -> Self {
        if *self.role() == Role::Unrecorded {
            let known = observed.role_of(self.path());
            match &mut self {
                Self::Untouched(Step { role, .. }) | Self::Edited { role, .. } => *role = known,
            }
        }
        self
    }
}

/// The change set to undo.
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
