//! The authority: a root, an issuing certificate below it, and the leaves.

use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyIdMethod,
    KeyUsagePurpose, PKCS_RSA_SHA256, PKCS_RSA_SHA384, PKCS_RSA_SHA512, PublicKeyData, SanType, SerialNumber,
    SubjectPublicKeyInfo,
};
use rustls_pki_types::CertificateDer;
use time::OffsetDateTime;

use super::lint::objections_to;
use super::{
    AUTHORITY_DAYS, CertificateFacts, Constraints, Key, LONGEST_DAYS, Leaf, LeafRequest, PkiError, Profile, RENEW_DAYS,
    Serial, SigningRequest, date, due_days, not_after, not_before,
};
use crate::name::HostName;

/// The input of a new authority.
#[derive(Debug)]
pub struct NewAuthority<'a> {
    /// Its owner, `user@machine`: free text for the subject.
    pub owner: &'a str,
    /// The present time.
    pub now: OffsetDateTime,
    /// The names and networks that it can issue for.
    pub constraints: &'a Constraints,
    /// A fresh key for the root. Taken by value and gone at the end: nothing can sign with it again.
    pub root_key: Key,
    /// A fresh key for the issuing certificate.
    pub issuing_key: &'a Key,
    /// Serial numbers of the root and the issuing certificate.
    pub serials: [Serial; 2],
}

/// The two certificates of an authority in PEM.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AuthorityCertificates {
    /// The root, which goes into trust stores.
    pub root: String,
    /// The issuing certificate, which servers send behind the leaf.
    pub issuing: String,
}

/// Makes a root and an issuing certificate with the same critical constraints.
///
/// # Errors
/// [`PkiError::Sign`] when the signature can't be made, [`PkiError::Profile`] when what was made is
/// not as its profile has it.
#[allow(clippy::needless_pass_by_value, reason = "the root's key has to be gone at the end")]
pub fn create_authority(new: NewAuthority<'_>) -> Result<AuthorityCertificates, PkiError> {
    let start = not_before(new.now);
    // Two authorities of one day differ in more than their keys.
    let number = format!("{:02x}{:02x}", new.serials[0].0[1], new.serials[0].0[2]);
    let params = |label: &str, serial: Serial, path_length: u8| {
        let mut params = CertificateParams::default();
        params.serial_number = Some(SerialNumber::from_slice(&serial.0));
        params.not_before = start;
        params.not_after = not_after(start, AUTHORITY_DAYS);
        params.distinguished_name = DistinguishedName::new();
        params.distinguished_name.push(DnType::OrganizationName, format!("Yandro local authority of {}", new.owner));
        params
            .distinguished_name
            .push(DnType::CommonName, format!("Yandro {label} for {}, {} {number}", new.owner, date(new.now)));
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(path_length));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.name_constraints = Some(new.constraints.to_extension());
        params.key_identifier_method = KeyIdMethod::Sha256;
        params
    };
    let root_params = params("root", new.serials[0], 1);
    let root = root_params.self_signed(&new.root_key.pair).map_err(sign)?;
    let mut issuing_params = params("issuing certificate", new.serials[1], 0);
    issuing_params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    issuing_params.use_authority_key_identifier_extension = true;
    let issuer = Issuer::from_params(&root_params, &new.root_key.pair);
    let issuing = issuing_params.signed_by(&new.issuing_key.pair, &issuer).map_err(sign)?;
    let root_facts = CertificateFacts::read(root.der())?;
    none_of(Profile::Root.deviations(root.der(), None)?)?;
    none_of(Profile::Issuing.deviations(issuing.der(), Some(&root_facts))?)?;
    Ok(AuthorityCertificates { root: root.pem(), issuing: issuing.pem() })
}

/// An authority as read from its two certificates.
#[derive(Clone, Debug)]
pub struct Authority {
    root: CertificateDer<'static>,
    issuing: CertificateDer<'static>,
    pub(super) issuing_pem: String,
    /// The root's content.
    pub root_facts: CertificateFacts,
    /// The issuing certificate's content.
    pub issuing_facts: CertificateFacts,
}

impl Authority {
    /// Reads an authority from PEM.
    ///
    /// # Errors
    /// [`PkiError::Certificate`] when one of the texts is not a certificate.
    pub fn read(certificates: &AuthorityCertificates) -> Result<Self, PkiError> {
        let root = CertificateFacts::certificates(certificates.root.as_bytes())?.remove(0);
        let issuing = CertificateFacts::certificates(certificates.issuing.as_bytes())?.remove(0);
        Ok(Self {
            root_facts: CertificateFacts::read(&root)?,
            issuing_facts: CertificateFacts::read(&issuing)?,
            issuing_pem: certificates.issuing.clone(),
            root,
            issuing,
        })
    }

    /// Its title for people: the common name of its root.
    pub fn title(&self) -> &str {
        let subject = &self.root_facts.subject;
        subject.split_once("CN=").map_or(subject, |(_, name)| name)
    }

    /// The root's DER.
    pub fn root(&self) -> &CertificateDer<'static> {
        &self.root
    }

    /// The names and networks that it can issue for, from its issuing certificate.
    pub fn constraints(&self) -> &Constraints {
        &self.issuing_facts.constraints
    }

    /// Whether it can issue for all of these names.
    ///
    /// # Errors
    /// [`PkiError::NameOutside`] with the first name that is outside.
    pub fn permits(&self, names: &[HostName]) -> Result<(), PkiError> {
        match names.iter().find(|name| !self.constraints().permits_name(name)) {
            Some(name) => {
                Err(PkiError::NameOutside { name: name.to_string(), permitted: self.constraints().suffixes_in_words() })
            }
            None => Ok(()),
        }
    }

    /// Issues a leaf for `key`: the full chain in PEM, leaf first, as servers take it.
    ///
    /// # Errors
    /// When nothing is named, something is outside the constraints, or the
    /// authority itself is about to end.
    pub fn issue(&self, issuing_key: &Key, request: &LeafRequest<'_>, key: &Key) -> Result<String, PkiError> {
        self.issue_for(issuing_key, request, &key.pair)
    }

    /// Issues a leaf for the key of a signing request, under the same policy: the full chain in PEM.
    ///
    /// # Errors
    /// As [`Self::issue`].
    pub fn sign(
        &self,
        issuing_key: &Key,
        asked: &SigningRequest,
        days: i64,
        now: OffsetDateTime,
        serial: Serial,
    ) -> Result<String, PkiError> {
        let leaf = &Leaf { days, ..asked.leaf.clone() };
        self.issue_for(issuing_key, &LeafRequest { leaf, now, serial }, &asked.key)
    }

    /// Issues what a certificate says once more, for the same key: the full chain in PEM. What was
    /// issued to somebody else is renewed without their key this way.
    ///
    /// # Errors
    /// As [`Self::issue`], and when the certificate can't be read.
    pub fn issue_again(
        &self,
        issuing_key: &Key,
        old: &CertificateDer<'_>,
        now: OffsetDateTime,
        serial: Serial,
    ) -> Result<String, PkiError> {
        let fault = |words: String| PkiError::Certificate(words);
        let facts = CertificateFacts::read(old)?;
        let leaf = &Leaf::of(&facts).ok_or_else(|| fault("it has a name that is not a host name".into()))?;
        let key = SubjectPublicKeyInfo::from_der(&facts.public_key).map_err(|error| fault(error.to_string()))?;
        self.issue_for(issuing_key, &LeafRequest { leaf, now, serial }, &key)
    }

    fn issue_for(
        &self,
        issuing_key: &Key,
        request: &LeafRequest<'_>,
        key: &impl PublicKeyData,
    ) -> Result<String, PkiError> {
        let asked = request.leaf;
        if asked.names.is_empty() && asked.wildcards.is_empty() && asked.addresses.is_empty() {
            return Err(PkiError::Nameless);
        }
        if !(1..=LONGEST_DAYS).contains(&asked.days) {
            return Err(PkiError::Days(asked.days));
        }
        self.permits(&asked.names)?;
        self.permits(&asked.wildcards)?;
        if let Some(name) = asked.wildcards.iter().find(|name| !name.as_str().contains('.')) {
            return Err(PkiError::WideWildcard(name.to_string()));
        }
        if let Some(address) = asked.addresses.iter().find(|&&address| !self.constraints().permits_address(address)) {
            return Err(PkiError::AddressOutside {
                address: address.to_string(),
                permitted: self.constraints().networks_in_words(),
            });
        }
        let leaf = self.sign_leaf(issuing_key, request, key)?;
        let certificate = CertificateFacts::parsed(leaf.der())?;
        let (facts, issuer) = (CertificateFacts::of(&certificate), Some(&self.issuing_facts));
        none_of(Profile::Leaf.deviations_of(&certificate, &facts, issuer))?;
        // Issued certificates are checked like anybody else's.
        let found = objections_to(&certificate, &facts, issuer, request.now);
        if let Some(objection) = found.into_iter().find(|objection| objection.is_refused) {
            return Err(PkiError::Objection(objection.words));
        }
        Ok(leaf.pem() + &self.issuing_pem)
    }

    /// A leaf of the profile, whatever it names.
    pub(super) fn sign_leaf(
        &self,
        issuing_key: &Key,
        request: &LeafRequest<'_>,
        key: &impl PublicKeyData,
    ) -> Result<rcgen::Certificate, PkiError> {
        let start = not_before(request.now).max(self.issuing_facts.not_before);
        let end = not_after(start, request.leaf.days).min(self.issuing_facts.not_after);
        if end <= request.now {
            return Err(PkiError::AuthorityEnds { end: date(self.issuing_facts.not_after) });
        }
        let mut params = CertificateParams::default();
        params.serial_number = Some(SerialNumber::from_slice(&request.serial.0));
        params.not_before = start;
        params.not_after = end;
        // No common name: under constraints, some clients match a name or an
        // address there against them and refuse.
        params.distinguished_name = DistinguishedName::new();
        params.distinguished_name.push(DnType::OrganizationName, "Yandro local certificate");
        params.is_ca = IsCa::ExplicitNoCa;
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        if [&PKCS_RSA_SHA256, &PKCS_RSA_SHA384, &PKCS_RSA_SHA512].contains(&key.algorithm()) {
            params.key_usages.push(KeyUsagePurpose::KeyEncipherment);
        }
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.use_authority_key_identifier_extension = true;
        params.key_identifier_method = KeyIdMethod::Sha256;
        let names = request.leaf.written().map(|name| {
            let text = name.as_str().try_into().map_err(|_| PkiError::Sign(format!("`{name}` is no ASCII name")))?;
            Ok(SanType::DnsName(text))
        });
        let addresses = request.leaf.addresses.iter().map(|&address| Ok(SanType::IpAddress(address)));
        params.subject_alt_names = names.chain(addresses).collect::<Result<_, PkiError>>()?;
        let issuer = Issuer::from_ca_cert_der(&self.issuing, &issuing_key.pair).map_err(sign)?;
        params.signed_by(key, &issuer).map_err(sign)
    }

    /// Whether the chain in `facts` is one that this authority would issue for `leaf` now: it says
    /// just that, this authority signed it, and more than `within` days of it are left. Of a short
    /// one the usual time is the last third, so that it isn't renewed each day; a longer time than
    /// the usual is one that somebody asked for.
    pub fn is_current(&self, facts: &CertificateFacts, leaf: &Leaf, now: OffsetDateTime, within: i64) -> bool {
        let names: Vec<String> = leaf.written().collect();
        let within = if within > RENEW_DAYS { within } else { within.min(due_days(leaf.days)) };
        let has_days = facts.days() == leaf.days || facts.not_after == self.issuing_facts.not_after;
        facts.names.len() == names.len()
            && names.iter().all(|name| facts.names.contains(name))
            && facts.addresses.len() == leaf.addresses.len()
            && leaf.addresses.iter().all(|address| facts.addresses.contains(address))
            && facts.authority_key == self.issuing_facts.subject_key
            && has_days
            && facts.days_left(now) > within
    }
}

/// The first deviation from a profile is an error.
fn none_of(deviations: Vec<String>) -> Result<(), PkiError> {
    deviations.into_iter().next().map_or(Ok(()), |words| Err(PkiError::Profile(words)))
}

#[allow(clippy::needless_pass_by_value, reason = "the shape that map_err takes")]
fn sign(error: rcgen::Error) -> PkiError {
    PkiError::Sign(error.to_string())
}
