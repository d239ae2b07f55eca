//! Lines of a configuration that answer requests in the place of the site's folder.

use crate::config::Place;

/// The paths that a check asks a site for: its first page, under the names that index pages have. A proof file that is
/// hidden is asked for under another name as well.
pub(super) const ASKED_PATHS: [&str; 4] = ["/", "/index.html", "/index.htm", "/index.php"];

/// A line that counts for a site, and how it answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Its effect on requests.
    pub effect: RuleEffect,
    /// File and line.
    pub place: Place,
}

/// The effect of a line on a site's requests.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RuleEffect {
    /// It keeps this machine out: 403.
    Denies,
    /// It answers with this status. nginx closes the connection for 444.
    Answers(u16),
    /// It asks for client certificates.
    WantsCertificate,
    /// It leaves out the versions of TLS that browsers take.
    OldTls,
    /// It counts requests or connections, and refuses those beyond a number.
    Limits,
    /// It doesn't let the server follow symbolic links.
    BarsLinks,
    /// It names the index pages.
    Indexes(Vec<String>),
}

impl Rule {
    pub(super) fn new(effect: RuleEffect, place: &Place) -> Self {
        Self { effect, place: place.clone() }
    }
}

/// Whether a pattern fits one of the paths that a check asks for.
pub(super) fn fits_asked(pattern: &str) -> bool {
    regex_lite::Regex::new(pattern).is_ok_and(|regex| ASKED_PATHS.iter().any(|path| regex.is_match(path)))
}

/// The versions of TLS that browsers take (RFC 8996 forbids the earlier ones).
pub(super) const CURRENT_TLS: [&str; 2] = ["TLSv1.2", "TLSv1.3"];
