//! The verdict on each step of each name.

use std::time::Duration;

use super::circumstances::{Beside, SiteFileState};
use super::codes::Severity;
use super::finding::{Finding, Judged};
use super::observation::{Expected, NameObservation, Proof, Timed};
use super::report::{NameReport, SiteReport, StepOutcome, StepReport};
use super::step::CheckStep;
use super::steps::seen;
use crate::site::ServerId;

/// Turns the observations of a site's names into a report.
pub fn judge(expected: &Expected, observations: &[NameObservation], beside: &Beside) -> SiteReport {
    let mut findings = Vec::new();
    let mut names: Vec<NameReport> = observations
        .iter()
        .map(|seen| {
            let (report, found) = at_all_addresses(expected, (seen, observations), beside);
            for finding in found {
                // Ports and aliases share causes: one finding for each cause is enough.
                if findings.iter().all(|other: &Finding| !other.is_same(&finding)) {
                    findings.push(finding);
                }
            }
            report
        })
        .collect();
    // A name that leads to another one of the site's is as good as that.
    for (at, seen) in observations.iter().enumerate() {
        if let Some(Proof::LeadsTo(other)) = seen.proof.as_ref().map(|timed| &timed.seen) {
            names[at].is_proven = names[at].is_well() && names.iter().any(|own| own.name == *other && own.is_proven);
        }
    }
    let is_untested = beside.configured.as_ref().is_some_and(|configured| configured.seen.is_untested);
    SiteReport { site: expected.site.clone(), server: expected.server, names, findings, is_untested }
}

/// The report of a name at all of its addresses: each step as it is at the worst of them.
fn at_all_addresses(
    expected: &Expected,
    (seen, all): (&NameObservation, &[NameObservation]),
    beside: &Beside,
) -> (NameReport, Vec<Finding>) {
    let (mut report, mut found) = at_one_address(expected, (seen, all), beside);
    for other in &seen.further {
        let (there, found_there) = at_one_address(expected, (other, all), beside);
        for finding in &mut found {
            // The page itself may have been asked at one address only.
            let is_seen =
                matches!(there.outcome(finding.step), StepOutcome::Passed | StepOutcome::Warned | StepOutcome::Failed)
                    && (finding.step != CheckStep::Https || other.https.is_some());
            let is_of_address = finding.step.is_of_address() && finding.step != CheckStep::Application;
            if is_of_address && is_seen && found_there.iter().all(|other| !other.is_same(finding)) {
                finding.only_at = seen.asked;
            }
        }
        for mut finding in found_there {
            if found.iter().all(|own| !own.is_same(&finding)) {
                finding.only_at = other.asked;
                found.push(finding);
            }
        }
        let is_same_proof = || match (&seen.proof, &other.proof) {
            (Some(here), Some(there)) => here.seen == there.seen,
            _ => false,
        };
        report.is_proven &= there.is_proven || there.is_well() && is_same_proof();
        if let Some(address) = other.asked {
            report.take_in(there, address);
        }
    }
    (report, found)
}

/// The report of a name at the address that was asked.
fn at_one_address(
    expected: &Expected,
    (seen, all): (&NameObservation, &[NameObservation]),
    beside: &Beside,
) -> (NameReport, Vec<Finding>) {
    let steps = Vec::with_capacity(CheckStep::ALL.len());
    let mut judge = Judge { expected, seen, all, beside, steps, findings: Vec::new() };
    judge.run();
    let (is_proven, is_anothers) = (judge.has_proof(&Proof::Given), judge.is_anothers());
    let days_left = judge.days_left();
    let name = seen.name.clone();
    let mut own = NameReport { name, steps: judge.steps, is_proven, is_anothers, days_left: None };
    if matches!(own.outcome(CheckStep::Validity), StepOutcome::Passed | StepOutcome::Warned) {
        own.days_left = days_left;
    }
    own.is_proven &= own.is_well();
    (own, judge.findings)
}

pub(super) struct Judge<'a> {
    pub(super) expected: &'a Expected,
    pub(super) seen: &'a NameObservation,
    /// The observations of all of the site's names.
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
        if let Some(because) = self.fault_of_files(step) {
            return self.finished(step, because);
        }
        let has_failed = |need: &&CheckStep| {
            self.steps.iter().any(|done| done.step == **need && done.outcome == StepOutcome::Failed)
        };
        if let Some(stopper) = step.needs(self.expected.site.https.is_on()).iter().find(has_failed) {
            return none(StepOutcome::Stopped(*stopper), "");
        }
        let judged = self.judged(step);
        self.finished(step, judged)
    }

    /// The fault that the files show by themselves, whatever failed before.
    fn fault_of_files(&self, step: CheckStep) -> Option<Judged> {
        let files = &self.beside.files;
        match step {
            CheckStep::Disk if (files.certificate.is_some() || files.is_other_key) && self.is_set_up() => {
                Some(self.disk())
            }
            CheckStep::Proof if files.is_folder_missing => Some(self.folder_missing()),
            _ => None,
        }
    }

    /// Whether a server uses the site's files: it has a virtual host for it, or answers. Without, the site is yet to be
    /// written.
    fn is_set_up(&self) -> bool {
        let configured = self.beside.configured.as_ref();
        // The list itself is the configuration of the built-in server.
        let is_built_in = self.expected.server == ServerId::BuiltIn;
        let is_heard = seen(self.seen.connect.as_ref()).is_some_and(Result::is_ok);
        configured.is_some_and(|configured| configured.seen.site_file == SiteFileState::Read)
            || self.connection().is_some()
            || is_built_in && is_heard
    }

    fn finished(&mut self, step: CheckStep, judged: Judged) -> StepReport {
        let (outcome, detail) = match judged {
            Ok(detail) => (StepOutcome::Passed, detail),
            Err(failed) => {
                let (detail, diagnosis) = *failed;
                let is_error = diagnosis.severity() == Severity::Error;
                self.findings.push(Finding {
                    step,
                    name: self.seen.name.clone(),
                    diagnosis,
                    further_ports: None,
                    only_at: None,
                });
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
