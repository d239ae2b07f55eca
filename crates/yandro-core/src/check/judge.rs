//! The verdict on each step of each name.

use std::time::Duration;

use super::circumstances::Beside;
use super::codes::Severity;
use super::finding::{Finding, Judged};
use super::observation::{Expected, NameObservation, Proof, Timed};
use super::report::{NameReport, SiteReport, StepOutcome, StepReport};
use super::step::CheckStep;

/// Judges what was seen of a site's names, and beside them.
pub fn judge(expected: &Expected, observations: &[NameObservation], beside: &Beside) -> SiteReport {
    let mut findings = Vec::new();
    let mut names: Vec<NameReport> = observations
        .iter()
        .map(|seen| {
            let mut judge = Judge {
                expected,
                seen,
                all: observations,
                beside,
                steps: Vec::with_capacity(CheckStep::ALL.len()),
                findings: Vec::new(),
            };
            judge.run();
            let (is_proven, is_anothers) = (judge.has_proof(&Proof::Given), judge.is_anothers());
            let days_left = judge.days_left();
            for finding in judge.findings {
                // Ports and aliases share causes: one finding for each cause is enough.
                if findings.iter().all(|other: &Finding| !other.is_same(&finding)) {
                    findings.push(finding);
                }
            }
            let name = seen.name.clone();
            let mut own = NameReport { name, steps: judge.steps, is_proven, is_anothers, days_left: None };
            if matches!(own.outcome(CheckStep::Validity), StepOutcome::Passed | StepOutcome::Warned) {
                own.days_left = days_left;
            }
            own.is_proven &= own.is_well();
            own
        })
        .collect();
    // A name that leads to another one of the site's is as good as that.
    for (at, seen) in observations.iter().enumerate() {
        if let Some(Proof::LeadsTo(other)) = seen.proof.as_ref().map(|timed| &timed.seen) {
            names[at].is_proven = names[at].is_well() && names.iter().any(|own| own.name == *other && own.is_proven);
        }
    }
    SiteReport { site: expected.site.clone(), server: expected.server, names, findings }
}

pub(super) struct Judge<'a> {
    pub(super) expected: &'a Expected,
    pub(super) seen: &'a NameObservation,
    /// What was seen of all of the site's names.
    pub(super) all: &'a [NameObservation],
    pub(super) beside: &'a Beside,
    steps: Vec<StepReport>,
    findings: Vec<Finding>,
}

impl Judge<'_> {
    fn run(&mut self) {
        for step in CheckStep::ALL {
            let report = self.report(step);
            self.steps.push(report);
        }
    }

    /// Judges a step unless one that it depends on has failed.
    fn report(&mut self, step: CheckStep) -> StepReport {
        let none = |outcome, detail: &str| {
            let detail = detail.to_owned();
            StepReport { step, outcome, detail, took: Duration::ZERO, parts: Vec::new() }
        };
        if let Some(why) = self.not_needed(step) {
            return none(StepOutcome::NotNeeded, why);
        }
        let has_failed = |need: &&CheckStep| {
            self.steps.iter().any(|done| done.step == **need && done.outcome == StepOutcome::Failed)
        };
        if let Some(stopper) = step.needs(self.expected.site.https.is_on()).iter().find(has_failed) {
            return none(StepOutcome::Stopped(*stopper), "");
        }
        let (outcome, detail) = match self.judged(step) {
            Ok(detail) => (StepOutcome::Passed, detail),
            Err(failed) => {
                let (detail, diagnosis) = *failed;
                let is_error = diagnosis.severity() == Severity::Error;
                self.findings.push(Finding { step, name: self.seen.name.clone(), diagnosis, further_ports: None });
                (if is_error { StepOutcome::Failed } else { StepOutcome::Warned }, detail)
            }
        };
        StepReport { step, outcome, detail, took: self.took(step), parts: self.parts(step) }
    }

    fn judged(&self, step: CheckStep) -> Judged {
        match step {
            CheckStep::Suffix => Ok(self.suffix()),
            CheckStep::Hosts => self.hosts(),
            CheckStep::Resolver => self.resolver(),
            CheckStep::Address => self.address(),
            CheckStep::Connect => self.connect(),
            CheckStep::VirtualHost => self.virtual_host(),
            CheckStep::Http => self.http(),
            CheckStep::Redirect => self.redirect(),
            CheckStep::Tls => self.tls(),
            CheckStep::Offers => Ok(self.offers()),
            CheckStep::OtherNames => Ok(self.other_names()),
            CheckStep::Chain => self.chain(),
            CheckStep::Name => self.name(),
            CheckStep::Validity => self.validity(),
            CheckStep::Disk => self.disk(),
            CheckStep::Stores => self.stores(),
            CheckStep::Https => self.https(),
            CheckStep::Application => self.application(),
            CheckStep::Proof => self.proof(),
        }
    }

    /// How long it took to see what a step is about, where that was measured.
    fn took(&self, step: CheckStep) -> Duration {
        let (seen, beside) = (self.seen, self.beside);
        let took = match step {
            CheckStep::Hosts => Some(seen.hosts.took),
            CheckStep::Resolver => Some(seen.resolver.took),
            CheckStep::Connect => took(seen.connect.as_ref()),
            CheckStep::VirtualHost => took(beside.configured.as_ref()),
            CheckStep::Http => took(seen.http.as_ref()),
            CheckStep::Tls => took(seen.tls.as_ref()),
            CheckStep::Offers => took(seen.offers.as_ref()),
            CheckStep::OtherNames => took(seen.other_names.as_ref()),
            CheckStep::Stores => took(beside.stores.as_ref()),
            CheckStep::Https => took(seen.https.as_ref()),
            CheckStep::Application => seen.trail.as_ref().map(|trail| trail.took),
            CheckStep::Proof => took(seen.proof.as_ref()),
            CheckStep::Suffix
            | CheckStep::Address
            | CheckStep::Redirect
            | CheckStep::Chain
            | CheckStep::Name
            | CheckStep::Validity
            | CheckStep::Disk => None,
        };
        took.unwrap_or_default()
    }
}

fn took<T>(timed: Option<&Timed<T>>) -> Option<Duration> {
    timed.map(|timed| timed.took)
}
