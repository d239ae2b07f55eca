//! The terms of a site's certificate beyond its names.

use core::net::IpAddr;

use super::InvalidValue;
use super::Site;
use crate::pki::{KeyKind, LEAF_DAYS, LONGEST_DAYS, Leaf};

/// The user's terms for a site's certificate beyond the site's names.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CertificateTerms {
    /// Whether it covers all names with one label more than the site's, `*.saltmarsh.test`.
    pub wildcard: bool,
    /// The addresses that it covers.
    pub addresses: Vec<IpAddr>,
    /// For how many days it is valid; `None` for the usual.
    pub days: Option<u16>,
    /// The algorithm, for new keys.
    pub key: KeyKind,
}

impl CertificateTerms {
    /// Whether all of it is as usual.
    pub fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

impl Site {
    /// The wanted content of the site's certificate.
    pub fn leaf(&self) -> Leaf {
        let terms = &self.certificate;
        Leaf {
            names: self.names().cloned().collect(),
            wildcards: (terms.wildcard || self.serving.tenants).then(|| self.name.clone()).into_iter().collect(),
            addresses: terms.addresses.clone(),
            days: terms.days.map_or(LEAF_DAYS, i64::from),
        }
    }
}

/// A number of days that everybody takes.
///
/// # Errors
/// For none, and for more than [`LONGEST_DAYS`].
pub(crate) fn checked_days(days: u16) -> Result<u16, InvalidValue> {
    if (1..=LONGEST_DAYS).contains(&i64::from(days)) {
        return Ok(days);
    }
    Err(InvalidValue::TooManyDays)
}
