//! The observations of the probes, as plain values.

use std::collections::BTreeSet;
use std::sync::Arc;

use core::net::IpAddr;
use std::time::Duration;

use camino::Utf8PathBuf;
use time::OffsetDateTime;

use super::cause::{HostsFault, UpstreamFault};
use super::page::Page;
use super::setup::{ResolverSetup, TenantsSetup};
use crate::name::HostName;
use crate::pki::CertificateFacts;
use crate::site::{ServerId, Site};

/// The expected state of a site.
#[derive(Clone, Debug)]
pub struct Expected {
    /// As the site list has it.
    pub site: Site,
    /// The server that should answer.
    pub server: ServerId,
    /// Whether that is on this machine.
    pub is_here: bool,
    /// Whether the server runs elsewhere, such as in a container, and the user has named a command that starts it.
    pub is_startable: bool,
    /// Where plain HTTP is expected.
    pub http_port: u16,
    /// Where TLS is expected.
    pub https_port: u16,
    /// The hosts file, for messages.
    pub hosts_file: Utf8PathBuf,
    /// Its fault, if resolvers read no line of it.
    pub hosts_fault: Option<HostsFault>,
    /// The parts between the hosts file and the resolver's answer.
    pub resolver: ResolverSetup,
    /// How names below the site are resolved, if it has tenants.
    pub tenants: Option<TenantsSetup>,
    /// When it was looked; validity of certificates is judged by it.
    pub now: OffsetDateTime,
    /// Settings of this machine that keep some program from the site.
    pub settings: Vec<Setting>,
    /// From when on the authority is valid, if there is one.
    pub authority_since: Option<OffsetDateTime>,
    /// The names of all listed sites: a login may be at another one.
    pub listed: Arc<BTreeSet<HostName>>,
}

impl Expected {
    /// The names that are asked for: the site's own, and a made-up one below it if it has tenants.
    pub fn asked_names(&self) -> impl Iterator<Item = &HostName> {
        self.site.names().chain(self.tenants.as_ref().map(|tenants| &tenants.name))
    }

    /// The way of names below the site, if this is one.
    pub(super) fn tenant(&self, name: &HostName) -> Option<&TenantsSetup> {
        self.tenants.as_ref().filter(|tenants| tenants.name == *name)
    }

    /// The ports on which the site answers with its pages: over HTTPS if it has that.
    pub fn page_ports(&self) -> Vec<u16> {
        let is_secure = self.site.https.is_on();
        let first = if is_secure { self.https_port } else { self.http_port };
        let all = if is_secure { self.site.https_ports(first) } else { self.site.http_ports(first) };
        std::iter::once(first).chain(all).collect()
    }
}

/// A setting of this machine that keeps some program from a site's name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Setting {
    /// Variables of the environment that name a proxy: `https_proxy=http://10.0.0.1:3128`, and what
    /// is excepted from it (`no_proxy`).
    Proxy {
        /// The variable and its value, without a password.
        variable: String,
        /// The names that are excepted.
        excepted: Vec<String>,
    },
    /// A browser that asks a proxy for pages, and what is excepted from it.
    BrowserProxy {
        /// The browser and its profile.
        title: String,
        /// The setting, with its file and line.
        setting: String,
        /// The names that are excepted.
        excepted: Vec<String>,
        /// The command that excepts a name.
        fix: NameCommand,
    },
    /// A browser's profile that resolves names without the hosts file.
    NamesElsewhere {
        /// The browser and its profile.
        title: String,
        /// The setting, with its file and line.
        setting: String,
        /// The command that changes it.
        fix: String,
    },
}

/// A command that is about a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NameCommand {
    /// The value is between these two parts.
    Around(String, String),
    /// The same for every name: an editor, in which the user adds it.
    Editor(String),
}

impl NameCommand {
    /// The command for a name.
    pub fn for_name(&self, name: &HostName) -> String {
        match self {
            Self::Around(before, after) => format!("{before}{name}{after}"),
            Self::Editor(command) => command.clone(),
        }
    }
}

impl Expected {
    /// The port that is connected to first: that for HTTP, where there is one.
    pub fn first_port(&self) -> u16 {
        self.site.own_tls().unwrap_or(self.http_port)
    }
}

/// Something and how long it took to see it.
#[derive(Clone, Debug)]
pub struct Timed<T> {
    /// How long it took.
    pub took: Duration,
    /// The observation.
    pub seen: T,
}

/// Why something could not be had.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// Kind of failure.
    pub kind: FailureKind,
    /// The words of the system or of the library, for evidence.
    pub words: String,
}

/// Kinds of failure that have different causes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FailureKind {
    /// Nothing listens there.
    Refused,
    /// No answer in time.
    TimedOut,
    /// No way leads there.
    NoWay,
    /// The other side speaks plain HTTP where TLS was expected.
    PlainHttp,
    /// The other side speaks no version of TLS that clients take.
    TlsVersion,
    /// Anything else.
    Other,
}

/// The hosts file's entries for a name: each address with its line.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostsAnswer {
    /// Addresses in the order in which the system gives them, with line numbers from 1.
    pub lines: Vec<(IpAddr, usize)>,
    /// A proper line beyond yandro's block, if one answers first.
    pub foreign: bool,
}

/// The answer of the system's resolver for a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ResolverAnswer {
    /// Not asked: within a sysroot only its hosts file counts.
    NotAsked,
    /// Its addresses, in its order.
    Addresses(Vec<IpAddr>),
    /// It knows none, in its own words.
    Failed(String),
}

/// An HTTP answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// As of RFC 9110, such as 200.
    pub status: u16,
    /// `Location`, if there is one.
    pub location: Option<String>,
    /// `Server`, if there is one.
    pub server: Option<String>,
    /// Whether it says when to come back (`Retry-After`, RFC 9110 section 10.2.3).
    pub is_for_later: bool,
}

impl Answer {
    /// Whether the server puts the request off. That is not a fault of the site.
    pub fn is_put_off(&self) -> bool {
        self.status == 429 || self.status == 503 && self.is_for_later
    }

    /// The target of a redirect (RFC 9110 section 15.4); `None` for every other answer.
    pub fn redirect(&self) -> Option<&String> {
        if (300..400).contains(&self.status) { self.location.as_ref() } else { None }
    }
}

/// The end of the redirects of a site's first page.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trail {
    /// To a page of the site, in so many steps.
    Ends(usize),
    /// To a path of another of the site's names, in so many steps.
    LeadsTo(HostName, String, usize),
    /// To another host, or out of HTTPS: there.
    Leaves(String),
    /// In a circle, or on and on: the addresses on the way.
    Loops(Vec<String>),
}

/// The verdict of an independent validator on a chain, with the authority's root as the only anchor.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// All is well.
    Trusted,
    /// The chain is right but the name is not covered.
    Name,
    /// The chain is right but its time is not now.
    Time,
    /// The chain doesn't lead to the authority.
    UnknownIssuer,
    /// The authority can't issue for the name.
    Constraints,
    /// No authority exists.
    NoAuthority,
    /// Anything else, in the validator's words.
    Other(String),
}

/// The server's further offers within TLS.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Offers {
    /// Whether it speaks TLS 1.2 (RFC 5246).
    pub tls12: bool,
    /// Whether it speaks TLS 1.3 (RFC 8446).
    pub tls13: bool,
    /// The protocol that it chooses from `h2` and `http/1.1` (RFC 7301); `None` if it doesn't choose.
    pub protocol: Option<String>,
}

/// The answer to a client that asks for an unknown host name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OtherName {
    /// No handshake.
    Refused,
    /// The site's own certificate: its virtual host is the default one.
    Own,
    /// Another certificate, for these names.
    Certificate(Vec<String>),
}

/// The certificates that a server sent.
#[derive(Clone, Debug)]
pub struct Chain {
    /// The leaf's content; `None` if it can't be read.
    pub leaf: Option<CertificateFacts>,
    /// Whether the leaf is the one on disk.
    pub is_on_disk: bool,
    /// The validator's verdict.
    pub verdict: Verdict,
}

/// A TLS connection.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The protocol's version, such as `TLS 1.3`.
    pub version: String,
    /// The certificates that the server sent.
    pub chain: Chain,
}

/// A folder that stops the server's user.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Barrier {
    /// The first on the way that may not be entered, or the document root that may not be read.
    pub folder: Utf8PathBuf,
    /// The server's user.
    pub user: String,
    /// The folder's mode.
    pub mode: u32,
    /// The smallest change that lets them through, as a command.
    pub fix: String,
}

/// Evidence that a name is answered from its own folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Proof {
    /// The nonce file, put under the document root, came back over HTTPS; or the
    /// upstream's own answer did.
    Given,
    /// The folder isn't there.
    FolderMissing,
    /// The nonce file could not be put there.
    NotWritten(String),
    /// Another answer came: its status.
    Status(u16),
    /// A redirect to another of the site's names came, to the same path there.
    LeadsTo(HostName),
    /// The site asks for a user and a password first (RFC 9110 section 15.5.2).
    Guarded,
    /// The server puts the request off, with this status: it says when to come back, or that there were too many
    /// (RFC 6585 section 4).
    PutOff(u16),
    /// The server's user may not get at the folder.
    Barred(Barrier),
    /// The status was 200, but the content was another.
    OtherContent,
    /// The upstream does not answer.
    UpstreamDown(String),
    /// The upstream is there and can't be used as it is.
    UpstreamFails(UpstreamFault, String),
    /// The upstream answers under its own address, and refuses requests under the site's name with
    /// this status.
    UpstreamRefuses(u16),
    /// The upstream's answers differ from one request to the next, so none proves anything.
    UpstreamVaries,
    /// The upstream is one that its server sees, and this machine may not.
    UpstreamUnseen,
    /// The request failed.
    Failed(String),
}

/// All that was seen of one name. `None` where a step it depends on failed.
#[derive(Clone, Debug)]
pub struct NameObservation {
    /// The site's own name or an alias.
    pub name: HostName,
    /// The hosts file's entries.
    pub hosts: Timed<HostsAnswer>,
    /// What the system's resolver gives to programs.
    pub resolver: Timed<ResolverAnswer>,
    /// TCP to the HTTP port.
    pub connect: Option<Timed<Result<(), Failure>>>,
    /// The answer to `GET /` over HTTP.
    pub http: Option<Timed<Result<Answer, Failure>>>,
    /// The TLS handshake on the HTTPS port.
    pub tls: Option<Timed<Result<Connection, Failure>>>,
    /// The answer to `GET /` over HTTPS.
    pub https: Option<Timed<Result<Answer, Failure>>>,
    /// Further offers within TLS; `None` also if nobody asked.
    pub offers: Option<Timed<Offers>>,
    /// The answer to an unknown host name; `None` also if nobody asked.
    pub other_names: Option<Timed<OtherName>>,
    /// The end of that page's redirects, if it redirects.
    pub trail: Option<Timed<Trail>>,
    /// Addresses that the page gives as its own.
    pub page: Page,
    /// Addresses of the name on which nothing answers, where on another one something does.
    pub silent: Vec<IpAddr>,
    /// The address that was asked; `None` if the name has none.
    pub asked: Option<IpAddr>,
    /// The same of the name's other addresses on which something answers.
    pub further: Vec<NameObservation>,
    /// Whether the site's folder answers; `None` if it was not reached.
    pub proof: Option<Timed<Proof>>,
}

impl ResolverAnswer {
    /// The address that a browser would go to, the hosts file's if the resolver was not asked.
    pub fn first(&self, hosts: &HostsAnswer) -> Option<IpAddr> {
        match self {
            Self::NotAsked => hosts.lines.first().map(|(address, _)| *address),
            Self::Addresses(addresses) => addresses.first().copied(),
            Self::Failed(_) => None,
        }
    }
}
