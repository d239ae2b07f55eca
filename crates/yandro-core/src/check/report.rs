//! The report of a check of a site, step by step.

use core::net::IpAddr;
use std::time::Duration;

use super::finding::Finding;
use super::step::CheckStep;
use crate::name::HostName;
use crate::site::{ServerId, Site};

/// How a step went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepOutcome {
    /// It is well.
    Passed,
    /// It works, with a warning.
    Warned,
    /// It is not well: there is a finding.
    Failed,
    /// Not done, since this earlier step failed.
    Stopped(CheckStep),
    /// Not done, since there is nothing to do.
    NotNeeded,
}

impl StepOutcome {
    /// How bad it is: the higher, the worse.
    fn rank(self) -> u8 {
        match self {
            Self::NotNeeded => 0,
            Self::Passed => 1,
            Self::Stopped(_) => 2,
            Self::Warned => 3,
            Self::Failed => 4,
        }
    }
}

/// Result of one step for one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StepReport {
    /// What was examined.
    pub step: CheckStep,
    /// How it went.
    pub outcome: StepOutcome,
    /// The observation, in a few words.
    pub detail: String,
    /// How long it took; zero where nothing was done.
    pub took: Duration,
    /// The parts that it is made of, where there are several: each trust store.
    pub parts: Vec<StepPart>,
}

/// One of several things that a step looked at.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct StepPart {
    /// What it is.
    pub title: String,
    /// Whether it is well.
    pub well: bool,
}

/// All steps of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameReport {
    /// The site's own name or an alias.
    pub name: HostName,
    /// Its steps, all of [`CheckStep::ALL`], in order.
    pub steps: Vec<StepReport>,
    /// Whether its answer is proven to come from the site's own folder or upstream: there are sites that are well
    /// and can't be proven, for their answers vary, or they ask for a password first.
    pub is_proven: bool,
    /// Whether a certificate is served that is not on the disk, and none for the site at all.
    pub is_anothers: bool,
    /// For how many days its certificate is valid, where that was seen.
    pub days_left: Option<i64>,
}

/// A site's names, and what was found wrong with them.
#[derive(Clone, Debug)]
pub struct SiteReport {
    /// As the site list has it.
    pub site: Site,
    /// Where it is served.
    pub server: ServerId,
    /// The name, then the aliases.
    pub names: Vec<NameReport>,
    /// Problems, in the order of the steps.
    pub findings: Vec<Finding>,
    /// Whether the server's own test of changed files is missing, since it needs root.
    pub is_untested: bool,
}

impl NameReport {
    /// How a step went.
    pub fn outcome(&self, step: CheckStep) -> StepOutcome {
        self.steps.iter().find(|report| report.step == step).map_or(StepOutcome::NotNeeded, |report| report.outcome)
    }

    /// The observation of a step, in a few words.
    pub fn detail(&self, step: CheckStep) -> &str {
        self.steps.iter().find(|report| report.step == step).map_or("", |report| &report.detail)
    }

    /// Takes in the steps at another address of the name: each that is worse there.
    pub(super) fn take_in(&mut self, other: Self, address: IpAddr) {
        for (own, there) in self.steps.iter_mut().zip(other.steps) {
            if there.outcome.rank() > own.outcome.rank() {
                let detail =
                    if there.detail.is_empty() { String::new() } else { format!("at {address}: {}", there.detail) };
                *own = StepReport { detail, ..there };
            }
        }
        self.is_anothers |= other.is_anothers;
    }

    /// Whether every step is well.
    pub fn is_well(&self) -> bool {
        self.steps
            .iter()
            .all(|step| matches!(step.outcome, StepOutcome::Passed | StepOutcome::NotNeeded | StepOutcome::Warned))
    }
}

impl SiteReport {
    /// Adds the findings of further ports of the same site: new ones are reported with
    /// the ports.
    pub fn take_in(&mut self, other: Self, http_port: u16, https_port: u16) {
        for mut finding in other.findings {
            if self.findings.iter().all(|own| own.code() != finding.code()) {
                finding.further_ports = Some([http_port, https_port]);
                self.findings.push(finding);
            }
        }
    }

    /// Whether every step of every name is well.
    pub fn is_well(&self) -> bool {
        self.names.iter().all(NameReport::is_well)
    }

    /// Whether each name is proven.
    pub fn is_proven(&self) -> bool {
        self.names.iter().all(|name| name.is_proven)
    }
}
