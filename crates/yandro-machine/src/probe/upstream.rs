//! Why an upstream gives no answer.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use tokio::net::TcpStream;
use yandro_core::{Failure, FailureKind, Proof, Upstream, UpstreamFault};

use super::http::HttpSession;
use super::{Limit, tls};

/// How long the further questions may take: the answer itself was waited for already.
const BRIEFLY: Limit = Limit::seconds(1);

/// Tells the faults of an upstream apart, after a request to it failed.
pub(super) async fn failed(upstream: &Upstream, failure: Failure) -> Proof {
    let host_port = upstream.host_port();
    let is_local = host_port.is_loopback();
    if failure.kind == FailureKind::Refused {
        return match other_family(host_port.address(), host_port.port()).await {
            Some(address) if is_local => Proof::UpstreamFails(UpstreamFault::OtherFamily(address), failure.words),
            _ => Proof::UpstreamDown(failure.words),
        };
    }
    let Some(address) = address(upstream).await else { return Proof::UpstreamDown(failure.words) };
    let fault = match failure.kind {
        FailureKind::TimedOut if begins(address).await => UpstreamFault::Endless,
        FailureKind::TimedOut => UpstreamFault::Silent,
        _ if speaks_tls(address).await => UpstreamFault::SpeaksTls,
        _ if failure.words.contains("invalid HTTP") => UpstreamFault::NotHttp,
        _ => UpstreamFault::Closes,
    };
    Proof::UpstreamFails(fault, failure.words)
}

/// The loopback address of the other family, if something listens there.
async fn other_family(address: Option<IpAddr>, port: u16) -> Option<IpAddr> {
    let other = match address {
        Some(IpAddr::V4(address)) if address.is_loopback() => IpAddr::V6(Ipv6Addr::LOCALHOST),
        Some(IpAddr::V6(address)) if address.is_loopback() => IpAddr::V4(Ipv4Addr::LOCALHOST),
        _ => return None,
    };
    BRIEFLY.connect(SocketAddr::new(other, port)).await.ok().map(|_| other)
}

/// Its first address that accepts connections.
async fn address(upstream: &Upstream) -> Option<SocketAddr> {
    for address in tokio::net::lookup_host(upstream.host_port().to_string()).await.ok()? {
        if BRIEFLY.connect(address).await.is_ok() {
            return Some(address);
        }
    }
    None
}

/// Whether an answer begins, although it doesn't end.
async fn begins(address: SocketAddr) -> bool {
    let Ok(stream) = BRIEFLY.connect(address).await else { return false };
    match HttpSession::open(stream, BRIEFLY).await {
        Ok(mut session) => session.get(&address.to_string(), "/", &[], 0).await.is_ok(),
        Err(_) => false,
    }
}

/// Whether a TLS handshake succeeds there.
async fn speaks_tls(address: SocketAddr) -> bool {
    let shake = async |stream: TcpStream| tls::TlsTrust::new(None).handshake("localhost", stream, None, BRIEFLY).await;
    match BRIEFLY.connect(address).await {
        Ok(stream) => shake(stream).await.is_ok(),
        Err(_) => false,
    }
}
