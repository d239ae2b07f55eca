//! Probes without TLS.

use std::net::SocketAddr;
use std::time::Instant;

use yandro_core::{Answer, Expected, Failure, HostName, NameObservation, Timed};

use super::evidence::ProofEvidence;
use super::limit::Limit;
use super::page::AskedPage;
use super::{http, page};

/// The connection, and the answer.
pub(super) type Plain = (Option<Timed<Result<(), Failure>>>, Option<Timed<Result<Answer, Failure>>>);

/// Whether something takes connections.
pub(super) async fn connected(address: SocketAddr, within: Limit) -> Option<Timed<Result<(), Failure>>> {
    let started = Instant::now();
    let seen = within.connect(address).await.map(|_| ());
    Some(Timed { took: started.elapsed(), seen })
}

/// Asks for a path over plain HTTP.
pub(super) async fn plain(name: &HostName, address: SocketAddr, path: &str, within: Limit) -> Plain {
    let started = Instant::now();
    let connected = within.connect(address).await;
    let took = started.elapsed();
    match connected {
        Err(failure) => (Some(Timed { took, seen: Err(failure) }), None),
        Ok(stream) => {
            let started = Instant::now();
            let host = page::host_field(name, "http", address.port());
            let answer = http::get_once(stream, &host, path, within).await;
            (Some(Timed { took, seen: Ok(()) }), Some(Timed { took: started.elapsed(), seen: answer }))
        }
    }
}

/// A site without HTTPS: page and proof over plain HTTP.
pub(super) async fn plain_alone(
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
    let ports = expected.page_ports();
    let asked = AskedPage {
        name: &name,
        site: &expected.site,
        scheme: "http",
        ports: &ports,
        evidence,
        is_brief: false,
        within,
    };
    let pages = page::fetch(session, &asked, anew).await;
    (seen.http, seen.proof) = (pages.answer, pages.proof);
    (seen.trail, seen.page) = (pages.trail, pages.page);
}
