//! The verdict on each step of each name.

use std::time::Duration;

use super::circumstances::Beside;
use super::finding::{Finding, Severity};
use super::observation::{Expected, NameObservation, Proof, Timed};
use super::steps::Judged;
use crate::name::HostName;
use crate::site::{ServerId, Site};

/// The steps of a check, in the order in which a browser depends on them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// Whose the name can be (RFC 6761, and the public suffixes).
    Suffix,
    /// The hosts file's answer.
    Hosts,
    /// The system resolver's answer.
    Resolver,
    /// The address is this machine's, or the one that was declared.
    Address,
    /// TCP to the first port, and who listens on all of them.
    Connect,
    /// The virtual host that answers by the configuration on the disk.
    VirtualHost,
    /// The HTTP answer.
    Http,
    /// HTTP leads to the same place over HTTPS.
    Redirect,
    /// The TLS handshake.
    Tls,
    /// The versions of TLS and the protocols within it (RFC 7301) that are offered besides.
    Offers,
    /// What a client gets that asks for a name which is no site (RFC 6066 section 3).
    OtherNames,
    /// The chain leads to the authority.
    Chain,
    /// The name is covered.
    Name,
    /// The certificate's time.
    Validity,
    /// The certificate is the one on the disk.
    Disk,
    /// Each trust store of this machine trusts the authority.
    Stores,
    /// The HTTPS answer.
    Https,
    /// The application stays on the name: by its redirects and by what its page says of itself.
    Application,
    /// The answer comes from the site's own folder.
    Proof,
}

impl Step {
    /// Every one, in order.
    pub const ALL: [Self; 19] = [
        Self::Suffix,
        Self::Hosts,
        Self::Resolver,
        Self::Address,
        Self::Connect,
        Self::VirtualHost,
        Self::Http,
        Self::Redirect,
        Self::Tls,
        Self::Offers,
        Self::OtherNames,
        Self::Chain,
        Self::Name,
        Self::Validity,
        Self::Disk,
        Self::Stores,
        Self::Https,
        Self::Application,
        Self::Proof,
    ];

    /// The earlier steps without which there is nothing to see.
    fn needs(self, has_https: bool) -> &'static [Self] {
        use Step as S;
        match self {
            S::Suffix | S::Hosts | S::VirtualHost => &[],
            S::Resolver => &[S::Hosts],
            S::Address | S::Tls => &[S::Hosts, S::Resolver],
            S::Connect => &[S::Hosts, S::Resolver, S::Address],
            S::Http => &[S::Hosts, S::Resolver, S::Connect],
            S::Offers | S::OtherNames | S::Chain | S::Name | S::Validity | S::Disk => &[S::Hosts, S::Resolver, S::Tls],
            S::Stores => &[S::Hosts, S::Resolver, S::Tls, S::Chain],
            S::Https | S::Application | S::Proof if has_https => {
                &[S::Hosts, S::Resolver, S::Tls, S::Chain, S::Name, S::Validity]
            }
            S::Redirect | S::Https | S::Application | S::Proof => &[S::Hosts, S::Resolver, S::Connect, S::Http],
        }
    }

    /// Whether it is about TLS.
    pub(super) fn is_of_tls(self) -> bool {
        (Self::Tls..=Self::Https).contains(&self)
    }
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
    /// The parts that it is made of, where there are several: each trust store.
    pub parts: Vec<Part>,
}

/// A part of a step.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Part {
    /// What it is.
    pub title: String,
    /// Whether it is well.
    pub well: bool,
}

/// All steps of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameReport {
    /// The name.
    pub name: HostName,
    /// Its steps, all of [`Step::ALL`], in order.
    pub steps: Vec<StepReport>,
    /// Whether its answer is proven to come from the site's own folder or upstream: there are sites that are well
    /// and can't be proven, for their answers vary, or they ask for a password first.
    pub is_proven: bool,
    /// Whether a certificate is served that is not on the disk, and none for the site at all.
    pub is_anothers: bool,
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
            for finding in judge.findings {
                // Ports and aliases share causes: one finding for each cause is enough.
                if !findings.iter().any(|other: &Finding| (other.code, &other.cause) == (finding.code, &finding.cause))
                {
                    findings.push(finding);
                }
            }
            let mut own = NameReport { name: seen.name.clone(), steps: judge.steps, is_proven, is_anothers };
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

impl NameReport {
    /// How a step went.
    pub fn outcome(&self, step: Step) -> Outcome {
        self.steps.iter().find(|report| report.step == step).map_or(Outcome::NotNeeded, |report| report.outcome)
    }

    /// What was seen of a step, in a few words.
    pub fn detail(&self, step: Step) -> &str {
        self.steps.iter().find(|report| report.step == step).map_or("", |report| &report.detail)
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

    /// Whether each name is proven.
    pub fn is_proven(&self) -> bool {
        self.names.iter().all(|name| name.is_proven)
    }
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
                let (detail, fault) = *failed;
                let outcome = if fault.severity == Severity::Error { Outcome::Failed } else { Outcome::Warned };
                self.findings.push(Finding {
                    code: fault.code,
                    severity: fault.severity,
                    step,
                    name: self.seen.name.clone(),
                    cause: fault.cause,
                    evidence: fault.evidence,
                    remedy: fault.remedy,
                    otherwise: fault.otherwise,
                });
                (outcome, detail)
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
