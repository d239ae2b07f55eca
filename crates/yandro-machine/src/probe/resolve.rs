//! The system's own resolver.

use std::net::{IpAddr, ToSocketAddrs as _};
use std::time::Instant;

use yandro_core::{ResolverAnswer, Timed};

use super::Limit;

/// The answer of getaddrinfo, both families; asked only if `wanted`.
pub(super) async fn ask(name: &str, wanted: bool, within: Limit) -> Timed<ResolverAnswer> {
    let started = Instant::now();
    let seen = if wanted { answer(name, within).await } else { ResolverAnswer::NotAsked };
    Timed { took: started.elapsed(), seen }
}

async fn answer(name: &str, within: Limit) -> ResolverAnswer {
    let host = name.to_owned();
    // std asks getaddrinfo; the port is of no account.
    let asked = tokio::task::spawn_blocking(move || (host.as_str(), 443).to_socket_addrs());
    match within.of(asked).await {
        Ok(Ok(Ok(found))) => {
            let mut addresses: Vec<IpAddr> = Vec::new();
            for address in found.map(|socket| socket.ip()) {
                if !addresses.contains(&address) {
                    addresses.push(address);
                }
            }
            ResolverAnswer::Addresses(addresses)
        }
        Ok(Ok(Err(error))) => ResolverAnswer::Failed(error.to_string()),
        Ok(Err(error)) => ResolverAnswer::Failed(error.to_string()),
        Err(failure) => ResolverAnswer::Failed(failure.words),
    }
}
