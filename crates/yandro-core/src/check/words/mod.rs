//! Findings in words: the one place that turns causes, evidence and remedies into text.

mod cause;
mod evidence;
mod remedy;

use serde::{Serialize, Serializer};

use super::codes::{Code, Severity};
use super::finding::Finding;
use super::step::CheckStep;

/// A finding as it is shown and as programs read it (`docs/check-json.md`).
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FindingText {
    /// Kind of finding.
    pub code: Code,
    /// How bad it is.
    pub severity: Severity,
    /// The step that it was found at.
    pub step: CheckStep,
    /// The name that it is about.
    pub name: String,
    /// The cause, in one sentence without a full stop.
    pub cause: String,
    /// Evidence: lines, served values, the system's words. One or more lines.
    pub evidence: Option<String>,
    /// The command that fixes it, ready to be pasted.
    pub remedy: Option<String>,
    /// Other ways to fix it, each a command as well.
    pub otherwise: Vec<String>,
}

impl FindingText {
    /// The commands that fix it, the best first.
    pub fn remedies(&self) -> impl Iterator<Item = &str> {
        self.remedy.iter().chain(&self.otherwise).map(String::as_str)
    }
}

impl Finding {
    /// The finding in words.
    pub fn text(&self) -> FindingText {
        let mut remedies = self.diagnosis.remedies.iter().map(ToString::to_string);
        FindingText {
            code: self.code(),
            severity: self.severity(),
            step: self.step,
            name: self.name.to_string(),
            cause: self.diagnosis.sentence(),
            evidence: evidence::text(self),
            remedy: remedies.next(),
            otherwise: remedies.collect(),
        }
    }
}

impl Serialize for Finding {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.text().serialize(serializer)
    }
}

/// Values in a row.
pub(super) fn listed<T: ToString>(values: &[T], between: &str) -> String {
    values.iter().map(ToString::to_string).collect::<Vec<_>>().join(between)
}

/// The page that lists every code, in Markdown: `docs/findings.md`.
pub fn findings_page() -> String {
    let mut page = String::from(
        "# Findings\n\nEvery finding of `yandro check`, by its stable code. This page is made from the code's own table.\nA finding has its cause in a sentence, the evidence (file and line, process, served value), and\nthe command that fixes it. An error stops the site. With a warning it works, but may stop soon,\nor could work better.\n\n| code | severity | what it means | what fixes it |\n|---|---|---|---|\n",
    );
    for code in Code::ALL {
        let severity = if code.severity() == Severity::Error { "error" } else { "warning" };
        let remedy = if code.remedy().is_empty() { "–" } else { code.remedy() };
        page += &format!("| `{}` | {severity} | {} | {remedy} |\n", code.word(), code.meaning());
    }
    page
}
