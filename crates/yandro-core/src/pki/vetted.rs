//! Root certificates that a whole system may trust on the word of an ordinary user.

use ipnet::IpNet;
use pkcs8::LineEnding;
use pkcs8::der::pem::encode_string;

use super::{CertificateFacts, Constraints, PkiError, Profile};

/// Why a system doesn't trust a root certificate on a user's word.
#[derive(Debug, thiserror::Error)]
pub enum NotVetted {
    /// It can't be read, or written again.
    #[error(transparent)]
    Unreadable(#[from] PkiError),
    /// There are several.
    #[error("there is more than one certificate in the file")]
    More,
    /// It differs from what yandro's roots are.
    #[error("it is not a root certificate of yandro: {0}")]
    Profile(String),
    /// It is another user's.
    #[error("it was made for another user: {subject}")]
    OtherUser {
        /// For whom it was made.
        subject: String,
    },
    /// It may speak for other names.
    #[error("it may speak for names below `{0}`, which other users of this computer may rely on")]
    Suffix(String),
    /// It may speak for other addresses.
    #[error("it may speak for addresses in {0}, not only for this computer's own")]
    Network(IpNet),
}

/// The root certificate in `pem` as the one PEM block that a trust store is given. It has to be exactly of the
/// profile of yandro's roots (a critical list of permitted names, path length 1, its own sound signature), made for
/// `user`, and permit no more than every authority does: names that nobody on the internet can own, and loopback.
///
/// # Errors
/// The objection to it.
pub fn vetted_root(pem: &str, user: &str) -> Result<String, NotVetted> {
    let certificates = CertificateFacts::certificates(pem.as_bytes())?;
    let [certificate] = &certificates[..] else { return Err(NotVetted::More) };
    if let Some(first) = Profile::Root.deviations(certificate, None)?.first() {
        return Err(NotVetted::Profile(first.clone()));
    }
    let facts = CertificateFacts::read(certificate)?;
    if !facts.subject.contains(&format!("Yandro local authority of {user}@")) {
        return Err(NotVetted::OtherUser { subject: facts.subject });
    }
    let usual = Constraints::default();
    if let Some(suffix) = facts.constraints.suffixes.iter().find(|suffix| !usual.suffixes.contains(suffix)) {
        return Err(NotVetted::Suffix(suffix.clone()));
    }
    if let Some(network) = facts.constraints.networks.iter().find(|network| !usual.networks.contains(network)) {
        return Err(NotVetted::Network(*network));
    }
    encode_string("CERTIFICATE", LineEnding::LF, certificate).map_err(|error| NotVetted::Profile(error.to_string()))
}
