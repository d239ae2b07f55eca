//! How to probe.

use super::limit::Limit;

/// How to probe.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Manner {
    /// How long to wait for any one answer.
    pub within: Limit,
    /// Names whose further TLS offers are asked for, which takes two more handshakes.
    pub offers: OffersOf,
}

/// Names whose further TLS offers are asked for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum OffersOf {
    /// Nobody's.
    #[default]
    None,
    /// Each port's, by the first name that is asked there: virtual hosts of one port have the same, as a rule.
    Ports,
    /// Each name's.
    Names,
}
