//! One request for a URL, at one address.

use std::net::SocketAddr;

use crate::network;
use yandro_core::{
    Answer, Authority, Connection, Failure, HostsAnswer, HostsFile, Multi, ResolverAnswer, Sorting, WebUrl,
};

use super::{Limit, http, resolve, tls};

/// What came back.
#[derive(Debug)]
pub(crate) struct UrlAnswer {
    pub(crate) connect: Result<(), Failure>,
    pub(crate) tls: Option<Result<Connection, Failure>>,
    pub(crate) answer: Option<Result<Answer, Failure>>,
}

/// Asks for a URL at an address; the certificate's verdict is in the result, whatever it is.
pub(crate) async fn ask_url(
    url: &WebUrl,
    socket: SocketAddr,
    authority: Option<&Authority>,
    within: Limit,
) -> UrlAnswer {
    let stream = match within.connect(socket).await {
        Ok(stream) => stream,
        Err(failure) => return UrlAnswer { connect: Err(failure), tls: None, answer: None },
    };
    let host = url.host_field();
    if !url.is_secure {
        let answer = http::get_once(stream, &host, &url.path, within).await;
        return UrlAnswer { connect: Ok(()), tls: None, answer: Some(answer) };
    }
    let trust = tls::TlsTrust::new(authority);
    let name = url.host_port.host().trim_matches(['[', ']']);
    match trust.handshake(name, stream, None, within).await {
        Err(failure) => UrlAnswer { connect: Ok(()), tls: Some(Err(failure)), answer: None },
        Ok((connection, stream)) => {
            let answer = http::get_once(stream, &host, &url.path, within).await;
            UrlAnswer { connect: Ok(()), tls: Some(Ok(connection)), answer: Some(answer) }
        }
    }
}

/// The lines of a hosts file for a name.
pub(crate) fn hosts_answer(hosts: &[u8], name: &str, multi: Multi) -> HostsAnswer {
    let file = HostsFile::parse(hosts);
    let entries = file.entries_of_host(name);
    let mut lines: Vec<_> = entries.iter().map(|entry| (entry.address, entry.line)).collect();
    Sorting { multi, is_usable: &network::is_usable }.sort(&mut lines);
    let foreign = entries.iter().any(|entry| !entry.ours);
    HostsAnswer { lines, foreign }
}

/// The resolver's answer for a name; not asked unless `wanted`.
pub(crate) async fn resolved(name: &str, wanted: bool, within: Limit) -> ResolverAnswer {
    resolve::ask(name, wanted, within).await.seen
}
