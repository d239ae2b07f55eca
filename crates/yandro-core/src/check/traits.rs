//! Traits of a code: the columns of the table of codes.

/// How a symptom is looked into for its cause.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Symptom {
    /// Nothing listens.
    Closed,
    /// Something else answers, or with something else.
    Wrong,
    /// The site's own server answers with an error.
    Status,
    /// Redirects lead in a circle: a rule of the project's own may do that.
    Circle,
    /// PHP files are sent as they are: which PHP could run them?
    Php,
    /// The folder is listed, and has an index page.
    Index,
    /// Connections are taken, and nothing is answered.
    Silent,
}

/// A fix that needs no decision.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SafeFix {
    /// To bring the machine in line with the site list.
    Settle,
    /// To start the server, or have it read its files again.
    Reload,
}

/// How long `map` waits for a finding to go away by itself, while a server takes its new configuration up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Patience {
    /// Waiting doesn't change it.
    None,
    /// The old configuration may answer with it for a moment: a folder that is proven may have had another index.
    Brief,
    /// As long as a reload may take.
    Full,
}

/// The columns of one row. Each method sets one, and is the word for it in the table.
#[derive(Clone, Copy, Debug)]
pub(super) struct Traits {
    pub(super) symptom: Option<Symptom>,
    /// Whether a server writes something about it into its error log.
    pub(super) is_logged: bool,
    pub(super) fix: Option<SafeFix>,
    pub(super) patience: Patience,
}

impl Traits {
    /// No column set: the defaults.
    pub(super) const NONE: Self = Self { symptom: None, is_logged: false, fix: None, patience: Patience::Full };

    pub(super) const fn closed(self) -> Self {
        Self { symptom: Some(Symptom::Closed), ..self }
    }

    pub(super) const fn wrong(self) -> Self {
        Self { symptom: Some(Symptom::Wrong), ..self }
    }

    pub(super) const fn status(self) -> Self {
        Self { symptom: Some(Symptom::Status), ..self }
    }

    pub(super) const fn circle(self) -> Self {
        Self { symptom: Some(Symptom::Circle), ..self }
    }

    pub(super) const fn silent(self) -> Self {
        Self { symptom: Some(Symptom::Silent), ..self }
    }

    pub(super) const fn index(self) -> Self {
        Self { symptom: Some(Symptom::Index), ..self }
    }

    pub(super) const fn php(self) -> Self {
        Self { symptom: Some(Symptom::Php), ..self }
    }

    pub(super) const fn logged(self) -> Self {
        Self { is_logged: true, ..self }
    }

    pub(super) const fn settle(self) -> Self {
        Self { fix: Some(SafeFix::Settle), ..self }
    }

    pub(super) const fn reload(self) -> Self {
        Self { fix: Some(SafeFix::Reload), ..self }
    }

    pub(super) const fn brief(self) -> Self {
        Self { patience: Patience::Brief, ..self }
    }

    pub(super) const fn no_wait(self) -> Self {
        Self { patience: Patience::None, ..self }
    }
}
