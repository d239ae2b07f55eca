//! Probes: what resolver, ports and servers really answer for a site's names.
//!
//! Everything seen goes to the core as plain values; nothing is judged here.

mod http;
mod limit;
mod manner;
mod offers;
mod page;
mod proof;
mod resolve;
mod shown;
mod tls;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use yandro_core::{
    Answer, Authority, Content, Expected, Failure, FailureKind, HostName, HostPort, HostsAnswer, HostsFile, Https,
    NameObservation, Offers, OtherName, Page, Proof, REDIRECT_PROBE, ResolverAnswer, ServerId, Timed, Upstream,
};

use crate::machine::Machine;
use crate::permissions::{self, User};
use crate::servers::{self, Present};

pub use limit::Limit;
pub(crate) use manner::{Manner, OffersOf};
use offers::KnownOffers;
use page::{AskedPage, Pages};
use proof::ProofFile;
pub(crate) use proof::sweep_proofs;
pub use shown::NotShown;
pub(crate) use shown::shown;
use tls::TLS_1_3;

/// How many sites are probed at once.
const AT_ONCE: usize = 64;
/// How many of them that have the same upstream: a development server may do one thing at a time.
const AT_ONE_UPSTREAM: usize = 4;
/// How much of an answer is read, in bytes.
const BODY_LIMIT: usize = 1 << 20;

/// What all probes of one run share.
#[derive(Debug)]
pub(crate) struct Prober {
    hosts: Vec<u8>,
    trust: tls::TlsTrust,
    /// Whom the web servers run as; found out when it is wanted.
    users: Mutex<BTreeMap<ServerId, Option<User>>>,
    machine: Machine,
    present: Present,
    permits: Semaphore,
    upstreams: Mutex<BTreeMap<HostPort, Arc<Semaphore>>>,
    manner: Manner,
    offers: KnownOffers,
}

impl Prober {
    /// A prober of `machine` that reads names in `hosts` and trusts `authority` alone. Within a
    /// sysroot the resolver is not asked.
    pub(crate) fn new(
        machine: &Machine,
        present: &Present,
        hosts: Vec<u8>,
        authority: Option<&Authority>,
        manner: Manner,
    ) -> Arc<Self> {
        let trust = tls::TlsTrust::new(authority);
        Arc::new(Self {
            hosts,
            trust,
            users: Mutex::default(),
            machine: machine.clone(),
            present: present.clone(),
            permits: Semaphore::new(AT_ONCE),
            upstreams: Mutex::default(),
            manner,
            offers: KnownOffers::default(),
        })
    }

    /// Looks at every name of a site. `chain_on_disk` is the site's chain in PEM, if it has one.
    ///
    /// The proof file is gone when this returns and also when it is dropped on the way.
    pub(crate) async fn observe(
        self: &Arc<Self>,
        expected: Arc<Expected>,
        chain_on_disk: Option<Vec<u8>>,
    ) -> Vec<NameObservation> {
        let own = self.permits_of(&expected.site.content);
        let _own = match &own {
            Some(own) => Some(own.acquire().await.expect("the semaphore is never closed")),
            None => None,
        };
        let _permit = self.permits.acquire().await.expect("the semaphore is never closed");
        let evidence = ProofEvidence::prepare(&expected).await;
        let mut seen = Vec::new();
        for name in expected.site.names() {
            seen.push(Box::pin(self.observe_name(&expected, name, &evidence, chain_on_disk.as_deref())).await);
        }
        seen
    }

    /// The places at a site's upstream, if it has one.
    fn permits_of(&self, content: &Content) -> Option<Arc<Semaphore>> {
        let Content::Upstream(upstream) = content else { return None };
        let mut all = self.upstreams.lock().unwrap_or_else(PoisonError::into_inner);
        let own = all.entry(upstream.host_port().clone()).or_insert_with(|| Arc::new(Semaphore::new(AT_ONE_UPSTREAM)));
        Some(own.clone())
    }

    async fn observe_name(
        &self,
        expected: &Expected,
        name: &HostName,
        evidence: &ProofEvidence,
        chain_on_disk: Option<&[u8]>,
    ) -> NameObservation {
        let hosts = timed_now(|| self.hosts_answer(name));
        let resolver = resolve::ask(name, self.machine.is_real(), self.manner.within).await;
        let mut seen = NameObservation {
            name: name.clone(),
            hosts,
            resolver,
            connect: None,
            http: None,
            tls: None,
            https: None,
            offers: None,
            other_names: None,
            trail: None,
            page: Page::default(),
            silent: Vec::new(),
            proof: None,
        };
        let Some(first) = seen.resolver.seen.first(&seen.hosts.seen) else { return seen };
        let (address, silent) = self.answering(expected, first, &seen.resolver.seen).await;
        seen.silent = silent;
        let http = SocketAddr::new(address, expected.http_port);
        if !expected.site.https.is_on() {
            plain_alone(&mut seen, http, expected, evidence, self.manner.within).await;
            self.look_for_barrier(expected, &mut seen);
            return seen;
        }
        if expected.site.own_tls().is_some() {
            // It speaks TLS and nothing else.
            let (connect, secure) = tokio::join!(
                connected(SocketAddr::new(address, expected.https_port), self.manner.within),
                self.secure(name, expected, address, evidence, chain_on_disk)
            );
            seen.connect = connect;
            secure.into_seen(&mut seen);
            return seen;
        }
        let path = if expected.site.https == Https::Only { REDIRECT_PROBE } else { "/" };
        let (plain, secure) = tokio::join!(
            plain(name, http, path, self.manner.within),
            self.secure(name, expected, address, evidence, chain_on_disk)
        );
        (seen.connect, seen.http) = plain;
        secure.into_seen(&mut seen);
        self.look_for_barrier(expected, &mut seen);
        seen
    }

    /// Where the server says that it may not, the folder that stops it.
    fn look_for_barrier(&self, expected: &Expected, seen: &mut NameObservation) {
        let Some(proof) = seen.proof.as_mut().filter(|proof| matches!(proof.seen, Proof::Status(403 | 404))) else {
            return;
        };
        let user = {
            let mut users = self.users.lock().unwrap_or_else(PoisonError::into_inner);
            let found = || servers::user(&self.machine, self.present.get(expected.server)?);
            users.entry(expected.server).or_insert_with(found).clone()
        };
        if let (Some(user), Some(root)) = (user, expected.site.document_root())
            && let Some(barrier) = permissions::first_barrier(&root, &user)
        {
            proof.seen = Proof::Barred(barrier);
        }
    }

    fn hosts_answer(&self, name: &HostName) -> HostsAnswer {
        let file = HostsFile::parse(&self.hosts);
        let entries = file.entries_of(name);
        let lines = entries.iter().map(|entry| (entry.address, entry.line)).collect();
        let foreign = entries.iter().any(|entry| !entry.ours);
        HostsAnswer { lines, foreign }
    }

    /// The handshake, then the proof and the page over the same connection.
    async fn secure(
        &self,
        name: &HostName,
        expected: &Expected,
        address: IpAddr,
        evidence: &ProofEvidence,
        chain_on_disk: Option<&[u8]>,
    ) -> Secure {
        let (socket, within) = (SocketAddr::new(address, expected.https_port), self.manner.within);
        let started = Instant::now();
        let handshake = match within.connect(socket).await {
            Ok(stream) => self.trust.handshake(name, stream, chain_on_disk, within).await,
            Err(failure) => Err(failure),
        };
        let took = started.elapsed();
        let (connection, stream) = match handshake {
            Ok(done) => done,
            Err(failure) => {
                return Secure { tls: Timed { took, seen: Err(failure) }, pages: Pages::default(), more: None };
            }
        };
        let leaf = stream.get_ref().1.peer_certificates().and_then(<[_]>::first).cloned();
        let asked = offers::AskedOffers { name, socket, tls13: connection.version == TLS_1_3, leaf };
        let more = self.offers.of(asked, &self.trust, self.manner);
        let tls = Timed { took, seen: Ok(connection) };
        let session = match http::HttpSession::open(stream, within).await {
            Ok(session) => session,
            Err(failure) => {
                let pages = Pages { answer: Some(Timed { took, seen: Err(failure) }), ..Pages::default() };
                return Secure { tls, pages, more: more.await };
            }
        };
        let anew = || async {
            let stream = within.connect(socket).await?;
            let (_, stream) = self.trust.handshake(name, stream, None, within).await?;
            http::HttpSession::open(stream, within).await
        };
        let asked = AskedPage { name, site: &expected.site, scheme: "https", evidence, within };
        let pages = page::fetch(session, &asked, anew).await;
        Secure { tls, pages, more: more.await }
    }

    /// The address to ask, and those on which nothing listens though something does on this one:
    /// clients go from one to the next, too.
    async fn answering(&self, expected: &Expected, first: IpAddr, resolver: &ResolverAnswer) -> (IpAddr, Vec<IpAddr>) {
        let ResolverAnswer::Addresses(all) = resolver else { return (first, Vec::new()) };
        if all.len() < 2 {
            return (first, Vec::new());
        }
        let port = if expected.site.https.is_on() { expected.https_port } else { expected.http_port };
        let mut open = Vec::new();
        for address in all {
            open.push((*address, self.manner.within.connect(SocketAddr::new(*address, port)).await));
        }
        match open.iter().find(|(_, result)| result.is_ok()) {
            Some((answering, _)) => {
                let silent = open.iter().filter(|(_, result)| is_refused(result)).map(|(address, _)| *address);
                (*answering, silent.collect())
            }
            None => (first, Vec::new()),
        }
    }
}

fn is_refused(result: &Result<TcpStream, Failure>) -> bool {
    result.as_ref().is_err_and(|failure| failure.kind == FailureKind::Refused)
}

type Plain = (Option<Timed<Result<(), Failure>>>, Option<Timed<Result<Answer, Failure>>>);

/// What was seen over TLS.
struct Secure {
    tls: Timed<Result<yandro_core::Connection, Failure>>,
    pages: Pages,
    more: Option<(Timed<Offers>, Timed<OtherName>)>,
}

impl Secure {
    fn into_seen(self, seen: &mut NameObservation) {
        (seen.offers, seen.other_names) = self.more.unzip();
        seen.tls = Some(self.tls);
        (seen.https, seen.proof) = (self.pages.answer, self.pages.proof);
        (seen.trail, seen.page) = (self.pages.trail, self.pages.page);
    }
}

/// What is compared with the answers of a site's names.
enum ProofEvidence {
    /// A file under the document root; gone when dropped.
    File(ProofFile),
    /// The upstream itself is asked.
    Upstream(Upstream),
    /// There is no evidence to be had.
    None(Proof),
}

impl ProofEvidence {
    async fn prepare(expected: &Expected) -> Self {
        let root = match &expected.site.content {
            // That it holds the site's key was proven by the handshake.
            Content::Upstream(upstream) if upstream.is_secure() => return Self::None(Proof::Given),
            // What its address means there is not what it means here.
            Content::Upstream(_) if !expected.is_here && expected.server.is_configured() => {
                return Self::None(Proof::UpstreamUnseen);
            }
            Content::Upstream(upstream) => return Self::Upstream(upstream.clone()),
            Content::Folder { .. } => expected.site.document_root().expect("a folder has a document root"),
        };
        let put = tokio::task::spawn_blocking(move || ProofFile::put(&root)).await;
        match put.expect("writing the proof file does not panic") {
            Ok(file) => Self::File(file),
            Err(why) => Self::None(why),
        }
    }
}

/// Whether something takes connections.
async fn connected(address: SocketAddr, within: Limit) -> Option<Timed<Result<(), Failure>>> {
    let started = Instant::now();
    let seen = within.connect(address).await.map(|_| ());
    Some(Timed { took: started.elapsed(), seen })
}

async fn plain(name: &HostName, address: SocketAddr, path: &str, within: Limit) -> Plain {
    let started = Instant::now();
    let connected = within.connect(address).await;
    let took = started.elapsed();
    match connected {
        Err(failure) => (Some(Timed { took, seen: Err(failure) }), None),
        Ok(stream) => {
            let started = Instant::now();
            let answer = http::get_once(stream, name.as_str(), path, within).await;
            (Some(Timed { took, seen: Ok(()) }), Some(Timed { took: started.elapsed(), seen: answer }))
        }
    }
}

/// A site without HTTPS: page and proof over plain HTTP.
async fn plain_alone(
    seen: &mut NameObservation,
    address: SocketAddr,
    expected: &Expected,
    evidence: &ProofEvidence,
    within: Limit,
) {
    let started = Instant::now();
    let connected = within.connect(address).await;
    let took = started.elapsed();
    let stream = match connected {
        Ok(stream) => stream,
        Err(failure) => return seen.connect = Some(Timed { took, seen: Err(failure) }),
    };
    seen.connect = Some(Timed { took, seen: Ok(()) });
    let session = match http::HttpSession::open(stream, within).await {
        Ok(session) => session,
        Err(failure) => return seen.http = Some(Timed { took, seen: Err(failure) }),
    };
    let anew = || async { http::HttpSession::open(within.connect(address).await?, within).await };
    let name = seen.name.clone();
    let asked = AskedPage { name: &name, site: &expected.site, scheme: "http", evidence, within };
    let pages = page::fetch(session, &asked, anew).await;
    (seen.http, seen.proof) = (pages.answer, pages.proof);
    (seen.trail, seen.page) = (pages.trail, pages.page);
}

fn io_failure(error: &std::io::Error) -> Failure {
    let kind = match error.kind() {
        std::io::ErrorKind::ConnectionRefused => FailureKind::Refused,
        std::io::ErrorKind::TimedOut => FailureKind::TimedOut,
        std::io::ErrorKind::NetworkUnreachable | std::io::ErrorKind::HostUnreachable => FailureKind::NoWay,
        _ => FailureKind::Other,
    };
    Failure { kind, words: crate::files::words(error) }
}

fn timed_now<T>(see: impl FnOnce() -> T) -> Timed<T> {
    let started = Instant::now();
    let seen = see();
    Timed { took: started.elapsed(), seen }
}
