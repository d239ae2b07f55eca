//! The kind of a name's suffix, and its consequences.

use super::HostName;
use super::public::public_suffix;

/// Suffixes that nobody on the internet can own: RFC 6761, RFC 2606,
/// RFC 8375 (`home.arpa`), and `internal`, reserved by ICANN in 2024.
pub(crate) const RESERVED: &[&str] = &["test", "localhost", "internal", "home.arpa", "example", "invalid"];

/// Suffixes below which browsers ask for HTTPS whatever is typed (HSTS preload, RFC 6797):
/// those for which Chromium 156 did so when it was asked for a name below each.
const FORCED_HTTPS: &[&str] = &[
    "amazon",
    "android",
    "app",
    "azure",
    "bank",
    "bing",
    "boo",
    "channel",
    "chrome",
    "dad",
    "day",
    "dev",
    "eat",
    "esq",
    "fly",
    "foo",
    "gle",
    "gmail",
    "google",
    "hangout",
    "hotmail",
    "ing",
    "insurance",
    "meet",
    "meme",
    "microsoft",
    "mov",
    "new",
    "nexus",
    "office",
    "page",
    "phd",
    "play",
    "prof",
    "rsvp",
    "search",
    "skype",
    "windows",
    "xbox",
    "youtube",
    "zip",
];

/// Kind of suffix of a host name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Suffix {
    /// A reserved one (RFC 2606, RFC 6761, ICANN): can't hide a real site.
    Reserved(&'static str),
    /// `local`, which belongs to multicast DNS (RFC 6762).
    MulticastDns,
    /// A public one below which browsers force HTTPS.
    ForcedHttps(&'static str),
    /// A public suffix, below which anyone can register names.
    Public,
    /// None that is known: nobody owns such a name now, and somebody may one day.
    Unlisted,
}

impl HostName {
    /// Kind of the name's suffix, by whole labels.
    pub fn suffix(&self) -> Suffix {
        let last = self.as_str().rsplit('.').next().unwrap_or_default();
        if let Some(suffix) = RESERVED.iter().find(|suffix| self.is_below_or_equal(suffix)) {
            return Suffix::Reserved(suffix);
        }
        if last == "local" {
            return Suffix::MulticastDns;
        }
        if let Some(suffix) = FORCED_HTTPS.iter().find(|suffix| **suffix == last) {
            return Suffix::ForcedHttps(suffix);
        }
        // The list knows names with a dot; a single label is nobody's domain.
        let is_public = self.as_str().contains('.') && public_suffix(self.as_str()).is_some();
        if is_public { Suffix::Public } else { Suffix::Unlisted }
    }

    /// Whether names below this one belong to many people, as those below `com` and `co.uk` do.
    pub fn is_public_suffix(&self) -> bool {
        public_suffix(self.as_str()) == Some(self.as_str())
    }

    /// Whether somebody on the internet can own the name: while it is mapped, their site can't
    /// be reached from this machine.
    pub fn can_be_real(&self) -> bool {
        matches!(self.suffix(), Suffix::ForcedHttps(_) | Suffix::Public)
    }

    /// Advice for the user who chose this name, if there is any.
    pub fn advice(&self) -> Option<String> {
        if self.as_str().contains('_') {
            return Some(
                "it has an underscore: browsers, resolvers and servers take it, Java's URLs and public authorities don't; a hyphen works everywhere".into(),
            );
        }
        match self.suffix() {
            Suffix::Reserved("invalid") => {
                Some("`.invalid` is reserved for names that never work (RFC 6761): `.test` says better what this is".into())
            }
            Suffix::MulticastDns => Some(
                "`.local` belongs to multicast DNS (RFC 6762): some systems ask the network for it first, which can take seconds, and another device may claim the name; `.test` has no such cost".into(),
            ),
            Suffix::ForcedHttps(suffix) => {
                Some(format!("browsers request names below `.{suffix}` only over HTTPS, whatever is typed"))
            }
            Suffix::Reserved(_) | Suffix::Public => None,
            Suffix::Unlisted => Some(
                "the suffix is not reserved: it may become a real one, as others did; `.test` never will (RFC 6761)".into(),
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn suffixes_are_known_by_whole_labels() {
        for (name, suffix) in [
            ("saltmarsh.test", Suffix::Reserved("test")),
            ("depot.home.arpa", Suffix::Reserved("home.arpa")),
            ("saltmarsh.local", Suffix::MulticastDns),
            ("saltmarsh.dev", Suffix::ForcedHttps("dev")),
            ("local.saltmarsh-ferries.co.uk", Suffix::Public),
            ("saltmarsh.com", Suffix::Public),
            ("saltmarsh.harbour", Suffix::Unlisted),
            ("contest", Suffix::Unlisted),
            ("dev", Suffix::ForcedHttps("dev")),
            ("arpa", Suffix::Unlisted),
        ] {
            assert_eq!(HostName::parse(name).unwrap().suffix(), suffix, "{name}");
        }
    }
}
