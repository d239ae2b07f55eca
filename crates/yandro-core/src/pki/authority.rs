//! The authority: a root, an issuing certificate below it, and the leaves.

use core::net::IpAddr;

use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyIdMethod,
    KeyUsagePurpose, PublicKeyData, SanType, SerialNumber,
};
use rustls_pki_types::CertificateDer;
use time::OffsetDateTime;

use super::{
    AUTHORITY_DAYS, Constraints, Facts, Key, LONGEST_DAYS, PkiError, Serial, SigningRequest, date, not_after,
    not_before, objections,
};
use crate::name::HostName;

/// What a new authority is made from.
#[derive(Debug)]
pub struct NewAuthority<'a> {
    /// Whose it is, `user@machine`: free text for the subject.
    pub owner: &'a str,
    /// The present time.
    pub now: OffsetDateTime,
    /// What it may vouch for.
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
/// [`PkiError::Sign`] when the signature can't be made.
#[allow(clippy::needless_pass_by_value, reason = "the root's key has to be gone at the end")]
pub fn create_authority(new: NewAuthority<'_>) -> Result<AuthorityCertificates, PkiError> {
    let start = not_before(new.now);
    let params = |label: &str, serial: Serial, path_length: u8| {
        let mut params = CertificateParams::default();
        params.serial_number = Some(SerialNumber::from_slice(&serial.0));
        params.not_before = start;
        params.not_after = not_after(start, AUTHORITY_DAYS);
        params.distinguished_name = DistinguishedName::new();
        params.distinguished_name.push(DnType::OrganizationName, format!("Yandro local authority of {}", new.owner));
        params
            .distinguished_name
            .push(DnType::CommonName, format!("Yandro {label} for {}, {}", new.owner, date(new.now)));
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(path_length));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.name_constraints = Some(new.constraints.to_extension());
        params.key_identifier_method = KeyIdMethod::Sha256;
        params
    };
    let root_params = params("root", new.serials[0], 1);
    let root = root_params.self_signed(&new.root_key.0).map_err(sign)?;
    let mut issuing_params = params("issuing certificate", new.serials[1], 0);
    issuing_params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    issuing_params.use_authority_key_identifier_extension = true;
    let issuer = Issuer::from_params(&root_params, &new.root_key.0);
    let issuing = issuing_params.signed_by(&new.issuing_key.0, &issuer).map_err(sign)?;
    Ok(AuthorityCertificates { root: root.pem(), issuing: issuing.pem() })
}

/// An authority as read from its two certificates.
#[derive(Clone, Debug)]
pub struct Authority {
    root: CertificateDer<'static>,
    issuing: CertificateDer<'static>,
    pub(super) issuing_pem: String,
    /// What the root says of itself.
    pub root_facts: Facts,
    /// What the issuing certificate says of itself.
    pub issuing_facts: Facts,
}

/// What a leaf is to say.
#[derive(Clone, Debug)]
pub struct LeafRequest<'a> {
    /// The names that it covers.
    pub names: &'a [HostName],
    /// The names of which it covers all those that have one label more (`*.` of them).
    pub wildcards: &'a [HostName],
    /// The addresses that it covers.
    pub addresses: &'a [IpAddr],
    /// How many days it is valid.
    pub days: i64,
    /// The present time.
    pub now: OffsetDateTime,
    /// Its serial number.
    pub serial: Serial,
}

impl Authority {
    /// Reads an authority from PEM.
    ///
    /// # Errors
    /// [`PkiError::Certificate`] when one of the texts is no certificate.
    pub fn read(certificates: &AuthorityCertificates) -> Result<Self, PkiError> {
        let root = Facts::certificates(certificates.root.as_bytes())?.remove(0);
        let issuing = Facts::certificates(certificates.issuing.as_bytes())?.remove(0);
        Ok(Self {
            root_facts: Facts::read(&root)?,
            issuing_facts: Facts::read(&issuing)?,
            issuing_pem: certificates.issuing.clone(),
            root,
            issuing,
        })
    }

    /// The root's DER.
    pub fn root(&self) -> &CertificateDer<'static> {
        &self.root
    }

    /// What it may vouch for, as its issuing certificate says.
    pub fn constraints(&self) -> &Constraints {
        &self.issuing_facts.constraints
    }

    /// Whether it may vouch for all of these names.
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
        self.issue_for(issuing_key, request, &key.0)
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
        let SigningRequest { names, wildcards, addresses, key } = asked;
        self.issue_for(issuing_key, &LeafRequest { names, wildcards, addresses, days, now, serial }, key)
    }

    fn issue_for(
        &self,
        issuing_key: &Key,
        request: &LeafRequest<'_>,
        key: &impl PublicKeyData,
    ) -> Result<String, PkiError> {
        if request.names.is_empty() && request.wildcards.is_empty() && request.addresses.is_empty() {
            return Err(PkiError::Nameless);
        }
        if !(1..=LONGEST_DAYS).contains(&request.days) {
            return Err(PkiError::Days(request.days));
        }
        self.permits(request.names)?;
        self.permits(request.wildcards)?;
        if let Some(name) = request.wildcards.iter().find(|name| !name.as_str().contains('.')) {
            return Err(PkiError::WideWildcard(name.to_string()));
        }
        if let Some(address) = request.addresses.iter().find(|&&address| !self.constraints().permits_address(address)) {
            return Err(PkiError::AddressOutside {
                address: address.to_string(),
                permitted: self.constraints().networks_in_words(),
            });
        }
        let leaf = self.sign_leaf(issuing_key, request, key)?;
        // What leaves here is judged as anybody else's would be.
        let found = objections(&[leaf.der().clone(), self.issuing.clone()], request.now)?;
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
        let end = not_after(start, request.days).min(self.issuing_facts.not_after);
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
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.use_authority_key_identifier_extension = true;
        params.key_identifier_method = KeyIdMethod::Sha256;
        let names = request.names.iter().map(|name| {
            let text = name.as_str().try_into().map_err(|_| PkiError::Sign(format!("`{name}` is no ASCII name")))?;
            Ok(SanType::DnsName(text))
        });
        let wildcards = request.wildcards.iter().map(|name| {
            let text = format!("*.{name}").try_into();
            text.map(SanType::DnsName).map_err(|_| PkiError::Sign(format!("`{name}` is no ASCII name")))
        });
        let addresses = request.addresses.iter().map(|&address| Ok(SanType::IpAddress(address)));
        params.subject_alt_names = names.chain(wildcards).chain(addresses).collect::<Result<_, PkiError>>()?;
        let issuer = Issuer::from_ca_cert_der(&self.issuing, &issuing_key.0).map_err(sign)?;
        params.signed_by(key, &issuer).map_err(sign)
    }

    /// Whether the chain in `facts` is one that this authority would issue for
    /// `names` now: it names just these, this authority signed it, and more than `within` days of
    /// it are left.
    pub fn is_current(&self, facts: &Facts, names: &[HostName], now: OffsetDateTime, within: i64) -> bool {
        let covered = |name: &HostName| facts.names.iter().any(|own| own == name.as_str());
        facts.names.len() == names.len()
            && names.iter().all(covered)
            && facts.authority_key == self.issuing_facts.subject_key
            && facts.days_left(now) > within
    }
}

#[allow(clippy::needless_pass_by_value, reason = "the shape that map_err takes")]
fn sign(error: rcgen::Error) -> PkiError {
    PkiError::Sign(error.to_string())
}
