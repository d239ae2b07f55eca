//! What is wrong, before it is known which step of which name it belongs to.

use super::finding::{Code, Severity};

/// A finding in the making.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Fault {
    pub(super) code: Code,
    pub(super) severity: Severity,
    pub(super) cause: String,
    pub(super) evidence: Option<String>,
    pub(super) remedy: Option<String>,
    /// Other ways, each a command.
    pub(super) otherwise: Vec<String>,
}

impl Fault {
    /// As bad as its code usually is.
    pub(super) fn new(code: Code, cause: impl Into<String>) -> Self {
        let (evidence, remedy, otherwise) = (None, None, Vec::new());
        Self { code, severity: code.severity(), cause: cause.into(), evidence, remedy, otherwise }
    }

    pub(super) fn error(code: Code, cause: impl Into<String>) -> Self {
        Self { severity: Severity::Error, ..Self::new(code, cause) }
    }

    pub(super) fn warning(code: Code, cause: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::new(code, cause) }
    }

    pub(super) fn seen(mut self, evidence: impl Into<String>) -> Self {
        self.evidence = Some(evidence.into());
        self
    }

    pub(super) fn mend(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    pub(super) fn or(mut self, remedy: impl Into<String>) -> Self {
        self.otherwise.push(remedy.into());
        self
    }
}
