//! Probes: what resolver, ports and servers really answer for a site's names.
//!
//! Everything seen goes to the core as plain values; nothing is judged here.

mod http;
mod proof;
mod resolve;
mod tls;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rustls::pki_types::CertificateDer;
use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use yandro_core::check::{Answer, Expected, Failure, FailureKind, HostsAnswer, NameObservation, Proof, Timed};
use yandro_core::hosts::HostsFile;
use yandro_core::name::HostName;
use yandro_core::pki::Authority;
use yandro_core::site::{Content, ServerId, Upstream};

use crate::machine::Machine;
use crate::permissions::{self, User};
use crate::servers;

use http::Fetched;
use proof::ProofFile;

/// How long a probe waits for any one answer.
pub const TIMEOUT: Duration = Duration::from_secs(5);
/// How many names are probed at once.
const AT_ONCE: usize = 64;
/// How much of an answer is read, in bytes.
const BODY_LIMIT: usize = 1 << 20;

/// What all probes of one run share.
#[derive(Debug)]
pub struct Prober {
    hosts: Vec<u8>,
    trust: tls::Trust,
    /// Whom the web servers run as; found out when it is wanted.
    users: Mutex<BTreeMap<ServerId, Option<User>>>,
    machine: Machine,
    permits: Semaphore,
}

impl Prober {
    /// A prober of `machine` that reads names in `hosts` and trusts `authority` alone. Within a
    /// sysroot the resolver is not asked.
    pub fn new(machine: &Machine, hosts: Vec<u8>, authority: Option<&Authority>) -> Arc<Self> {
        let trust = tls::Trust::new(authority);
        Arc::new(Self {
            hosts,
            trust,
            users: Mutex::default(),
            machine: machine.clone(),
            permits: Semaphore::new(AT_ONCE),
        })
    }

    /// Looks at every name of a site. `chain_on_disk` is the site's chain in PEM, if it has one.
    ///
    /// The proof file is gone when this returns and also when it is dropped on the way.
    pub async fn observe(
        self: &Arc<Self>,
        expected: Arc<Expected>,
        chain_on_disk: Option<Vec<u8>>,
    ) -> Vec<NameObservation> {
        let _permit = self.permits.acquire().await.expect("the semaphore is never closed");
        let evidence = Evidence::prepare(&expected).await;
        let mut seen = Vec::new();
        for name in expected.site.names() {
            seen.push(self.observe_name(&expected, name, &evidence, chain_on_disk.as_deref()).await);
        }
        seen
    }

    async fn observe_name(
        &self,
        expected: &Expected,
        name: &HostName,
        evidence: &Evidence,
        chain_on_disk: Option<&[u8]>,
    ) -> NameObservation {
        let hosts = timed_now(|| self.hosts_answer(name));
        let resolver = resolve::ask(name, self.machine.is_real()).await;
        let mut seen = NameObservation {
            name: name.clone(),
            hosts,
            resolver,
            connect: None,
            http: None,
            tls: None,
            https: None,
            proof: None,
        };
        let Some(address) = seen.resolver.seen.first(&seen.hosts.seen) else { return seen };
        let http = SocketAddr::new(address, expected.http_port);
        if !expected.site.https.is_on() {
            (seen.connect, seen.http, seen.proof) = plain_alone(name, http, evidence).await;
            self.look_for_barrier(expected, &mut seen);
            return seen;
        }
        if expected.site.own_tls().is_some() {
            // It speaks TLS and nothing else.
            (seen.connect, (seen.tls, seen.https, seen.proof)) = tokio::join!(
                connected(SocketAddr::new(address, expected.https_port)),
                self.secure(name, expected, address, evidence, chain_on_disk)
            );
            return seen;
        }
        let (plain, secure) =
            tokio::join!(plain(name, http), self.secure(name, expected, address, evidence, chain_on_disk));
        (seen.connect, seen.http) = plain;
        (seen.tls, seen.https, seen.proof) = secure;
        self.look_for_barrier(expected, &mut seen);
        seen
    }

    /// Where the server says that it may not, the folder that stops it.
    fn look_for_barrier(&self, expected: &Expected, seen: &mut NameObservation) {
        let Some(proof) = seen.proof.as_mut().filter(|proof| proof.seen == Proof::Status(403)) else { return };
        let user = {
            let mut users = self.users.lock().unwrap_or_else(PoisonError::into_inner);
            let found = || servers::user(&self.machine, &servers::find(&self.machine, expected.server)?);
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
        evidence: &Evidence,
        chain_on_disk: Option<&[u8]>,
    ) -> Secure {
        let started = Instant::now();
        let handshake = match connect(SocketAddr::new(address, expected.https_port)).await {
            Ok(stream) => self.trust.handshake(name, stream, chain_on_disk).await,
            Err(failure) => Err(failure),
        };
        let took = started.elapsed();
        let (connection, stream) = match handshake {
            Ok(done) => done,
            Err(failure) => return (Some(Timed { took, seen: Err(failure) }), None, None),
        };
        let tls = Some(Timed { took, seen: Ok(connection) });
        let session = match http::Session::open(stream).await {
            Ok(session) => session,
            Err(failure) => return (tls, Some(Timed { took, seen: Err(failure) }), None),
        };
        let anew = self.page_anew(name, SocketAddr::new(address, expected.https_port));
        let (page, proof) = fetch(session, name, "https", evidence, anew).await;
        (tls, Some(page), Some(proof))
    }
}

/// The page and the proof over one connection. `anew` fetches the page over another.
async fn fetch(
    mut session: http::Session,
    name: &HostName,
    scheme: &str,
    evidence: &Evidence,
    anew: impl Future<Output = Result<Answer, Failure>>,
) -> (Timed<Result<Answer, Failure>>, Timed<Proof>) {
    let started = Instant::now();
    match evidence {
        Evidence::File(file) => {
            let fetched = session.get(name.as_str(), &file.url_path(), BODY_LIMIT).await;
            let proof = Timed { took: started.elapsed(), seen: file.judge(&fetched) };
            let started = Instant::now();
            let page = match session.get(name.as_str(), "/", 0).await {
                Ok(page) => Ok(page.answer),
                // A server may end a connection between two requests whenever it
                // likes (RFC 9112 section 9.5): that is no fault of the site.
                Err(_) => anew.await,
            };
            (Timed { took: started.elapsed(), seen: page }, proof)
        }
        Evidence::None(why) => {
            let page = session.get(name.as_str(), "/", 0).await.map(|page| page.answer);
            (Timed { took: started.elapsed(), seen: page }, Timed { took: Duration::ZERO, seen: why.clone() })
        }
        Evidence::Upstream(upstream) => {
            let page = session.get(name.as_str(), "/", BODY_LIMIT).await;
            let answer = page.as_ref().map(|page| page.answer.clone()).map_err(Clone::clone);
            let page_seen = Timed { took: started.elapsed(), seen: answer };
            let started = Instant::now();
            let seen = compare(upstream, name, scheme, page).await;
            (page_seen, Timed { took: started.elapsed(), seen })
        }
    }
}

impl Prober {
    /// The page over a connection of its own.
    async fn page_anew(&self, name: &HostName, address: SocketAddr) -> Result<Answer, Failure> {
        let (_, stream) = self.trust.handshake(name, connect(address).await?, None).await?;
        Ok(http::Session::open(stream).await?.get(name.as_str(), "/", 0).await?.answer)
    }
}

/// The certificates that are shown for a name at a port, whatever they are worth.
pub(crate) async fn shown(name: &HostName, port: u16) -> Result<Vec<CertificateDer<'static>>, String> {
    let addresses =
        tokio::net::lookup_host((name.as_str(), port)).await.map_err(|error| crate::files::words(&error))?;
    let mut last = "it has no address".to_owned();
    for address in addresses {
        let stream = match connect(address).await {
            Ok(stream) => stream,
            Err(failure) => {
                last = failure.words;
                continue;
            }
        };
        return match tls::Trust::new(None).handshake(name, stream, None).await {
            Ok((_, stream)) => Ok(stream.get_ref().1.peer_certificates().unwrap_or_default().to_vec()),
            Err(failure) if failure.kind == FailureKind::PlainHttp => Err("plain HTTP is spoken there".into()),
            Err(failure) => Err(failure.words),
        };
    }
    Err(last)
}

type Plain = (Option<Timed<Result<(), Failure>>>, Option<Timed<Result<Answer, Failure>>>);
type PlainAlone = (Option<Timed<Result<(), Failure>>>, Option<Timed<Result<Answer, Failure>>>, Option<Timed<Proof>>);
type Secure = (
    Option<Timed<Result<yandro_core::check::Connection, Failure>>>,
    Option<Timed<Result<Answer, Failure>>>,
    Option<Timed<Proof>>,
);

/// What is compared with the answers of a site's names.
enum Evidence {
    /// A file under the document root; gone when dropped.
    File(ProofFile),
    /// The upstream itself is asked.
    Upstream(Upstream),
    /// There is no evidence to be had.
    None(Proof),
}

impl Evidence {
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

/// Whether the upstream's own answer is the one that came over HTTPS.
async fn compare(upstream: &Upstream, name: &HostName, scheme: &str, page: Result<Fetched, Failure>) -> Proof {
    let direct = || http::get_from(upstream, name, scheme);
    let first = match direct().await {
        Ok(answer) => answer,
        Err(failure) => return Proof::UpstreamDown(failure.words),
    };
    let page = match page {
        Ok(page) => page,
        Err(failure) => return Proof::Failed(failure.words),
    };
    let alike = |other: &Fetched| other.answer.status == first.answer.status && other.body == first.body;
    if alike(&page) {
        return Proof::Given;
    }
    match direct().await {
        Ok(second) if !alike(&second) => Proof::UpstreamVaries,
        _ => Proof::OtherContent,
    }
}

/// Whether something takes connections.
async fn connected(address: SocketAddr) -> Option<Timed<Result<(), Failure>>> {
    let started = Instant::now();
    let seen = connect(address).await.map(|_| ());
    Some(Timed { took: started.elapsed(), seen })
}

async fn plain(name: &HostName, address: SocketAddr) -> Plain {
    let started = Instant::now();
    let connected = connect(address).await;
    let took = started.elapsed();
    match connected {
        Err(failure) => (Some(Timed { took, seen: Err(failure) }), None),
        Ok(stream) => {
            let started = Instant::now();
            let answer = http::get_once(stream, name.as_str(), "/").await;
            (Some(Timed { took, seen: Ok(()) }), Some(Timed { took: started.elapsed(), seen: answer }))
        }
    }
}

/// A site without HTTPS: page and proof over plain HTTP.
async fn plain_alone(name: &HostName, address: SocketAddr, evidence: &Evidence) -> PlainAlone {
    let started = Instant::now();
    let connected = connect(address).await;
    let took = started.elapsed();
    let stream = match connected {
        Ok(stream) => stream,
        Err(failure) => return (Some(Timed { took, seen: Err(failure) }), None, None),
    };
    let connect_seen = Some(Timed { took, seen: Ok(()) });
    let session = match http::Session::open(stream).await {
        Ok(session) => session,
        Err(failure) => return (connect_seen, Some(Timed { took, seen: Err(failure) }), None),
    };
    let anew = async { http::get_once(connect(address).await?, name.as_str(), "/").await };
    let (page, proof) = fetch(session, name, "http", evidence, anew).await;
    (connect_seen, Some(page), Some(proof))
}

async fn connect(address: SocketAddr) -> Result<TcpStream, Failure> {
    match tokio::time::timeout(TIMEOUT, TcpStream::connect(address)).await {
        Ok(Ok(stream)) => {
            // Small requests must not wait for one another.
            _ = stream.set_nodelay(true);
            Ok(stream)
        }
        Ok(Err(error)) => Err(io_failure(&error)),
        Err(_) => Err(timed_out()),
    }
}

fn io_failure(error: &std::io::Error) -> Failure {
    let kind = match error.kind() {
        std::io::ErrorKind::ConnectionRefused => FailureKind::Refused,
        std::io::ErrorKind::TimedOut => FailureKind::TimedOut,
        _ => FailureKind::Other,
    };
    Failure { kind, words: crate::files::words(error) }
}

fn timed_out() -> Failure {
    Failure { kind: FailureKind::TimedOut, words: format!("no answer within {} seconds", TIMEOUT.as_secs()) }
}

fn timed_now<T>(see: impl FnOnce() -> T) -> Timed<T> {
    let started = Instant::now();
    let seen = see();
    Timed { took: started.elapsed(), seen }
}
