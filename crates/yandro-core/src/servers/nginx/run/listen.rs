//! Where a server block listens, and whom it answers.

use core::net::IpAddr;

use camino::Utf8Path;

use crate::config::{Directive, Place};
use crate::host_port::HostPort;
use crate::network;

/// An `allow` or `deny` directive (`ngx_http_access_module`).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct AccessRule {
    /// Whether it lets in.
    pub(super) is_allowed: bool,
    /// Whom: `all`, an address, a network.
    pub(super) whom: String,
    /// Where it stands.
    pub(super) place: Place,
}

/// One `listen` directive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListenOn {
    /// The address as it is compared: `*:80`, `[::]:443`, `127.0.0.1:80`, `unix:/run/x`.
    pub address: String,
    /// Whether it answers there for names that none has.
    pub is_default: bool,
    /// Whether it speaks TLS.
    pub tls: bool,
}

impl AccessRule {
    pub(super) fn of(own: &Directive, file: &Utf8Path) -> Option<Self> {
        let place = Place { file: file.to_string(), line: own.line };
        Some(Self { is_allowed: own.name == "allow", whom: own.values().next()?.to_owned(), place })
    }

    pub(super) fn is_about(&self, address: IpAddr) -> bool {
        self.whom == "all" || network::parse(&self.whom).is_some_and(|network| network.contains(&address))
    }
}

impl ListenOn {
    pub(super) fn of(own: &Directive) -> Option<Self> {
        let has = |word: &str| own.values().skip(1).any(|other| other == word);
        Some(Self {
            address: address(own.values().next()?),
            is_default: has("default_server") || has("default"),
            tls: has("ssl"),
        })
    }
}

/// An address as the server compares it.
fn address(text: &str) -> String {
    if text.starts_with("unix:") {
        return text.to_owned();
    }
    if text.bytes().all(|byte| byte.is_ascii_digit()) {
        return format!("*:{text}");
    }
    let (host, port) = HostPort::split(text);
    let port = port.unwrap_or("80");
    let host = if host == "0.0.0.0" { "*" } else { host };
    format!("{host}:{port}")
}
