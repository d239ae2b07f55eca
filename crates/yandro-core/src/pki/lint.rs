//! Objections of clients to a certificate, whoever issued it.
//!
//! The rules are those of RFC 5280 and RFC 6125 as real clients were measured to keep them.

use std::collections::BTreeSet;

use rustls_pki_types::CertificateDer;
use time::OffsetDateTime;
use x509_parser::oid_registry::{
    OID_EC_P256, OID_HASH_SHA1, OID_KEY_TYPE_EC_PUBLIC_KEY, OID_NIST_EC_P384, OID_PKCS1_MD5WITHRSAENC,
    OID_PKCS1_RSAENCRYPTION, OID_PKCS1_SHA1WITHRSA, OID_SIG_ED25519,
};
use x509_parser::prelude::{X509Certificate, X509Version};
use x509_parser::x509::SubjectPublicKeyInfo;

use super::{CertificateFacts, LONGEST_DAYS, PkiError, date, due_days};
use crate::name::HostName;

/// ECDSA with SHA-1 (RFC 3279 section 2.2.3).
const ECDSA_WITH_SHA1: &str = "1.2.840.10045.4.1";

/// Something that a client objects to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Objection {
    /// A stable word for it.
    pub code: &'static str,
    /// Whether it stops browsers, or is only worth knowing.
    pub is_refused: bool,
    /// The objection, in a sentence.
    pub words: String,
}

/// Objections of clients to a chain, leaf first, at a time. Without any, every client that trusts
/// its root accepts it.
///
/// # Errors
/// [`PkiError::Certificate`] when one of them can't be read.
pub fn objections(chain: &[CertificateDer<'_>], now: OffsetDateTime) -> Result<Vec<Objection>, PkiError> {
    let Some((leaf, above)) = chain.split_first() else { return Ok(Vec::new()) };
    let certificate = CertificateFacts::parsed(leaf)?;
    let issuer = above.first().map(|issuer| CertificateFacts::read(issuer)).transpose()?;
    Ok(objections_to(&certificate, &CertificateFacts::of(&certificate), issuer.as_ref(), now))
}

/// Why browsers don't take a key, if they don't: a code and a sentence.
pub(super) fn unusable_key(key: &SubjectPublicKeyInfo<'_>) -> Option<(&'static str, String)> {
    let kind = &key.algorithm.algorithm;
    let curve = key.algorithm.parameters.as_ref().and_then(|parameters| parameters.as_oid().ok());
    if is_rsa(key) {
        let bits = key.parsed().ok().map_or(0, |key| key.key_size());
        (bits < 2048).then(|| ("weak-key", format!("its RSA key has {bits} bits: browsers take 2048 and more")))
    } else if *kind == OID_KEY_TYPE_EC_PUBLIC_KEY {
        let is_known = curve.is_some_and(|curve| curve == OID_EC_P256 || curve == OID_NIST_EC_P384);
        (!is_known)
            .then(|| ("curve", "its key is on a curve that browsers don't take: they know P-256 and P-384".into()))
    } else if *kind == OID_SIG_ED25519 {
        Some(("curve", "its key is an Ed25519 key, which browsers don't take".into()))
    } else {
        Some((
            "curve",
            "its key is of a kind that browsers don't take: they know RSA and the curves P-256 and P-384".into(),
        ))
    }
}

/// Whether a key is one of RSA (RFC 8017).
pub(super) fn is_rsa(key: &SubjectPublicKeyInfo<'_>) -> bool {
    key.algorithm.algorithm == OID_PKCS1_RSAENCRYPTION
}

/// The same of a certificate that is parsed already, and of the one behind it.
pub(super) fn objections_to(
    certificate: &X509Certificate<'_>,
    facts: &CertificateFacts,
    issuer: Option<&CertificateFacts>,
    now: OffsetDateTime,
) -> Vec<Objection> {
    let mut lint = CertificateLint { certificate, facts, now, found: Vec::new() };
    lint.names();
    lint.time();
    lint.usage();
    lint.algorithms();
    lint.chain(issuer);
    lint.found
}

struct CertificateLint<'c> {
    certificate: &'c X509Certificate<'c>,
    facts: &'c CertificateFacts,
    now: OffsetDateTime,
    found: Vec<Objection>,
}

impl CertificateLint<'_> {
    fn refused(&mut self, code: &'static str, words: impl Into<String>) {
        self.found.push(Objection { code, is_refused: true, words: words.into() });
    }

    fn told(&mut self, code: &'static str, words: impl Into<String>) {
        self.found.push(Objection { code, is_refused: false, words: words.into() });
    }

    fn names(&mut self) {
        let facts = self.facts;
        if facts.names.is_empty() && facts.addresses.is_empty() {
            let common: Vec<&str> =
                self.certificate.subject().iter_common_name().filter_map(|name| name.as_str().ok()).collect();
            let instead = match &common[..] {
                [] => String::new(),
                names => format!(": `{}` is only in its common name, which they ignore", names.join("`, `")),
            };
            self.refused(
                "no-names",
                format!("it has no subject alternative names, and browsers go by nothing else{instead}"),
            );
        }
        for name in &facts.names {
            let rest = name.strip_prefix("*.").unwrap_or(name);
            if rest.contains('*') {
                self.refused("wildcard-place", format!("`{name}`: a wildcard only counts as the whole first label"));
            } else if name.starts_with("*.") && !rest.contains('.') {
                self.refused("wildcard-width", format!("`{name}`: nobody takes a wildcard right below a suffix"));
            } else if rest.parse::<core::net::IpAddr>().is_ok() {
                self.refused(
                    "address-as-name",
                    format!("`{name}` is an address among the names: no client finds it there"),
                );
            } else if rest.contains('_') {
                self.told("underscore", format!("`{name}`: Java refuses names with an underscore"));
            } else if !rest.is_ascii() {
                self.refused("not-ascii", format!("`{name}`: names beyond ASCII are written in their `xn--` form"));
            }
        }
        let covered =
            |name: &String| name.strip_prefix("*.").is_some_and(|rest| !facts.names.iter().any(|own| own == rest));
        for name in facts.names.iter().filter(|name| covered(name)) {
            let rest = &name[2..];
            self.told("wildcard-alone", format!("`{name}` doesn't cover `{rest}` itself"));
        }
    }

    fn time(&mut self) {
        let (facts, days) = (self.facts, self.facts.days_left(self.now));
        let lasts = (facts.not_after - facts.not_before).whole_days();
        if facts.not_before > self.now {
            self.refused("not-yet", format!("it is not valid before {}", date(facts.not_before)));
        } else if facts.not_after < self.now {
            self.refused("ended", format!("it ended on {}", date(facts.not_after)));
        } else if days <= due_days(facts.days()) {
            self.told("ends-soon", format!("it ends on {}, in {days} days", date(facts.not_after)));
        }
        if lasts > LONGEST_DAYS {
            self.refused(
                "too-long",
                format!("it lasts {lasts} days: Apple's systems take no more than {LONGEST_DAYS}"),
            );
        }
    }

    fn usage(&mut self) {
        if self.certificate.version() != X509Version::V3 {
            self.refused("old-version", "its version has no extensions: browsers accept only version 3");
        }
        if self.certificate.is_ca() {
            self.refused("authority", "it is an authority's certificate, and no server's");
        }
        if let Ok(Some(usage)) = self.certificate.key_usage()
            && !usage.value.digital_signature()
        {
            self.refused("key-usage", "its key may not sign, which TLS 1.3 needs (key usage without digitalSignature)");
        }
        if let Ok(Some(usage)) = self.certificate.key_usage()
            && is_rsa(self.certificate.public_key())
            && !usage.value.key_encipherment()
        {
            self.refused(
                "key-usage",
                "its RSA key may not encipher, and Firefox refuses it for that (key usage without keyEncipherment)",
            );
        }
        if let Ok(Some(usage)) = self.certificate.extended_key_usage()
            && !usage.value.server_auth
            && !usage.value.any
        {
            self.refused("extended-key-usage", "it is not meant for servers (extended key usage without serverAuth)");
        }
    }

    fn algorithms(&mut self) {
        let signature = &self.certificate.signature_algorithm.algorithm;
        let is_sha1 = *signature == OID_PKCS1_SHA1WITHRSA
            || *signature == OID_HASH_SHA1
            || signature.to_id_string() == ECDSA_WITH_SHA1;
        if is_sha1 || *signature == OID_PKCS1_MD5WITHRSAENC {
            let hash = if is_sha1 { "SHA-1" } else { "MD5" };
            self.refused("old-hash", format!("it is signed with {hash}, which nobody takes any more"));
        }
        if let Some((code, words)) = unusable_key(self.certificate.public_key()) {
            self.refused(code, words);
        }
    }

    /// The certificate behind the leaf, as the server is to send it.
    fn chain(&mut self, issuer: Option<&CertificateFacts>) {
        let is_self_signed = self.certificate.subject().as_raw() == self.certificate.issuer().as_raw();
        if is_self_signed {
            if !self.certificate.is_ca() {
                self.refused("self-signed", "it is self-signed: no authority has signed it");
            }
            return;
        }
        let Some(issuer) = issuer else {
            self.told(
                "alone",
                "its issuer's certificate isn't sent with it: unless that is a root, every client fails",
            );
            return;
        };
        if !self.facts.authority_key.is_empty() && issuer.subject_key != self.facts.authority_key {
            self.refused("wrong-issuer", "the certificate behind it is not its issuer's");
        }
        let names: BTreeSet<&String> = self.facts.names.iter().collect();
        for name in names {
            let bare = name.strip_prefix("*.").unwrap_or(name);
            let is_permitted = HostName::parse(bare).is_ok_and(|name| issuer.constraints.permits_name(&name));
            if !issuer.constraints.suffixes.is_empty() && !is_permitted {
                let limit = issuer.constraints.suffixes_in_words();
                self.refused("outside", format!("`{name}` is outside its issuer's name constraints: {limit}"));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rcgen::{
        BasicConstraints, CertificateParams, CertifiedIssuer, DnType, ExtendedKeyUsagePurpose, IsCa, KeyPair,
        KeyUsagePurpose, PKCS_ED25519, SanType,
    };
    use time::Duration;
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-11-23 08:00 UTC);

    /// Objections to a valid leaf with one change.
    fn codes(change: impl Fn(&mut CertificateParams)) -> Vec<&'static str> {
        codes_with(&KeyPair::generate().unwrap(), change)
    }

    fn codes_with(key: &KeyPair, change: impl Fn(&mut CertificateParams)) -> Vec<&'static str> {
        let mut authority = CertificateParams::default();
        authority.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        authority.distinguished_name.push(DnType::CommonName, "Saltmarsh authority");
        authority.name_constraints =
            Some(super::super::Constraints { suffixes: vec!["test".into()], networks: Vec::new() }.to_extension());
        let issuer = CertifiedIssuer::self_signed(authority, KeyPair::generate().unwrap()).unwrap();
        let mut leaf = CertificateParams::new(vec!["saltmarsh.test".to_owned()]).unwrap();
        leaf.not_before = NOW - Duration::hours(1);
        leaf.not_after = NOW + Duration::days(397);
        leaf.use_authority_key_identifier_extension = true;
        leaf.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        leaf.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        change(&mut leaf);
        let leaf = leaf.signed_by(key, &issuer).unwrap();
        let found = objections(&[leaf.der().clone(), issuer.der().clone()], NOW).unwrap();
        found.into_iter().map(|objection| objection.code).collect()
    }

    fn names(texts: &'static [&'static str]) -> impl Fn(&mut CertificateParams) {
        move |leaf| {
            leaf.subject_alt_names = texts.iter().map(|text| SanType::DnsName((*text).try_into().unwrap())).collect();
        }
    }

    #[test]
    fn each_fault_is_found_and_a_right_one_has_none() {
        assert_eq!(codes(|_| {}), Vec::<&str>::new());
        let nameless = |leaf: &mut CertificateParams| {
            leaf.subject_alt_names.clear();
            leaf.distinguished_name.push(DnType::CommonName, "saltmarsh.test");
        };
        assert_eq!(codes(nameless), ["no-names"]);
        assert_eq!(codes(names(&["*.saltmarsh.test"])), ["wildcard-alone"]);
        assert_eq!(codes(names(&["*.saltmarsh.test", "saltmarsh.test"])), Vec::<&str>::new());
        assert_eq!(codes(names(&["*.test", "test"])), ["wildcard-width"]);
        assert_eq!(codes(names(&["a.*.test"])), ["wildcard-place", "outside"]);
        assert_eq!(codes(names(&["127.0.0.1"])), ["address-as-name", "outside"]);
        assert_eq!(codes(names(&["saltmarsh.example"])), ["outside"]);
        assert_eq!(codes(|leaf| leaf.not_before = NOW + Duration::days(1)), ["not-yet"]);
        assert_eq!(codes(|leaf| leaf.not_after = NOW - Duration::seconds(1)), ["ended"]);
        let of_days = |before: i64, after: i64| {
            codes(|leaf| {
                (leaf.not_before, leaf.not_after) = (NOW - Duration::days(before), NOW + Duration::days(after));
            })
        };
        assert_eq!((of_days(300, 29), of_days(7, 2)), (vec!["ends-soon"], vec!["ends-soon"]));
        assert_eq!((of_days(300, 31), of_days(1, 6)), (Vec::new(), Vec::new()), "of a short one its last third");
        assert_eq!(codes(|leaf| leaf.not_after = NOW + Duration::days(826)), ["too-long"]);
        assert_eq!(codes(|leaf| leaf.is_ca = IsCa::Ca(BasicConstraints::Unconstrained)), ["authority"]);
        assert_eq!(codes(|leaf| leaf.key_usages = vec![KeyUsagePurpose::KeyEncipherment]), ["key-usage"]);
        let for_clients =
            |leaf: &mut CertificateParams| leaf.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        assert_eq!(codes(for_clients), ["extended-key-usage"]);
        assert_eq!(codes_with(&KeyPair::generate_for(&PKCS_ED25519).unwrap(), |_| {}), ["curve"]);
    }

    #[test]
    fn a_chain_is_looked_at_as_it_is_sent() {
        let own = CertificateParams::new(vec!["saltmarsh.test".to_owned()]).unwrap();
        let mut own = own;
        own.not_before = NOW - Duration::hours(1);
        own.not_after = NOW + Duration::days(397);
        let own = own.self_signed(&KeyPair::generate().unwrap()).unwrap();
        let found = objections(&[own.der().clone()], NOW).unwrap();
        assert_eq!(found.iter().map(|own| own.code).collect::<Vec<_>>(), ["self-signed"]);
        assert_eq!(objections(&[], NOW), Ok(Vec::new()));
        assert!(objections(&[CertificateDer::from(vec![0x30, 3, 1, 1, 0])], NOW).is_err());
    }
}
