//! The verdict on each step of each name.

use std::time::Duration;

use super::finding::{Finding, Severity};
use super::observation::{Expected, NameObservation, ResolverAnswer, Timed};
use super::steps::Fault;
use crate::name::HostName;
use crate::site::{ServerId, Site};

/// The steps of a check, in the order in which a browser depends on them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// The hosts file's answer.
    Hosts,
    /// The system resolver's answer.
    Resolver,
    /// TCP to the HTTP port.
    Connect,
    /// The HTTP answer, and that it leads to HTTPS.
    Http,
    /// The TLS handshake.
    Tls,
    /// The chain leads to the authority.
    Chain,
    /// The name is covered.
    Name,
    /// The certificate's time.
    Validity,
    /// The HTTPS answer.
    Https,
    /// The answer comes from the site's own folder.
    Proof,
}

/// How a step went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It is well.
    Passed,
    /// It works, with a warning.
    Warned,
    /// It is not well: there is a finding.
    Failed,
    /// Not done, since this earlier step failed.
    Stopped(Step),
    /// Not done, since there is nothing to do.
    NotNeeded,
}

/// One step of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StepReport {
    /// Which step.
    pub step: Step,
    /// How it went.
    pub outcome: Outcome,
    /// What was seen, in a few words.
    pub detail: String,
    /// How long it took; zero where nothing was done.
    pub took: Duration,
}

/// All steps of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameReport {
    /// The name.
    pub name: HostName,
    /// Its steps, all ten, in order.
    pub steps: Vec<StepReport>,
}

/// A site's names, and what was found wrong with them.
#[derive(Clone, Debug)]
pub struct SiteReport {
    /// The site.
    pub site: Site,
    /// Its server.
    pub server: ServerId,
    /// The name, then the aliases.
    pub names: Vec<NameReport>,
    /// What is wrong, in the order of the steps.
    pub findings: Vec<Finding>,
}

/// Judges what was seen of a site's names.
pub fn judge(expected: &Expected, observations: &[NameObservation]) -> SiteReport {
    let mut findings = Vec::new();
    let names = observations
        .iter()
        .map(|seen| {
            let mut judge = Judge { expected, seen, steps: Vec::with_capacity(10), findings: Vec::new() };
            judge.run();
            for finding in judge.findings {
                // Ports and aliases share causes: one finding for each cause is enough.
                if !findings.iter().any(|other: &Finding| (other.code, &other.cause) == (finding.code, &finding.cause))
                {
                    findings.push(finding);
                }
            }
            NameReport { name: seen.name.clone(), steps: judge.steps }
        })
        .collect();
    SiteReport { site: expected.site.clone(), server: expected.server, names, findings }
}

impl NameReport {
    /// How a step went.
    pub fn outcome(&self, step: Step) -> Outcome {
        self.steps.iter().find(|report| report.step == step).map_or(Outcome::NotNeeded, |report| report.outcome)
    }

    /// Whether every step is well.
    pub fn is_well(&self) -> bool {
        self.steps.iter().all(|step| matches!(step.outcome, Outcome::Passed | Outcome::NotNeeded | Outcome::Warned))
    }
}

impl SiteReport {
    /// Takes in what was found on further ports of the same site: what is new there is told with
    /// the ports.
    pub fn take_in(&mut self, other: Self, http_port: u16, https_port: u16) {
        let is_known = |finding: &Finding, known: &[Finding]| known.iter().any(|own| own.code == finding.code);
        for mut finding in other.findings {
            if !is_known(&finding, &self.findings) {
                let ports = format!("on the ports {http_port} and {https_port}");
                finding.evidence = Some(finding.evidence.map_or(ports.clone(), |seen| format!("{seen}; {ports}")));
                self.findings.push(finding);
            }
        }
    }

    /// Whether every step of every name is well.
    pub fn is_well(&self) -> bool {
        self.names.iter().all(NameReport::is_well)
    }
}

pub(super) struct Judge<'a> {
    pub(super) expected: &'a Expected,
    pub(super) seen: &'a NameObservation,
    steps: Vec<StepReport>,
    findings: Vec<Finding>,
}

impl Judge<'_> {
    fn run(&mut self) {
        let seen = self.seen;
        self.step(Step::Hosts, &[], Some(seen.hosts.took), Judge::hosts);
        self.step(Step::Resolver, &[Step::Hosts], Some(seen.resolver.took), Judge::resolver);
        let addressed = &[Step::Hosts, Step::Resolver];
        let took = took(seen.connect.as_ref());
        self.step(Step::Connect, addressed, took, Judge::connect);
        self.step(Step::Http, &[Step::Hosts, Step::Resolver, Step::Connect], self::took(seen.http.as_ref()), |judge| {
            judge.http()
        });
        let took_tls = self::took(seen.tls.as_ref());
        self.step(Step::Tls, addressed, took_tls, Judge::tls);
        let spoken = &[Step::Hosts, Step::Resolver, Step::Tls];
        self.step(Step::Chain, spoken, None, Judge::chain);
        self.step(Step::Name, spoken, None, Judge::name);
        self.step(Step::Validity, spoken, None, Judge::validity);
        let trusted: &[Step] = if self.expected.site.https.is_on() {
            &[Step::Hosts, Step::Resolver, Step::Tls, Step::Chain, Step::Name, Step::Validity]
        } else {
            &[Step::Hosts, Step::Resolver, Step::Connect, Step::Http]
        };
        self.step(Step::Https, trusted, self::took(seen.https.as_ref()), Judge::https);
        self.step(Step::Proof, trusted, self::took(seen.proof.as_ref()), Judge::proof);
    }

    /// Judges a step unless one that it depends on has failed.
    fn step(
        &mut self,
        step: Step,
        needs: &[Step],
        took: Option<Duration>,
        judge: impl FnOnce(&Self) -> Result<String, Box<(String, Fault)>>,
    ) {
        if step == Step::Http && self.expected.site.own_tls().is_some() {
            let detail = "HTTPS alone".to_owned();
            self.steps.push(StepReport { step, outcome: Outcome::NotNeeded, detail, took: Duration::ZERO });
            return;
        }
        let of_tls = [Step::Tls, Step::Chain, Step::Name, Step::Validity, Step::Https];
        if !self.expected.site.https.is_on() && of_tls.contains(&step) {
            let detail = "plain HTTP alone".to_owned();
            self.steps.push(StepReport { step, outcome: Outcome::NotNeeded, detail, took: Duration::ZERO });
            return;
        }
        let stopper = needs
            .iter()
            .find(|need| self.steps.iter().any(|done| done.step == **need && matches!(done.outcome, Outcome::Failed)));
        let took = took.unwrap_or_default();
        if let Some(stopper) = stopper {
            let detail = String::new();
            self.steps.push(StepReport { step, outcome: Outcome::Stopped(*stopper), detail, took: Duration::ZERO });
            return;
        }
        let (outcome, detail) = match judge(self) {
            Ok(detail) if step == Step::Resolver && self.seen.resolver.seen == ResolverAnswer::NotAsked => {
                (Outcome::NotNeeded, detail)
            }
            Ok(detail) => (Outcome::Passed, detail),
            Err(failed) => {
                let (detail, fault) = *failed;
                let outcome = if fault.severity == Severity::Error { Outcome::Failed } else { Outcome::Warned };
                self.findings.push(Finding {
                    code: fault.code,
                    severity: fault.severity,
                    name: self.seen.name.clone(),
                    cause: fault.cause,
                    evidence: fault.evidence,
                    remedy: fault.remedy,
                });
                (outcome, detail)
            }
        };
        self.steps.push(StepReport { step, outcome, detail, took });
    }
}

fn took<T>(timed: Option<&Timed<T>>) -> Option<Duration> {
    timed.map(|timed| timed.took)
}
