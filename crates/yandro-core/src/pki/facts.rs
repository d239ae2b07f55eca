//! Reading certificates.

use core::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use time::{Duration, OffsetDateTime};
use x509_parser::prelude::{FromDer, GeneralName, ParsedExtension, SubjectPublicKeyInfo, X509Certificate};
use x509_parser::public_key::PublicKey;

use super::{Constraints, KeyKind, PkiError};
use crate::name::HostName;
use crate::network::IpNet;

/// Content of a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateFacts {
    /// The subject, as one line.
    pub subject: String,
    /// The issuer, as one line.
    pub issuer: String,
    /// The DNS names of the subject alternative names.
    pub names: Vec<String>,
    /// The addresses of the subject alternative names.
    pub addresses: Vec<IpAddr>,
    /// Valid from then on.
    pub not_before: OffsetDateTime,
    /// Valid until then.
    pub not_after: OffsetDateTime,
    /// Subject key identifier; empty if there is none.
    pub subject_key: Vec<u8>,
    /// Authority key identifier; empty if there is none.
    pub authority_key: Vec<u8>,
    /// Permitted names and networks; empty if there are none.
    pub constraints: Constraints,
    /// The kind of its key, if that is one of those that yandro makes.
    pub key: Option<KeyKind>,
    /// Its public key: `SubjectPublicKeyInfo` in DER (RFC 5280 section 4.1.2.7).
    pub public_key: Vec<u8>,
}

impl CertificateFacts {
    /// All certificates of a PEM text, in order; at least one.
    ///
    /// # Errors
    /// [`PkiError::Certificate`] when the text is no PEM or holds no certificate.
    pub fn certificates(pem: &[u8]) -> Result<Vec<CertificateDer<'static>>, PkiError> {
        let all: Vec<_> = CertificateDer::pem_slice_iter(pem)
            .collect::<Result<_, _>>()
            .map_err(|error| PkiError::Certificate(error.to_string()))?;
        if all.is_empty() {
            return Err(PkiError::Certificate("there is none in the file".into()));
        }
        Ok(all)
    }

    /// Reads one certificate in DER.
    ///
    /// # Errors
    /// [`PkiError::Certificate`] when the bytes are none.
    pub fn read(der: &[u8]) -> Result<Self, PkiError> {
        Ok(Self::of(&Self::parsed(der)?))
    }

    /// Parses a certificate in DER.
    pub(super) fn parsed(der: &[u8]) -> Result<X509Certificate<'_>, PkiError> {
        let parsed = X509Certificate::from_der(der).map_err(|error| PkiError::Certificate(error.to_string()))?;
        Ok(parsed.1)
    }

    /// Content of a certificate that is already parsed.
    pub(super) fn of(certificate: &X509Certificate<'_>) -> Self {
        let mut facts = Self {
            subject: certificate.subject().to_string(),
            issuer: certificate.issuer().to_string(),
            names: Vec::new(),
            addresses: Vec::new(),
            not_before: certificate.validity().not_before.to_datetime(),
            not_after: certificate.validity().not_after.to_datetime(),
            subject_key: Vec::new(),
            authority_key: Vec::new(),
            constraints: Constraints { suffixes: Vec::new(), networks: Vec::new() },
            key: kind(certificate.public_key()),
            public_key: certificate.public_key().raw.to_vec(),
        };
        for extension in certificate.extensions() {
            facts.take(extension.parsed_extension());
        }
        facts
    }

    fn take(&mut self, extension: &ParsedExtension<'_>) {
        match extension {
            ParsedExtension::SubjectAlternativeName(san) => {
                for name in &san.general_names {
                    match name {
                        GeneralName::DNSName(name) => self.names.push(name.to_ascii_lowercase()),
                        GeneralName::IPAddress(bytes) => self.addresses.extend(address(bytes)),
                        _ => {}
                    }
                }
            }
            ParsedExtension::SubjectKeyIdentifier(id) => self.subject_key = id.0.to_vec(),
            ParsedExtension::AuthorityKeyIdentifier(id) => {
                self.authority_key = id.key_identifier.as_ref().map(|id| id.0.to_vec()).unwrap_or_default();
            }
            ParsedExtension::NameConstraints(constraints) => {
                for subtree in constraints.permitted_subtrees.iter().flatten() {
                    match subtree.base {
                        GeneralName::DNSName(suffix) => self.constraints.suffixes.push(suffix.to_owned()),
                        GeneralName::IPAddress(bytes) => self.constraints.networks.extend(network(bytes)),
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }

    /// Whole days until the end; negative when it is past.
    pub fn days_left(&self, now: OffsetDateTime) -> i64 {
        (self.not_after - now).whole_days() - i64::from(self.not_after < now)
    }

    /// For how many days it is valid, both ends counted.
    pub fn days(&self) -> i64 {
        (self.not_after - self.not_before + Duration::seconds(1)).whole_days()
    }

    /// Whether `name` is covered, by itself or by a wildcard for one label (RFC 6125 section 6.4.3).
    pub fn covers(&self, name: &HostName) -> bool {
        let parent = name.as_str().split_once('.').map(|(_, parent)| parent);
        self.names
            .iter()
            .any(|own| own == name.as_str() || own.strip_prefix("*.").is_some_and(|own| Some(own) == parent))
    }
}

fn kind(key: &SubjectPublicKeyInfo<'_>) -> Option<KeyKind> {
    match key.parsed().ok()? {
        PublicKey::EC(point) if point.key_size() == 256 => Some(KeyKind::P256),
        PublicKey::EC(point) if point.key_size() == 384 => Some(KeyKind::P384),
        PublicKey::RSA(rsa) if rsa.key_size() == 3072 => Some(KeyKind::Rsa3072),
        _ => None,
    }
}

fn address(bytes: &[u8]) -> Option<IpAddr> {
    if let Ok(v4) = <[u8; 4]>::try_from(bytes) {
        return Some(Ipv4Addr::from(v4).into());
    }
    <[u8; 16]>::try_from(bytes).ok().map(|v6| Ipv6Addr::from(v6).into())
}

/// Address and mask, side by side (RFC 5280 section 4.2.1.10).
fn network(bytes: &[u8]) -> Option<IpNet> {
    let (base, mask) = bytes.split_at(bytes.len() / 2);
    let bits = mask.iter().map(|byte| byte.count_ones()).sum::<u32>();
    IpNet::new(address(base)?, u8::try_from(bits).ok()?).ok()
}
