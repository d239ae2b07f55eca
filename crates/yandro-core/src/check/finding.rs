//! Findings: what a check found wrong, with its cause and the command that fixes it. They are data; `words` says them.

use core::net::IpAddr;

use camino::Utf8PathBuf;

use super::circumstances::LogLine;
use super::codes::{Cause, Code, Severity};
use super::remedy::Remedy;
use super::step::CheckStep;
use crate::config::Place;
use crate::name::HostName;
use crate::site::ServerId;

/// Evidence of a problem.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Evidence {
    /// The words of the system, of a library, of a server or of a file.
    Words(String),
    /// A place in a file.
    At(Place),
    /// An entry of a log.
    Log(LogLine),
    /// A line of the hosts file that counts, and one below it that therefore doesn't.
    Shadow(Place, Place),
    /// Neither a cache nor the order of sources explains an answer.
    Unexplained,
    /// The system's message for a connection to a port.
    OnPort(u16, String),
    /// A line that names other servers for all names.
    OtherServers(Place),
    /// systemd-resolved asks no server while no network is up, not even one on this machine.
    Offline,
    /// The addresses of the network that this machine has.
    Addresses(Vec<IpAddr>),
    /// The issuer of the served certificate.
    Issuer(String),
    /// The names in the certificate that is served.
    Names(Vec<String>),
    /// The site's virtual host for HTTPS is not the one that answers.
    VirtualHostSilent,
    /// The header field `Server` of an answer (RFC 9110 section 10.2.4).
    ServerField(String),
    /// The target of a redirect.
    LeadsTo {
        /// The path that was asked for, if that matters.
        from: Option<&'static str>,
        /// Its `Location`.
        to: String,
    },
    /// The names or paths that redirects lead through.
    Way(Vec<String>),
    /// The address that a page gives as its own.
    OwnAddress(String),
    /// The status by which a request for the proof file was answered though the server may not have read it.
    ProofForbidden,
    /// Another status by which a request for the proof file was answered.
    ProofStatus(u16),
    /// The proof file came back with other content.
    ProofChanged,
    /// The mode of a file or folder.
    Mode(u32),
    /// The status of an upstream when it is asked under the site's name.
    RefusedUnderName(u16),
    /// The server that has a port, and its virtual hosts there.
    Holder(ServerId, Vec<String>),
    /// The link that isn't there.
    NoLink(Utf8PathBuf),
    /// The file from which on something was looked for.
    LookedFrom(Utf8PathBuf),
    /// The first virtual host of an address, which has TLS off for all of them.
    PlainFirst(Place),
    /// How many connections wait to be taken.
    Waiting(usize),
    /// The first rule of the project's own.
    FirstRule(Place),
    /// The same, where a rule has to let requests for the proof pass.
    ProofRule(Place),
}

/// A problem with its cause and fix, independent of step and name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnosis {
    /// What is wrong, from which message, code and fix follow.
    pub cause: Cause,
    /// What was seen that shows it.
    pub evidence: Vec<Evidence>,
    /// The commands that fix it, the best first; the others are other ways.
    pub remedies: Vec<Remedy>,
    /// The server, if only its files say so until now: a warning before the reload, an error after it.
    pub foretold_for: Option<ServerId>,
}

impl Diagnosis {
    pub(super) fn new(cause: Cause) -> Self {
        Self { cause, evidence: Vec::new(), remedies: Vec::new(), foretold_for: None }
    }

    pub(super) fn seen(mut self, evidence: Evidence) -> Self {
        self.evidence.push(evidence);
        self
    }

    /// With a way to fix it; the first one is the best.
    pub(super) fn fix(mut self, remedy: Remedy) -> Self {
        self.remedies.push(remedy);
        self
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        if self.foretold_for.is_some() { Severity::Warning } else { self.cause.code().severity() }
    }

    /// The status of the answer that it is about, where that is one.
    pub(super) fn status(&self) -> Option<u16> {
        let seen = self.evidence.iter().find_map(|seen| match seen {
            Evidence::ProofStatus(status) => Some(*status),
            _ => None,
        });
        self.cause.status().or(seen)
    }
}

/// The detail of a step that is well, or detail and diagnosis of one that is not.
pub(super) type Judged = Result<String, Box<(String, Diagnosis)>>;

pub(super) fn fail(detail: impl Into<String>, diagnosis: Diagnosis) -> Judged {
    Err(Box::new((detail.into(), diagnosis)))
}

/// A diagnosis of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The step that it was found at.
    pub step: CheckStep,
    /// The name that it is about.
    pub name: HostName,
    /// The problem and its fix.
    pub diagnosis: Diagnosis,
    /// The ports for HTTP and HTTPS that it was seen on, if those are not the site's first.
    pub further_ports: Option<[u16; 2]>,
    /// The only address of the name that it was seen at, if the name has several.
    pub only_at: Option<IpAddr>,
}

impl Finding {
    /// Its stable code.
    pub fn code(&self) -> Code {
        self.diagnosis.cause.code()
    }

    /// What is wrong, whatever step showed it.
    pub fn cause(&self) -> &Cause {
        &self.diagnosis.cause
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        self.diagnosis.severity()
    }

    /// Whether only the files say so until now.
    pub(super) fn is_foretold(&self) -> bool {
        self.diagnosis.foretold_for.is_some()
    }

    /// Whether it says the same as another one, of whichever name.
    pub fn is_same(&self, other: &Self) -> bool {
        self.diagnosis.cause == other.diagnosis.cause && self.diagnosis.foretold_for == other.diagnosis.foretold_for
    }
}
