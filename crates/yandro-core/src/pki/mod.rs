//! The local authority and the certificates that it issues.
//!
//! Profiles follow RFC 5280 and what real clients were measured to accept; every
//! field is set here and none is left to a library's default. Keys, serial
//! numbers and the time come in as arguments.

mod authority;
mod constraints;
mod dev_server;
mod export;
mod facts;
mod java_store;
mod key;
mod leaf;
mod lint;
mod profile;
mod signing_request;
mod vetted;

pub use authority::{Authority, AuthorityCertificates, NewAuthority, create_authority};
pub use constraints::{Constraints, NetworkError};
pub use dev_server::{CertificateFiles, Variables};
pub use export::{certificate_bundle, mobile_profile, trust_lines, trust_variables};
pub use facts::CertificateFacts;
pub use java_store::{JavaStore, Sha1};
pub use key::{Key, KeyKind};
pub use leaf::{Leaf, LeafRequest};
pub use lint::{Objection, objections};
pub use profile::Profile;
pub use signing_request::SigningRequest;
pub use vetted::{NotVetted, vetted_root};

pub use rustls_pki_types::CertificateDer;
use time::{Duration, OffsetDateTime};

/// Days that a leaf is valid. Browsers and Apple systems took longer ones for a
/// fault of the issuer first at 398 days, then at 825 for private authorities.
pub const LEAF_DAYS: i64 = 397;
/// The most days of a leaf that everybody takes, of whatever authority (Apple's systems).
pub(crate) const LONGEST_DAYS: i64 = 825;
/// Days that the authority is valid.
pub(crate) const AUTHORITY_DAYS: i64 = 3650;
/// Days before its end at which a leaf is due to be renewed.
pub const RENEW_DAYS: i64 = 30;

/// Days before its end at which a leaf of so many days is due: of a short one it is the last third, so that it
/// isn't renewed each day.
pub(crate) fn due_days(days: i64) -> i64 {
    RENEW_DAYS.min((days - 1) / 3)
}

/// A serial number: 128 random bits, positive (RFC 5280 section 4.1.2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Serial([u8; 16]);

impl Serial {
    /// Takes random bytes as a serial number.
    pub fn from_random(mut bytes: [u8; 16]) -> Self {
        // Positive and of full length, so that every encoding has the same size.
        bytes[0] = (bytes[0] & 0x7f) | 0x40;
        Self(bytes)
    }
}

/// Why a certificate was not made or not read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PkiError {
    /// A name that the authority can't issue for.
    #[error("the authority can't issue for `{name}`: it is limited to names that end in {permitted}")]
    NameOutside {
        /// What a certificate was asked for.
        name: String,
        /// The permitted suffixes, in words.
        permitted: String,
    },
    /// An address that the authority can't issue for.
    #[error("the authority can't issue for {address}: it is limited to {permitted}")]
    AddressOutside {
        /// What a certificate was asked for.
        address: String,
        /// The permitted networks, in words.
        permitted: String,
    },
    /// Nothing to name in the certificate.
    #[error("a certificate needs at least one name or address")]
    Nameless,
    /// The authority's own certificate has ended, or nearly so.
    #[error("the authority's certificate ends on {end}, too soon to issue anything")]
    AuthorityEnds {
        /// Its last day.
        end: String,
    },
    /// More days than clients take, or none.
    #[error(
        "a certificate of {0} days can't be issued: it lasts at least one, and Apple's systems take no more than {LONGEST_DAYS}"
    )]
    Days(i64),
    /// A wildcard right below a suffix.
    #[error("`*.{0}` can't be issued: nobody takes a wildcard right below a suffix")]
    WideWildcard(String),
    /// A signing request that is none, or asks for what isn't given.
    #[error("the signing request can't be taken: {0}")]
    Request(String),
    /// Clients would object to what was made.
    #[error("nobody would take the certificate: {0}")]
    Objection(String),
    /// The certificate deviates from its profile.
    #[error("what was made is not as it has to be: {0}")]
    Profile(String),
    /// A new key can't be made.
    #[error("a new {kind} key can't be made: {why}")]
    KeyNotMade {
        /// The kind of key, as a person names it.
        kind: &'static str,
        /// The obstacle.
        why: String,
    },
    /// The bytes are not a key of this profile.
    #[error("the key is no P-256, P-384 or RSA key in PKCS#8 form")]
    Key,
    /// The key is behind a passphrase, and none was given.
    #[error("the authority's key is behind a passphrase")]
    Locked,
    /// The key is behind another passphrase.
    #[error("that is not the passphrase of the key")]
    Passphrase,
    /// The bytes are not a certificate.
    #[error("the certificate can't be read: {0}")]
    Certificate(String),
    /// The certificate could not be signed.
    #[error("the certificate could not be signed: {0}")]
    Sign(String),
}

/// The date of a moment, `2026-11-23`, in UTC.
pub fn date(moment: OffsetDateTime) -> String {
    let (year, month, day) = moment.to_calendar_date();
    format!("{year:04}-{:02}-{day:02}", u8::from(month))
}

/// An hour before `now`, so that a clock that is a little behind still accepts.
fn not_before(now: OffsetDateTime) -> OffsetDateTime {
    now.replace_nanosecond(0).unwrap_or(now) - Duration::hours(1)
}

/// The last second of `days` days that begin at `start`: both ends count (RFC 5280 section 4.1.2.5).
fn not_after(start: OffsetDateTime, days: i64) -> OffsetDateTime {
    start + Duration::days(days) - Duration::seconds(1)
}

#[cfg(test)]
mod tests;
