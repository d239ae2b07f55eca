//! The addresses of a name.

use std::net::IpAddr;

use tokio::net::TcpStream;
use yandro_core::{Failure, FailureKind, NameObservation, Proof, ResolverAnswer};

/// The facts about a name before it is asked, for each of its addresses but the first and the silent ones.
pub(super) fn at_others(seen: &NameObservation, first: IpAddr) -> Vec<NameObservation> {
    let ResolverAnswer::Addresses(all) = &seen.resolver.seen else { return Vec::new() };
    let is_other = |other: &&IpAddr| **other != first && !seen.silent.contains(other);
    let at = |other: &IpAddr| NameObservation { asked: Some(*other), ..seen.clone() };
    all.iter().filter(is_other).map(at).collect()
}

/// Whether the upstream itself fails.
pub(super) fn is_upstreams_fault(seen: &NameObservation) -> bool {
    matches!(seen.proof.as_ref().map(|timed| &timed.seen), Some(Proof::UpstreamDown(_) | Proof::UpstreamFails(..)))
}

/// Whether nothing listens there.
pub(super) fn is_refused(result: &Result<TcpStream, Failure>) -> bool {
    result.as_ref().is_err_and(|failure| failure.kind == FailureKind::Refused)
}
