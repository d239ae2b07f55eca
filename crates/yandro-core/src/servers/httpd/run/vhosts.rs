//! The virtual hosts of a configuration, and which answers where.

use core::net::Ipv6Addr;

use super::{Event, EventKind, HttpdRun};
use crate::config::VirtualHost;
use crate::host_port::{HostPort, LOCALHOST, in_brackets};

impl HttpdRun {
    /// Every virtual host, in order.
    pub fn virtual_hosts(&self) -> Vec<VirtualHost> {
        let mut found: Vec<VirtualHost> = Vec::new();
        // The innermost open section within the virtual host.
        let mut within: Option<usize> = None;
        for event in &self.events {
            match (event.kind, within) {
                (EventKind::Open, None) if event.is("VirtualHost") => {
                    found.push(VirtualHost::new(event));
                    within = Some(0);
                }
                (EventKind::Open, Some(depth)) => within = Some(depth + 1),
                (EventKind::Close, Some(0)) => within = None,
                (EventKind::Close, Some(depth)) => within = Some(depth - 1),
                (EventKind::Directive, Some(0)) => {
                    if let Some(host) = found.last_mut() {
                        host.take(event);
                    }
                }
                _ => {}
            }
        }
        found
    }
}

impl VirtualHost {
    fn new(event: &Event) -> Self {
        Self {
            addresses: event.arguments.iter().flat_map(|argument| addresses(argument)).collect(),
            name: None,
            aliases: Vec::new(),
            document_root: None,
            instead: None,
            tls: false,
            place: event.place.clone(),
            guards: event.guards.clone(),
        }
    }

    fn take(&mut self, event: &Event) {
        let first = || event.arguments.first().cloned();
        if event.is("ServerName") {
            self.name = first().map(|name| bare(&name).to_owned());
        } else if event.is("ServerAlias") {
            self.aliases.extend(event.arguments.iter().cloned());
        } else if event.is("DocumentRoot") {
            self.document_root = first();
        } else if event.is("ProxyPass") && first().as_deref() == Some("/") {
            self.instead = event.arguments.get(1).cloned();
        } else if event.is("Redirect")
            || event.is("RewriteRule") && event.arguments.get(2).is_some_and(|flags| leads_on(flags))
        {
            let to = if event.is("Redirect") { event.arguments.last() } else { event.arguments.get(1) };
            self.instead.get_or_insert(to.map_or_else(|| "redirects".to_owned(), |to| format!("redirects to {to}")));
        } else if event.is("SSLEngine") {
            self.tls = first().is_some_and(|value| value.eq_ignore_ascii_case("on"));
        }
    }
}

/// Whether the flags of a `RewriteRule` make it a redirect.
fn leads_on(flags: &str) -> bool {
    let flags = flags.trim_matches(['[', ']']).split(',');
    flags.map(|flag| flag.split('=').next().unwrap_or(flag)).any(|flag| matches!(flag, "R" | "redirect"))
}

/// A `ServerName` without the scheme and the port that it may have.
pub(in crate::servers::httpd) fn bare(value: &str) -> &str {
    let host = value.split_once("://").map_or(value, |(_, host)| host);
    if host.starts_with('[') {
        return host;
    }
    host.split_once(':').map_or(host, |(host, _)| host)
}

/// The addresses of an argument as the server compares them: `_default_` is `*`, no port is `*`, `localhost` is
/// resolved.
fn addresses(argument: &str) -> Vec<String> {
    let (host, port) = HostPort::split(argument);
    let port = port.unwrap_or("*");
    let host = match in_brackets(host) {
        Some(inner) => inner.parse::<Ipv6Addr>().map_or_else(|_| host.to_owned(), |address| format!("[{address}]")),
        None if host.eq_ignore_ascii_case("_default_") || host == "255.255.255.255" => "*".to_owned(),
        None => host.to_owned(),
    };
    if host.eq_ignore_ascii_case("localhost") {
        return LOCALHOST.iter().map(|address| format!("{address}:{port}")).collect();
    }
    vec![format!("{host}:{port}")]
}
