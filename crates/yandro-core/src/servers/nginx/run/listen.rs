//! The addresses of a server block.

use crate::config::Directive;
use crate::host_port::{HostPort, LOCALHOST};

/// A `listen` directive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListenOn {
    /// The address as it is compared: `*:80`, `[::]:443`, `127.0.0.1:80`, `unix:/run/x`.
    pub address: String,
    /// Whether it answers there for names that none has.
    pub is_default: bool,
    /// Whether it speaks TLS.
    pub tls: bool,
}

impl ListenOn {
    /// One for each address that the directive means.
    pub(super) fn of(own: &Directive) -> Vec<Self> {
        let has = |word: &str| own.values().skip(1).any(|other| other == word);
        let listen = |address| Self { address, is_default: has("default_server") || has("default"), tls: has("ssl") };
        own.values().next().map(addresses).unwrap_or_default().into_iter().map(listen).collect()
    }
}

/// The addresses of a text as the server compares them: `localhost` is resolved, no port is 80.
fn addresses(text: &str) -> Vec<String> {
    if text.starts_with("unix:") {
        return vec![text.to_owned()];
    }
    if text.bytes().all(|byte| byte.is_ascii_digit()) {
        return vec![format!("*:{text}")];
    }
    let (host, port) = HostPort::split(text);
    let port = port.unwrap_or("80");
    if host.eq_ignore_ascii_case("localhost") {
        return LOCALHOST.iter().map(|address| format!("{address}:{port}")).collect();
    }
    let host = if host == "0.0.0.0" { "*" } else { host };
    vec![format!("{host}:{port}")]
}
