//! Root certificates that a whole system may trust on the word of an ordinary user.

use pkcs8::LineEnding;
use pkcs8::der::pem::encode_string;

use super::{Constraints, Facts, Profile};

/// The root certificate in `pem` as the one PEM block that a trust store is given. It has to be exactly of the
/// profile of yandro's roots (a critical list of permitted names, path length 1, its own sound signature), made for
/// `user`, and permit no more than every authority does: names that nobody on the internet can own, and loopback.
///
/// # Errors
/// A sentence on what is wrong with it.
pub fn vetted_root(pem: &str, user: &str) -> Result<String, String> {
    let certificates = Facts::certificates(pem.as_bytes()).map_err(|error| error.to_string())?;
    let [certificate] = &certificates[..] else { return Err("there is more than one certificate in the file".into()) };
    let deviations = Profile::Root.deviations(certificate, None).map_err(|error| error.to_string())?;
    if let Some(first) = deviations.first() {
        return Err(format!("it is not a root certificate of yandro: {first}"));
    }
    let facts = Facts::read(certificate).map_err(|error| error.to_string())?;
    if !facts.subject.contains(&format!("Yandro local authority of {user}@")) {
        return Err(format!("it was made for another user: {}", facts.subject));
    }
    let usual = Constraints::default();
    let wider = facts.constraints.suffixes.iter().find(|suffix| !usual.suffixes.contains(suffix));
    if let Some(suffix) = wider {
        return Err(format!("it may speak for names below `{suffix}`, which other users of this computer may rely on"));
    }
    if let Some((base, bits)) = facts.constraints.networks.iter().find(|network| !usual.networks.contains(network)) {
        return Err(format!("it may speak for addresses in {base}/{bits}, not only for this computer's own"));
    }
    encode_string("CERTIFICATE", LineEnding::LF, certificate).map_err(|error| error.to_string())
}
