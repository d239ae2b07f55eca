//! Evidence, in words.

use std::fmt::{self, Display, Formatter};

use super::listed;
use crate::check::finding::{Evidence, Finding};

/// All evidence: one line each, ports and address behind the first.
pub(super) fn text(finding: &Finding) -> Option<String> {
    let mut lines: Vec<String> = finding.diagnosis.evidence.iter().map(ToString::to_string).collect();
    let ports = finding.further_ports.map(|[http, https]| format!("on the ports {http} and {https}"));
    let address = finding.only_at.map(|address| format!("only at {address}"));
    for place in ports.into_iter().chain(address) {
        match lines.first_mut() {
            Some(first) => *first = format!("{first}; {place}"),
            None => lines.push(place),
        }
    }
    (!lines.is_empty()).then(|| lines.join("\n"))
}

impl Display for Evidence {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::Words(words) => f.write_str(words),
            Self::At(place) => place.fmt(f),
            Self::Log(line) => line.fmt(f),
            Self::Shadow(counts, shadowed) => write!(f, "{counts} counts, {shadowed} doesn't"),
            Self::Unexplained => f.write_str("neither a cache that runs nor /etc/nsswitch.conf explains it"),
            Self::OnPort(port, words) => write!(f, "port {port}: {words}"),
            Self::OtherServers(place) => {
                write!(f, "{place}: that line names servers for all names, and systemd-resolved asks one of them instead. Name them for a network connection, or take the line out")
            }
            Self::Offline => {
                f.write_str("no network is up, and systemd-resolved asks no server then. Browsers and curl still find names below `localhost`")
            }
            Self::Addresses(addresses) if addresses.is_empty() => f.write_str("it only has loopback"),
            Self::Addresses(addresses) => write!(f, "it has {}", listed(addresses, ", ")),
            Self::Issuer(issuer) => write!(f, "issued by {issuer}"),
            Self::Names(names) if names.is_empty() => f.write_str("it names none"),
            Self::Names(names) => write!(f, "it names {}", listed(names, ", ")),
            Self::VirtualHostSilent => {
                f.write_str("its file is not enabled, was not loaded by the server, or has no `SSLEngine on`")
            }
            Self::ServerField(server) => write!(f, "answered by `{server}`"),
            Self::LeadsTo { from: None, to } => write!(f, "it leads to {to}"),
            Self::LeadsTo { from: Some(from), to } => write!(f, "{from} leads to {to}"),
            Self::Way(way) => f.write_str(&listed(way, " -> ")),
            Self::OwnAddress(address) => write!(f, "it says {address}"),
            Self::ProofForbidden => f.write_str("the proof file was answered with 403"),
            Self::ProofStatus(status) => write!(f, "a file put there a moment ago was answered with {status}"),
            Self::ProofChanged => f.write_str("a file put there a moment ago came back with other content"),
            Self::Mode(mode) => write!(f, "its mode is {mode:04o}"),
            Self::RefusedUnderName(status) => {
                write!(f, "{status} under that name, and none under its own address")
            }
            Self::Holder(server, names) if names.is_empty() => {
                write!(f, "it is {server}; its virtual hosts there: none")
            }
            Self::Holder(server, names) => {
                write!(f, "it is {server}; its virtual hosts there: {}", listed(names, ", "))
            }
            Self::NoLink(link) => write!(f, "the link {link} is missing"),
            Self::LookedFrom(file) => write!(f, "looked for from {file} on"),
            Self::PlainFirst(place) => {
                write!(f, "{place}: the first virtual host there has TLS off, which counts for all")
            }
            Self::Waiting(1) => f.write_str("1 connection waits"),
            Self::Waiting(number) => write!(f, "{number} connections wait"),
            Self::FirstRule(place) => write!(f, "{place}: the first rule"),
            Self::ProofRule(place) => {
                write!(f, "{place}: the first such rule; requests below /.well-known/ are to pass")
            }
        }
    }
}
