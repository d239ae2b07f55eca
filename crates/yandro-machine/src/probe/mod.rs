//! Probes: what resolver, ports and servers really answer for a site's names.
//!
//! All observations go to the core as plain values.

mod addresses;
mod evidence;
mod http;
mod limit;
mod manner;
mod offers;
mod page;
mod plain;
mod proof;
mod remembered;
mod resolve;
mod same;
mod shown;
mod tls;
mod upstream;
mod url;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use yandro_core::{
    Authority, Content, Expected, Failure, FailureKind, HostName, HostPort, HostsAnswer, Https, Multi, NameObservation,
    Offers, OtherName, Page, Proof, REDIRECT_PROBE, ServerId, Timed,
};

use crate::caches;
use crate::machine::Machine;
use crate::permissions::{self, User};
use crate::servers::{self, Present};

use addresses::{at_others, is_closed, is_upstreams_fault};
use evidence::ProofEvidence;
pub use limit::Limit;
pub(crate) use manner::{Manner, OffersOf};
use offers::KnownOffers;
use page::{AskedPage, Pages};
use plain::{connected, plain, plain_alone};
pub(crate) use proof::sweep_proofs;
pub use same::{PageRequest, WholeAnswer, whole_answers};
pub use shown::NotShown;
pub(crate) use shown::shown;
use tls::TLS_1_3;
pub(crate) use url::{UrlAnswer, ask_url, hosts_answer, resolved};

/// How many sites are probed at once.
const AT_ONCE: usize = 64;
/// How many of them that have the same upstream: a development server may do one thing at a time.
const AT_ONE_UPSTREAM: usize = 4;
/// How much of an answer is read, in bytes.
const BODY_LIMIT: usize = 1 << 20;

/// The shared part of all probes of one run.
#[derive(Debug)]
pub(crate) struct Prober {
    hosts: Vec<u8>,
    multi: Multi,
    trust: tls::TlsTrust,
    /// Users of the web servers, looked up when needed.
    users: Mutex<BTreeMap<ServerId, Option<User>>>,
    machine: Machine,
    present: Present,
    permits: Semaphore,
    upstreams: Mutex<BTreeMap<HostPort, Arc<Semaphore>>>,
    manner: Manner,
    offers: KnownOffers,
}

impl Prober {
    /// A prober of `machine` that reads names in `hosts` and trusts only `authority`. Within a
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
            multi: caches::multi(machine),
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
        let evidence = Arc::new(ProofEvidence::prepare(&expected).await);
        let chain_on_disk: Arc<Option<Vec<u8>>> = Arc::new(chain_on_disk);
        let (within, offers) = (self.manner.within.for_all(), self.manner.offers);
        let mut tasks = JoinSet::new();
        let mut seen = Vec::new();
        for (at, name) in expected.asked_names().cloned().enumerate() {
            let (prober, expected, evidence) = (self.clone(), expected.clone(), evidence.clone());
            let (chain, own) = (chain_on_disk.clone(), self.manner.within.for_all());
            let is_one_by_one = matches!(expected.site.content, Content::Upstream(_));
            let observed = async move {
                let within = if is_one_by_one { own } else { within };
                let chain_on_disk = chain.as_deref();
                let (expected, evidence) = (&*expected, &*evidence);
                let asked = AskedName { expected, evidence, chain_on_disk, offers, within, is_brief: false };
                (at, Box::pin(prober.observe_name(&name, asked)).await)
            };
            // A development server may do one thing at a time.
            if is_one_by_one {
                seen.push(observed.await);
            } else {
                tasks.spawn(observed);
            }
        }
        while let Some(one) = tasks.join_next().await {
            seen.push(one.unwrap_or_else(|error| std::panic::resume_unwind(error.into_panic())));
        }
        seen.sort_by_key(|(at, _)| *at);
        seen.into_iter().map(|(_, seen)| seen).collect()
    }

    /// The places at a site's upstream, if it has one.
    fn permits_of(&self, content: &Content) -> Option<Arc<Semaphore>> {
        let Content::Upstream(upstream) = content else { return None };
        let mut all = self.upstreams.lock().unwrap_or_else(PoisonError::into_inner);
        let own = all.entry(upstream.host_port().clone()).or_insert_with(|| Arc::new(Semaphore::new(AT_ONE_UPSTREAM)));
        Some(own.clone())
    }

    async fn observe_name(&self, name: &HostName, asked: AskedName<'_>) -> NameObservation {
        let expected = asked.expected;
        let hosts = timed_now(|| self.hosts_answer(name));
        let resolver = resolve::ask(name.as_str(), self.machine.is_real(), asked.within).await;
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
            asked: None,
            further: Vec::new(),
            proof: None,
        };
        let by_itself = expected.site.is_known_by_itself(name, expected.server).then_some(expected.site.address);
        let Some(first) = seen.resolver.seen.first(&seen.hosts.seen).or(by_itself) else { return seen };
        let unasked = seen.clone();
        seen.further = at_others(&unasked, first);
        self.observe_all(&asked, &mut seen, first).await;
        if !is_closed(expected, &seen) {
            let silent = |other: &NameObservation| is_closed(expected, other).then_some(other.asked).flatten();
            seen.silent = seen.further.iter().filter_map(silent).collect();
            seen.further.retain(|other| !is_closed(expected, other));
        } else if let Some(address) =
            seen.further.iter().find(|own| !is_closed(expected, own)).and_then(|own| own.asked)
        {
            // Clients go on to the next address: that one is asked for everything.
            let silent = |own: &&NameObservation| is_closed(expected, own);
            let closed =
                std::iter::once(&seen).chain(&seen.further).filter(silent).filter_map(|own| own.asked).collect();
            let mut next = NameObservation { silent: closed, ..unasked };
            next.further = at_others(&next, address);
            self.observe_all(&asked, &mut next, address).await;
            return next;
        }
        seen
    }

    /// A name at one of its addresses, and at the others whether it answers from there as well.
    async fn observe_all(&self, asked: &AskedName<'_>, seen: &mut NameObservation, address: IpAddr) {
        let mut further = std::mem::take(&mut seen.further);
        let at_further = async {
            for other in &mut further {
                let address = other.asked.unwrap_or(address);
                let asked = AskedName { offers: OffersOf::None, is_brief: true, ..*asked };
                Box::pin(self.observe_at(&asked, other, address)).await;
            }
            further
        };
        let at_first = Box::pin(self.observe_at(asked, seen, address));
        let further = if matches!(asked.expected.site.content, Content::Upstream(_)) {
            // A development server may do one thing at a time, and a site is no better than its upstream.
            at_first.await;
            if is_upstreams_fault(seen) { Vec::new() } else { at_further.await }
        } else {
            tokio::join!(at_first, at_further).1
        };
        seen.further = further;
    }

    /// Connection, handshake, page and proof of a name at one of its addresses.
    async fn observe_at(&self, asked: &AskedName<'_>, seen: &mut NameObservation, address: IpAddr) {
        let AskedName { expected, evidence, within, .. } = *asked;
        seen.asked = Some(address);
        let name = seen.name.clone();
        let http = SocketAddr::new(address, expected.http_port);
        if !expected.site.https.is_on() {
            plain_alone(seen, http, expected, evidence, within).await;
            self.look_for_barrier(expected, seen);
            return;
        }
        if expected.site.own_tls().is_some() {
            // It speaks TLS and nothing else.
            let (connect, secure) = tokio::join!(
                connected(SocketAddr::new(address, expected.https_port), within),
                self.secure(&name, asked, address)
            );
            seen.connect = connect;
            secure.into_seen(seen);
            return;
        }
        let path = if expected.site.https == Https::Only { REDIRECT_PROBE } else { "/" };
        let (plain, secure) = tokio::join!(plain(&name, http, path, within), self.secure(&name, asked, address));
        (seen.connect, seen.http) = plain;
        secure.into_seen(seen);
        self.look_for_barrier(expected, seen);
    }

    /// The folder that denies access, if the server answers so.
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
        hosts_answer(&self.hosts, name.as_str(), self.multi)
    }

    /// The handshake, then the proof and the page over the same connection.
    async fn secure(&self, name: &HostName, asked: &AskedName<'_>, address: IpAddr) -> Secure {
        let AskedName { expected, evidence, chain_on_disk, offers, within, is_brief } = *asked;
        let socket = SocketAddr::new(address, expected.https_port);
        let started = Instant::now();
        let handshake = match within.connect(socket).await {
            Ok(stream) => self.trust.handshake(name.as_str(), stream, chain_on_disk, within).await,
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
        let more = self.offers.of(asked, &self.trust, Manner { within, offers });
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
            let (_, stream) = self.trust.handshake(name.as_str(), stream, None, within).await?;
            http::HttpSession::open(stream, within).await
        };
        let ports = expected.page_ports();
        let asked =
            AskedPage { name, site: &expected.site, scheme: "https", ports: &ports, evidence, is_brief, within };
        let pages = page::fetch(session, &asked, anew).await;
        Secure { tls, pages, more: more.await }
    }
}

/// The request for a name, at each of its addresses.
#[derive(Clone, Copy)]
struct AskedName<'a> {
    expected: &'a Expected,
    evidence: &'a ProofEvidence,
    chain_on_disk: Option<&'a [u8]>,
    offers: OffersOf,
    within: Limit,
    /// Whether the proof is enough.
    is_brief: bool,
}

/// The observations over TLS.
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
