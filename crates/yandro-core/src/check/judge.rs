//! The verdict on each step of each name.

use std::time::Duration;

use super::finding::{Code, Finding, Severity};
use super::observation::{
    Answer, Connection, Expected, Failure, FailureKind, NameObservation, Proof, ResolverAnswer, Timed, Verdict,
};
use crate::name::HostName;
use crate::pki::{RENEW_DAYS, date};
use crate::site::{Content, ServerKind, Site};

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
    pub server: ServerKind,
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
            findings.extend(judge.findings);
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
    /// Whether every step of every name is well.
    pub fn is_well(&self) -> bool {
        self.names.iter().all(NameReport::is_well)
    }
}

struct Judge<'a> {
    expected: &'a Expected,
    seen: &'a NameObservation,
    steps: Vec<StepReport>,
    findings: Vec<Finding>,
}

/// A finding before it is known which step of which name it belongs to.
struct Fault {
    code: Code,
    severity: Severity,
    cause: String,
    evidence: Option<String>,
    remedy: Option<String>,
}

impl Fault {
    fn error(code: Code, cause: impl Into<String>) -> Self {
        Self { code, severity: Severity::Error, cause: cause.into(), evidence: None, remedy: None }
    }

    fn warning(code: Code, cause: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, cause) }
    }

    fn seen(mut self, evidence: impl Into<String>) -> Self {
        self.evidence = Some(evidence.into());
        self
    }

    fn mend(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
}

impl Judge<'_> {
    fn run(&mut self) {
        let seen = self.seen;
        self.step(Step::Hosts, &[], Some(seen.hosts.took), |judge| judge.hosts());
        self.step(Step::Resolver, &[Step::Hosts], Some(seen.resolver.took), |judge| judge.resolver());
        let addressed = &[Step::Hosts, Step::Resolver];
        let took = took(seen.connect.as_ref());
        self.step(Step::Connect, addressed, took, |judge| judge.connect());
        self.step(Step::Http, &[Step::Hosts, Step::Resolver, Step::Connect], self::took(seen.http.as_ref()), |judge| {
            judge.http()
        });
        let took_tls = self::took(seen.tls.as_ref());
        self.step(Step::Tls, addressed, took_tls, |judge| judge.tls());
        let spoken = &[Step::Hosts, Step::Resolver, Step::Tls];
        self.step(Step::Chain, spoken, None, |judge| judge.chain());
        self.step(Step::Name, spoken, None, |judge| judge.name());
        self.step(Step::Validity, spoken, None, |judge| judge.validity());
        let trusted = &[Step::Hosts, Step::Resolver, Step::Tls, Step::Chain, Step::Name, Step::Validity];
        self.step(Step::Https, trusted, self::took(seen.https.as_ref()), |judge| judge.https());
        self.step(Step::Proof, trusted, self::took(seen.proof.as_ref()), |judge| judge.proof());
    }

    /// Judges a step unless one that it depends on has failed.
    fn step(
        &mut self,
        step: Step,
        needs: &[Step],
        took: Option<Duration>,
        judge: impl FnOnce(&Self) -> Result<String, Box<(String, Fault)>>,
    ) {
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

    fn map_again(&self) -> String {
        format!("yandro map {}", self.expected.site.name)
    }

    fn start_server(&self) -> String {
        match self.expected.server {
            ServerKind::Apache => self.map_again(),
            ServerKind::BuiltIn => "yandro serve".into(),
        }
    }

    fn hosts(&self) -> Judged {
        let (name, wanted) = (&self.seen.name, self.expected.site.address);
        let (file, lines) = (&self.expected.hosts_file, &self.seen.hosts.seen.lines);
        let Some((address, line)) = lines.first() else {
            return fail(
                "missing",
                Fault::error(Code::HostsMissing, format!("no line of {file} names `{name}`")).mend(self.map_again()),
            );
        };
        let other = lines.iter().find(|(other, _)| *other != wanted && other.is_ipv4() == wanted.is_ipv4());
        if let Some((other, line)) = other {
            let fault = Fault::error(
                Code::HostsElsewhere,
                format!("the hosts file points `{name}` to {other}, and the site is at {wanted}"),
            )
            .seen(format!("{file}:{line}"));
            let fault = if self.seen.hosts.seen.foreign {
                fault.mend(format!("edit line {line} of {file}, then {}", self.map_again()))
            } else {
                fault.mend(self.map_again())
            };
            return fail(other.to_string(), fault);
        }
        Ok(format!("{address} (line {line})"))
    }

    fn resolver(&self) -> Judged {
        let name = &self.seen.name;
        match &self.seen.resolver.seen {
            ResolverAnswer::NotAsked => Ok("not asked in a sysroot".into()),
            ResolverAnswer::Addresses(addresses) if addresses.contains(&self.expected.site.address) => {
                Ok(addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))
            }
            ResolverAnswer::Addresses(addresses) => {
                let seen = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                let cause = format!(
                    "the system resolves `{name}` to {seen}, though the hosts file says {}",
                    self.expected.site.address
                );
                fail(
                    seen.clone(),
                    Fault::error(Code::ResolverDiffers, cause)
                        .seen("an old answer is still cached, or /etc/nsswitch.conf asks DNS before `files`"),
                )
            }
            ResolverAnswer::Failed(words) => {
                let cause = format!("the system finds no address for `{name}`, though the hosts file has one");
                fail(
                    "no address",
                    Fault::error(Code::ResolverFails, cause)
                        .seen(format!("{words}; see the `hosts:` line of /etc/nsswitch.conf")),
                )
            }
        }
    }

    fn unconnected(&self, failure: &Failure, port: u16) -> Judged {
        let address = self.seen.resolver.seen.first(&self.seen.hosts.seen).unwrap_or(self.expected.site.address);
        let server = self.expected.server;
        match failure.kind {
            FailureKind::Refused => {
                let cause = format!(
                    "nothing listens on port {port} of {address}: the {server} isn't running, or listens elsewhere"
                );
                fail("refused", Fault::error(Code::PortClosed, cause).mend(self.start_server()))
            }
            _ => {
                let cause = format!("{address} doesn't answer on port {port}");
                fail("no answer", Fault::error(Code::Unreachable, cause).seen(failure.words.clone()))
            }
        }
    }

    fn connect(&self) -> Judged {
        match seen(self.seen.connect.as_ref()) {
            Some(Err(failure)) => self.unconnected(failure, self.expected.http_port),
            _ => Ok(format!("port {}", self.expected.http_port)),
        }
    }

    fn http(&self) -> Judged {
        let name = &self.seen.name;
        let answer = match seen(self.seen.http.as_ref()) {
            Some(Ok(answer)) => answer,
            Some(Err(failure)) => {
                let cause = format!("`http://{name}/` gives no proper answer");
                return fail("no answer", Fault::error(Code::HttpFails, cause).seen(failure.words.clone()));
            }
            None => return Ok(String::new()),
        };
        let Some(location) = answer.location.as_ref().filter(|_| (300..400).contains(&answer.status)) else {
            let cause = format!(
                "`http://{name}/` answers {} and doesn't lead to HTTPS: another virtual host answers, or its redirect is gone",
                answer.status
            );
            return fail(
                answer.status.to_string(),
                Fault::warning(Code::RedirectMissing, cause).mend(self.map_again()),
            );
        };
        let host =
            location.strip_prefix("https://").map(|rest| rest.split(['/', '?', '#', ':']).next().unwrap_or_default());
        if host.is_some_and(|host| self.expected.site.names().any(|own| host.eq_ignore_ascii_case(own.as_str()))) {
            return Ok(format!("{} to https", answer.status));
        }
        let cause = format!("`http://{name}/` leads to `{location}`, which is not this site over HTTPS");
        fail(
            format!("{} elsewhere", answer.status),
            Fault::warning(Code::RedirectElsewhere, cause).mend(self.map_again()),
        )
    }

    fn tls(&self) -> Judged {
        match seen(self.seen.tls.as_ref()) {
            Some(Ok(connection)) => Ok(connection.version.clone()),
            Some(Err(failure)) if matches!(failure.kind, FailureKind::Refused | FailureKind::TimedOut) => {
                self.unconnected(failure, self.expected.https_port)
            }
            Some(Err(failure)) if failure.kind == FailureKind::PlainHttp => {
                let cause = format!("plain HTTP is spoken on port {}, where TLS is expected", self.expected.https_port);
                fail("plain HTTP", Fault::error(Code::TlsPlain, cause).mend(self.map_again()))
            }
            Some(Err(failure)) => {
                let cause = format!(
                    "the TLS handshake for `{}` fails: the server has no certificate for this name, or TLS is off",
                    self.seen.name
                );
                fail(
                    "no handshake",
                    Fault::error(Code::TlsFails, cause).seen(failure.words.clone()).mend(self.start_server()),
                )
            }
            None => Ok(String::new()),
        }
    }

    fn connection(&self) -> Option<&Connection> {
        seen(self.seen.tls.as_ref()).and_then(|result| result.as_ref().ok())
    }

    fn chain(&self) -> Judged {
        let Some(connection) = self.connection() else { return Ok(String::new()) };
        let name = &self.seen.name;
        let issuer = connection.chain.leaf.as_ref().map(|leaf| format!("issued by {}", leaf.issuer));
        let mut fault = match &connection.chain.verdict {
            Verdict::Trusted | Verdict::Name | Verdict::Time if connection.chain.is_on_disk => {
                return Ok("to the authority".into());
            }
            Verdict::Trusted | Verdict::Name | Verdict::Time => {
                let fault = Fault::warning(
                    Code::CertificateOld,
                    format!(
                        "the server sends another certificate for `{name}` than the one on disk: it was not reloaded since"
                    ),
                );
                return fail("not as on disk", fault.mend(self.start_server()));
            }
            Verdict::UnknownIssuer => Fault::error(
                Code::CertificateUnknown,
                format!("the certificate served for `{name}` was not issued by the local authority"),
            ),
            Verdict::NoAuthority => Fault::error(Code::AuthorityMissing, "there is no local authority on this machine"),
            Verdict::Constraints => Fault::error(
                Code::CertificateConstraints,
                format!("the local authority may not vouch for `{name}`, and clients refuse its certificate"),
            ),
            Verdict::Other(words) => {
                Fault::error(Code::CertificateUnknown, format!("the certificate served for `{name}` is refused"))
                    .seen(words.clone())
            }
        };
        fault.evidence = fault.evidence.or(issuer);
        fail("untrusted", fault.mend(self.map_again()))
    }

    fn name(&self) -> Judged {
        let leaf = self.connection().and_then(|connection| connection.chain.leaf.as_ref());
        match leaf {
            Some(leaf) if !leaf.covers(&self.seen.name) => {
                let cause = format!("the certificate does not name `{}`", self.seen.name);
                let names = if leaf.names.is_empty() { "none".to_owned() } else { leaf.names.join(", ") };
                fail(
                    "other names",
                    Fault::error(Code::CertificateName, cause).seen(format!("it names {names}")).mend(self.map_again()),
                )
            }
            _ => Ok("covered".into()),
        }
    }

    fn validity(&self) -> Judged {
        let Some(leaf) = self.connection().and_then(|connection| connection.chain.leaf.as_ref()) else {
            return Ok(String::new());
        };
        let days = leaf.days_left(self.expected.now);
        let (start, end) = (date(leaf.not_before), date(leaf.not_after));
        if leaf.not_before > self.expected.now {
            let cause = format!(
                "the certificate of `{}` is valid from {start} on, which is to come: is the clock right?",
                self.seen.name
            );
            return fail("not yet", Fault::error(Code::CertificateExpired, cause).mend(self.map_again()));
        }
        if days < 0 {
            let cause = format!("the certificate of `{}` ended on {end}", self.seen.name);
            return fail("ended", Fault::error(Code::CertificateExpired, cause).mend(self.map_again()));
        }
        if days <= RENEW_DAYS {
            let cause = format!("the certificate of `{}` ends on {end}, in {days} days", self.seen.name);
            return fail(format!("{days} days"), Fault::warning(Code::CertificateEnds, cause).mend(self.map_again()));
        }
        Ok(format!("{days} days"))
    }

    fn https(&self) -> Judged {
        let name = &self.seen.name;
        let answer: &Answer = match seen(self.seen.https.as_ref()) {
            Some(Ok(answer)) => answer,
            Some(Err(failure)) => {
                let cause = format!("`https://{name}/` gives no proper answer");
                return fail("no answer", Fault::error(Code::HttpsFails, cause).seen(failure.words.clone()));
            }
            None => return Ok(String::new()),
        };
        let served_by = answer.server.as_ref().map(|server| format!("answered by `{server}`"));
        let is_folder = matches!(self.expected.site.content, Content::Folder { .. });
        let cause = match answer.status {
            500.. => {
                format!("`https://{name}/` answers {}: a fault within the server or the application", answer.status)
            }
            403 if is_folder => format!(
                "`https://{name}/` answers 403: the server may not read the folder, or there is no index page and no listing"
            ),
            404 if is_folder => format!("`https://{name}/` answers 404: the document root has no index page"),
            _ => return Ok(answer.status.to_string()),
        };
        let mut fault = Fault::warning(Code::HttpsStatus, cause);
        fault.evidence = served_by;
        fail(answer.status.to_string(), fault)
    }

    fn proof(&self) -> Judged {
        let name = &self.seen.name;
        let content = &self.expected.site.content;
        let Some(timed) = &self.seen.proof else { return Ok(String::new()) };
        match &timed.seen {
            Proof::Given => Ok("proven".into()),
            Proof::UpstreamVaries => Ok("answers vary".into()),
            Proof::FolderMissing => {
                let fault = Fault::error(Code::FolderMissing, format!("the folder of `{name}` is gone: {content}"));
                fail("no folder", fault.mend(format!("yandro map {} FOLDER", self.expected.site.name)))
            }
            Proof::NotWritten(words) => {
                let cause = format!("the proof file could not be written below {content}");
                fail("not written", Fault::warning(Code::ProofNotWritten, cause).seen(words.clone()))
            }
            Proof::Status(403) => {
                let cause = format!("the server may not read {content}, or a rule there forbids it");
                let fault = Fault::error(Code::FolderForbidden, cause).seen("the proof file was answered with 403");
                fail("forbidden", fault.mend(format!("namei -l {content}")))
            }
            Proof::Status(status) => {
                let cause = format!("`{name}` is answered, but not from {content}");
                let fault = Fault::error(Code::AnsweredElsewhere, cause)
                    .seen(format!("a file put there a moment ago was answered with {status}"));
                fail("elsewhere", fault.mend(self.map_again()))
            }
            Proof::OtherContent if matches!(content, Content::Upstream(_)) => {
                let cause = format!("what `{name}` answers is not what {content} answers");
                fail("differs", Fault::error(Code::UpstreamDiffers, cause).mend(self.map_again()))
            }
            Proof::OtherContent => {
                let cause = format!("`{name}` is answered, but not from {content}");
                let fault = Fault::error(Code::AnsweredElsewhere, cause)
                    .seen("a file put there a moment ago came back with other content");
                fail("elsewhere", fault.mend(self.map_again()))
            }
            Proof::UpstreamDown(words) => {
                let cause = format!("the upstream of `{name}` doesn't answer: {content}");
                fail("upstream down", Fault::error(Code::UpstreamDown, cause).seen(words.clone()))
            }
            Proof::Failed(words) => {
                let cause = format!("the request for the proof of `{name}` failed");
                fail("no answer", Fault::error(Code::HttpsFails, cause).seen(words.clone()))
            }
        }
    }
}

type Judged = Result<String, Box<(String, Fault)>>;

fn fail(detail: impl Into<String>, fault: Fault) -> Judged {
    Err(Box::new((detail.into(), fault)))
}

fn took<T>(timed: Option<&Timed<T>>) -> Option<Duration> {
    timed.map(|timed| timed.took)
}

fn seen<T>(timed: Option<&Timed<T>>) -> Option<&T> {
    timed.map(|timed| &timed.seen)
}
