//! The addresses of a name.

use std::net::IpAddr;

use yandro_core::{Expected, Failure, FailureKind, NameObservation, Proof, ResolverAnswer};

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

/// Whether nothing listens on the site's port at the address that was asked.
pub(super) fn is_closed(expected: &Expected, seen: &NameObservation) -> bool {
    let is_refused = |failure: &Failure| failure.kind == FailureKind::Refused;
    if expected.site.https.is_on() {
        return seen.tls.as_ref().is_some_and(|timed| timed.seen.as_ref().is_err_and(is_refused));
    }
    seen.connect.as_ref().is_some_and(|timed| timed.seen.as_ref().is_err_and(is_refused))
}
