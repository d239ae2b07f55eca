//! The verdict on each step of each name.

use std::time::Duration;

use super::circumstances::Beside;
use super::codes::Severity;
use super::finding::{Finding, Judged};
use super::observation::{Expected, NameObservation, Proof, Timed};
use super::report::{NameReport, Outcome, SiteReport, StepReport};
use super::step::Step;

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
                steps: Vec::with_capacity(Step::ALL.len()),
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
            if matches!(own.outcome(Step::Validity), Outcome::Passed | Outcome::Warned) {
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
        for step in Step::ALL {
            let report = self.report(step);
            self.steps.push(report);
        }
    }

    /// Judges a step unless one that it depends on has failed.
    fn report(&mut self, step: Step) -> StepReport {
        let none = |outcome, detail: &str| {
            let detail = detail.to_owned();
            StepReport { step, outcome, detail, took: Duration::ZERO, parts: Vec::new() }
        };
        if let Some(why) = self.not_needed(step) {
            return none(Outcome::NotNeeded, why);
        }
        let has_failed =
            |need: &&Step| self.steps.iter().any(|done| done.step == **need && done.outcome == Outcome::Failed);
        if let Some(stopper) = step.needs(self.expected.site.https.is_on()).iter().find(has_failed) {
            return none(Outcome::Stopped(*stopper), "");
        }
        let (outcome, detail) = match self.judged(step) {
            Ok(detail) => (Outcome::Passed, detail),
            Err(failed) => {
                let (detail, diagnosis) = *failed;
                let is_error = diagnosis.severity() == Severity::Error;
                self.findings.push(Finding { step, name: self.seen.name.clone(), diagnosis, further_ports: None });
                (if is_error { Outcome::Failed } else { Outcome::Warned }, detail)
            }
        };
        StepReport { step, outcome, detail, took: self.took(step), parts: self.parts(step) }
    }

    fn judged(&self, step: Step) -> Judged {
        match step {
            Step::Suffix => Ok(self.suffix()),
            Step::Hosts => self.hosts(),
            Step::Resolver => self.resolver(),
            Step::Address => self.address(),
            Step::Connect => self.connect(),
            Step::VirtualHost => self.virtual_host(),
            Step::Http => self.http(),
            Step::Redirect => self.redirect(),
            Step::Tls => self.tls(),
            Step::Offers => Ok(self.offers()),
            Step::OtherNames => Ok(self.other_names()),
            Step::Chain => self.chain(),
            Step::Name => self.name(),
            Step::Validity => self.validity(),
            Step::Disk => self.disk(),
            Step::Stores => self.stores(),
            Step::Https => self.https(),
            Step::Application => self.application(),
            Step::Proof => self.proof(),
        }
    }

    /// How long it took to see what a step is about, where that was measured.
    fn took(&self, step: Step) -> Duration {
        let (seen, beside) = (self.seen, self.beside);
        let took = match step {
            Step::Hosts => Some(seen.hosts.took),
            Step::Resolver => Some(seen.resolver.took),
            Step::Connect => took(seen.connect.as_ref()),
            Step::VirtualHost => took(beside.configured.as_ref()),
            Step::Http => took(seen.http.as_ref()),
            Step::Tls => took(seen.tls.as_ref()),
            Step::Offers => took(seen.offers.as_ref()),
            Step::OtherNames => took(seen.other_names.as_ref()),
            Step::Stores => took(beside.stores.as_ref()),
            Step::Https => took(seen.https.as_ref()),
            Step::Application => seen.trail.as_ref().map(|trail| trail.took),
            Step::Proof => took(seen.proof.as_ref()),
            Step::Suffix | Step::Address | Step::Redirect | Step::Chain | Step::Name | Step::Validity | Step::Disk => {
                None
            }
        };
        took.unwrap_or_default()
    }
}

fn took<T>(timed: Option<&Timed<T>>) -> Option<Duration> {
    timed.map(|timed| timed.took)
}
