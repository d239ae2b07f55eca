//! The three profiles, and what in a certificate is not as its profile has it.
//!
//! A library's default that changes, or a field that is forgotten, shows here and not in somebody's
//! browser: everything that is signed is read back and held against this before it leaves.

use time::Duration;
use x509_parser::oid_registry::{
    OID_EC_P256, OID_SIG_ECDSA_WITH_SHA256, OID_X509_EXT_AUTHORITY_KEY_IDENTIFIER, OID_X509_EXT_BASIC_CONSTRAINTS,
    OID_X509_EXT_EXTENDED_KEY_USAGE, OID_X509_EXT_KEY_USAGE, OID_X509_EXT_NAME_CONSTRAINTS,
    OID_X509_EXT_SUBJECT_ALT_NAME, OID_X509_EXT_SUBJECT_KEY_IDENTIFIER, Oid,
};
use x509_parser::prelude::{GeneralName, X509Certificate, X509Version};

use super::lint::is_rsa;
use super::{AUTHORITY_DAYS, CertificateFacts, LONGEST_DAYS, PkiError};
use crate::name::HostName;

/// Purpose of a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Profile {
    /// Trusted by trust stores.
    Root,
    /// Signs leaves.
    Issuing,
    /// Sent by servers.
    Leaf,
}

/// Bits of a key's usage (RFC 5280 section 4.2.1.3), the first one lowest.
const DIGITAL_SIGNATURE: u16 = 1;
const KEY_ENCIPHERMENT: u16 = 1 << 2;
const CERTIFICATES_AND_LISTS: u16 = 1 << 5 | 1 << 6;
/// Octets of a serial number: 128 bits.
const SERIAL: usize = 16;

impl Profile {
    /// The extensions that it has, and whether each is critical. No other is to be there.
    fn extensions(self) -> Vec<(Oid<'static>, bool, &'static str)> {
        let mut all = vec![
            (OID_X509_EXT_BASIC_CONSTRAINTS, true, "basic constraints"),
            (OID_X509_EXT_KEY_USAGE, true, "key usage"),
            (OID_X509_EXT_SUBJECT_KEY_IDENTIFIER, false, "subject key identifier"),
        ];
        if self != Self::Root {
            all.push((OID_X509_EXT_EXTENDED_KEY_USAGE, false, "extended key usage"));
            all.push((OID_X509_EXT_AUTHORITY_KEY_IDENTIFIER, false, "authority key identifier"));
        }
        all.push(match self {
            Self::Leaf => (OID_X509_EXT_SUBJECT_ALT_NAME, false, "subject alternative names"),
            _ => (OID_X509_EXT_NAME_CONSTRAINTS, true, "name constraints"),
        });
        all
    }

    fn path_length(self) -> Option<u32> {
        match self {
            Self::Root => Some(1),
            Self::Issuing => Some(0),
            Self::Leaf => None,
        }
    }

    fn longest(self) -> i64 {
        if self == Self::Leaf { LONGEST_DAYS } else { AUTHORITY_DAYS }
    }

    /// The deviations of `certificate`, in DER, from this profile, each in a sentence; empty without
    /// any. `issuer` is the one above it; a root has none.
    ///
    /// # Errors
    /// [`PkiError::Certificate`] when it can't be read.
    pub fn deviations(self, certificate: &[u8], issuer: Option<&CertificateFacts>) -> Result<Vec<String>, PkiError> {
        let certificate = CertificateFacts::parsed(certificate)?;
        Ok(self.deviations_of(&certificate, &CertificateFacts::of(&certificate), issuer))
    }

    /// The same of one that is parsed already.
    pub(super) fn deviations_of(
        self,
        certificate: &X509Certificate<'_>,
        facts: &CertificateFacts,
        issuer: Option<&CertificateFacts>,
    ) -> Vec<String> {
        let mut found = HeldExtension { profile: self, certificate, facts, found: Vec::new() };
        found.form();
        found.subject();
        found.extensions();
        found.usage();
        found.constraints();
        found.time(issuer);
        found.issuer(issuer);
        found.found
    }
}

/// A certificate that is held against its profile.
struct HeldExtension<'c> {
    profile: Profile,
    certificate: &'c X509Certificate<'c>,
    facts: &'c CertificateFacts,
    found: Vec<String>,
}

impl HeldExtension<'_> {
    fn unless(&mut self, is_right: bool, words: impl Into<String>) {
        if !is_right {
            self.found.push(words.into());
        }
    }

    /// Version, serial number, signature, key.
    fn form(&mut self) {
        let certificate = self.certificate;
        self.unless(certificate.version() == X509Version::V3, "its version is not 3");
        let serial = certificate.raw_serial();
        let is_positive = serial.first().is_some_and(|first| (1..0x80).contains(first));
        self.unless(serial.len() == SERIAL && is_positive, "its serial number is not positive and of 128 bits");
        let is_sha256 = certificate.signature_algorithm.algorithm == OID_SIG_ECDSA_WITH_SHA256;
        self.unless(is_sha256, "it is not signed with ECDSA and SHA-256");
        if self.profile != Profile::Leaf {
            let parameters = certificate.public_key().algorithm.parameters.as_ref();
            let is_p256 = parameters.and_then(|own| own.as_oid().ok()).is_some_and(|curve| curve == OID_EC_P256);
            self.unless(is_p256, "its key is not on P-256");
        }
    }

    /// Free text that can't be taken for a host name: clients match what looks like one against the constraints.
    fn subject(&mut self) {
        let subject = self.certificate.subject();
        let commons: Vec<&str> = subject.iter_common_name().filter_map(|name| name.as_str().ok()).collect();
        let has_organisation = subject.iter_organization().next().is_some();
        self.unless(has_organisation, "its subject names no organisation");
        if self.profile == Profile::Leaf {
            self.unless(commons.is_empty(), "a leaf has no common name");
        } else {
            let is_text = |name: &&str| HostName::parse(name).is_err() && name.contains(' ');
            self.unless(commons.len() == 1 && commons.iter().all(is_text), "its common name is not free text");
        }
    }

    /// The extensions of the profile, each once, and no others.
    fn extensions(&mut self) {
        let wanted = self.profile.extensions();
        let certificate = self.certificate;
        for (oid, is_critical, title) in &wanted {
            let mut own = certificate.extensions().iter().filter(|own| own.oid == *oid);
            match (own.next(), own.next()) {
                (None, _) => self.found.push(format!("it has no {title}")),
                (Some(_), Some(_)) => self.found.push(format!("it has more than one extension for {title}")),
                (Some(own), None) if own.critical != *is_critical => {
                    let not = if *is_critical { "not critical" } else { "critical" };
                    self.found.push(format!("its {title} are {not}"));
                }
                (Some(_), None) => {}
            }
        }
        for own in certificate.extensions() {
            let is_wanted = wanted.iter().any(|(oid, ..)| own.oid == *oid);
            self.unless(is_wanted, format!("it has an extension that its profile hasn't: {}", own.oid));
        }
    }

    fn usage(&mut self) {
        let certificate = self.certificate;
        let basic = certificate.basic_constraints().ok().flatten().map(|own| own.value);
        let length = self.profile.path_length();
        let is_as_wanted = basic.is_some_and(|own| own.ca == length.is_some() && own.path_len_constraint == length);
        self.unless(is_as_wanted, "its basic constraints are not those of its profile");
        let wanted = match length {
            Some(_) => CERTIFICATES_AND_LISTS,
            // NSS asks it of RSA keys, whatever the version of TLS.
            None if is_rsa(certificate.public_key()) => DIGITAL_SIGNATURE | KEY_ENCIPHERMENT,
            None => DIGITAL_SIGNATURE,
        };
        let usage = certificate.key_usage().ok().flatten().map(|own| own.value.flags);
        self.unless(usage == Some(wanted), "its key usage is not that of its profile");
        let extended = certificate.extended_key_usage().ok().flatten().map(|own| own.value);
        let is_for_servers = extended.is_none_or(|own| {
            let others = [own.any, own.client_auth, own.code_signing, own.email_protection, own.time_stamping];
            own.server_auth && !own.ocsp_signing && !others.contains(&true) && own.other.is_empty()
        });
        self.unless(is_for_servers, "its extended key usage is not only for servers");
    }

    /// Only permitted names and networks. Any other form makes some client
    /// refuse everything, and so does a leading dot.
    fn constraints(&mut self) {
        if self.profile == Profile::Leaf {
            return;
        }
        let certificate = self.certificate;
        let Some(constraints) = certificate.name_constraints().ok().flatten().map(|own| own.value) else { return };
        self.unless(constraints.excluded_subtrees.is_none(), "its name constraints exclude something");
        let permitted = constraints.permitted_subtrees.iter().flatten().map(|own| &own.base);
        let (mut names, mut networks) = (0, 0);
        for base in permitted {
            match base {
                GeneralName::DNSName(suffix) => {
                    names += 1;
                    self.unless(is_suffix(suffix), format!("it permits `{suffix}`, which is not a name"));
                }
                GeneralName::IPAddress(bytes) => {
                    networks += 1;
                    self.unless(matches!(bytes.len(), 8 | 32), "it permits a network that is none");
                }
                _ => self.found.push("it permits something that is neither name nor network".into()),
            }
        }
        self.unless(names > 0, "it permits no names");
        self.unless(networks > 0, "it permits no networks, and so every one");
    }

    fn time(&mut self, issuer: Option<&CertificateFacts>) {
        let (from, to) = (self.facts.not_before, self.facts.not_after);
        let longest = self.profile.longest();
        let is_short = from < to && to - from < Duration::days(longest);
        self.unless(is_short, format!("it is valid for more than {longest} days, or for none"));
        let is_within = issuer.is_none_or(|issuer| issuer.not_before <= from && to <= issuer.not_after);
        self.unless(is_within, "it is valid at a time when its issuer isn't");
    }

    fn issuer(&mut self, issuer: Option<&CertificateFacts>) {
        let facts = self.facts;
        let Some(issuer) = issuer else {
            self.unless(facts.issuer == facts.subject, "a root is its own issuer");
            let is_own = self.profile != Profile::Root || self.certificate.verify_signature(None).is_ok();
            self.unless(is_own, "it is not signed with its own key");
            return;
        };
        let is_issuers = facts.issuer == issuer.subject && facts.issuer != facts.subject;
        self.unless(is_issuers, "its issuer's name is not that of the one above it");
        let has_key = !facts.authority_key.is_empty() && facts.authority_key == issuer.subject_key;
        self.unless(has_key, "its authority key identifier is not the key of the one above it");
        if self.profile == Profile::Leaf {
            self.unless(!facts.names.is_empty() || !facts.addresses.is_empty(), "it names nothing");
            self.unless(facts.names.iter().all(|name| is_host_name(name)), "it has a name that is not a host name");
        } else {
            let is_same = facts.constraints == issuer.constraints;
            self.unless(is_same, "its constraints are not those of the root");
        }
    }
}

fn is_host_name(name: &str) -> bool {
    let bare = name.strip_prefix("*.").unwrap_or(name);
    HostName::parse(bare).is_ok_and(|own| own.as_str() == bare)
}

/// Whole labels, lower case; a dot at its beginning would leave the suffix itself out.
fn is_suffix(suffix: &str) -> bool {
    let is_of_label = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    suffix.split('.').all(|label| !label.is_empty() && label.bytes().all(is_of_label))
}

#[cfg(test)]
mod tests {
    use rcgen::{
        BasicConstraints, CertificateParams, CertifiedIssuer, CustomExtension, DnType, ExtendedKeyUsagePurpose,
        GeneralSubtree, IsCa, KeyPair, KeyUsagePurpose, PKCS_ECDSA_P384_SHA384, SanType, SerialNumber,
    };
    use time::OffsetDateTime;
    use time::macros::datetime;

    use super::super::Constraints;
    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-11-23 08:00 UTC);

    type Change<'c> = &'c dyn Fn(&mut CertificateParams);

    fn params(profile: Profile) -> CertificateParams {
        let mut params = CertificateParams::default();
        params.serial_number = Some(SerialNumber::from_slice(&[0x41; SERIAL]));
        (params.not_before, params.not_after) = (NOW, NOW + Duration::days(300));
        params.distinguished_name = rcgen::DistinguishedName::new();
        params.distinguished_name.push(DnType::OrganizationName, "Saltmarsh Ferries");
        params.use_authority_key_identifier_extension = profile != Profile::Root;
        if let Some(length) = profile.path_length() {
            params.distinguished_name.push(DnType::CommonName, format!("Saltmarsh {profile:?}"));
            params.is_ca = IsCa::Ca(BasicConstraints::Constrained(u8::try_from(length).unwrap()));
            params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
            params.name_constraints = Some(Constraints::default().to_extension());
        } else {
            params.is_ca = IsCa::ExplicitNoCa;
            params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
            params.subject_alt_names = vec![SanType::DnsName("saltmarsh.test".try_into().unwrap())];
        }
        if profile != Profile::Root {
            params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        }
        params
    }

    /// Deviations of a valid certificate with one change.
    fn found(profile: Profile, change: Change<'_>) -> Vec<String> {
        let with = |own: Profile| {
            let mut params = params(own);
            if own == profile {
                change(&mut params);
            }
            params
        };
        let root = CertifiedIssuer::self_signed(with(Profile::Root), KeyPair::generate().unwrap()).unwrap();
        let facts = CertificateFacts::read(root.der()).unwrap();
        let issuing = CertifiedIssuer::signed_by(with(Profile::Issuing), KeyPair::generate().unwrap(), &root).unwrap();
        let issuing_facts = CertificateFacts::read(issuing.der()).unwrap();
        match profile {
            Profile::Root => profile.deviations(root.der(), None),
            Profile::Issuing => profile.deviations(issuing.der(), Some(&facts)),
            Profile::Leaf => {
                let leaf = with(Profile::Leaf).signed_by(&KeyPair::generate().unwrap(), &issuing).unwrap();
                profile.deviations(leaf.der(), Some(&issuing_facts))
            }
        }
        .unwrap()
    }

    #[test]
    fn valid_certificates_match_their_profile() {
        for profile in [Profile::Root, Profile::Issuing, Profile::Leaf] {
            assert_eq!(found(profile, &|_| {}), [""; 0], "{profile:?}");
        }
        assert!(Profile::Root.deviations(&[0x30, 1], None).is_err());
    }

    #[test]
    fn each_deviation_is_found() {
        let constraints = |change: &'static dyn Fn(&mut rcgen::NameConstraints)| {
            move |params: &mut CertificateParams| change(params.name_constraints.as_mut().unwrap())
        };
        let dotted = constraints(&|own| own.permitted_subtrees.push(GeneralSubtree::DnsName(".test".into())));
        let excluding = constraints(&|own| own.excluded_subtrees.push(GeneralSubtree::DnsName("bank.test".into())));
        let everywhere =
            constraints(&|own| own.permitted_subtrees.retain(|own| matches!(own, GeneralSubtree::DnsName(_))));
        let mail = constraints(&|own| own.permitted_subtrees.push(GeneralSubtree::Rfc822Name("test".into())));
        let narrower = constraints(&|own| drop(own.permitted_subtrees.remove(0)));
        let more = |params: &mut CertificateParams| {
            params.custom_extensions.push(CustomExtension::from_oid_content(&[1, 3, 6, 1, 4, 1, 99999], vec![5, 0]));
        };
        let (root, issuing, leaf) = (Profile::Root, Profile::Issuing, Profile::Leaf);
        let cases: &[(Profile, Change<'_>, &str)] = &[
            (root, &|own| own.serial_number = Some(SerialNumber::from_slice(&[0x41; 8])), "serial number"),
            (root, &|own| own.is_ca = IsCa::Ca(BasicConstraints::Unconstrained), "basic constraints"),
            (root, &|own| own.not_after = NOW + Duration::days(AUTHORITY_DAYS + 1), "more than 3650 days"),
            (root, &|own| own.name_constraints = None, "no name constraints"),
            (root, &dotted, "`.test`"),
            (root, &excluding, "exclude"),
            (root, &everywhere, "every one"),
            (root, &mail, "neither name nor network"),
            (root, &|own| own.key_usages.truncate(1), "key usage"),
            (root, &|own| own.distinguished_name.push(DnType::CommonName, "saltmarsh.test"), "free text"),
            (root, &|own| own.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth], "hasn't: 2.5.29.37"),
            (issuing, &narrower, "not those of the root"),
            (issuing, &|own| own.extended_key_usages.clear(), "no extended key usage"),
            (issuing, &|own| own.extended_key_usages.push(ExtendedKeyUsagePurpose::ClientAuth), "not only for servers"),
            (issuing, &|own| own.not_after = NOW + Duration::days(301), "when its issuer isn't"),
            (issuing, &|own| own.use_authority_key_identifier_extension = false, "no authority key identifier"),
            (leaf, &|own| own.is_ca = IsCa::NoCa, "no basic constraints"),
            (leaf, &|own| own.distinguished_name.push(DnType::CommonName, "saltmarsh.test"), "no common name"),
            (leaf, &|own| own.key_usages.push(KeyUsagePurpose::KeyEncipherment), "key usage"),
            (leaf, &|own| own.subject_alt_names.clear(), "no subject alternative names"),
            (leaf, &more, "hasn't: 1.3.6.1.4.1.99999"),
        ];
        for (profile, change, words) in cases {
            let found = found(*profile, *change);
            assert!(found.iter().any(|own| own.contains(words)), "{profile:?}, {words}: {found:?}");
        }
        let other = KeyPair::generate_for(&PKCS_ECDSA_P384_SHA384).unwrap();
        let other = params(root).self_signed(&other).unwrap();
        assert!(root.deviations(other.der(), None).unwrap().iter().any(|own| own.contains("P-256")));
    }
}
