//! Certificate signing requests (PKCS#10, RFC 2986): what they ask for, and with which key.

use rcgen::{CertificateSigningRequestParams, PublicKey, SanType};
use rustls_pki_types::CertificateSigningRequestDer;
use rustls_pki_types::pem::PemObject as _;
use x509_parser::certification_request::X509CertificationRequest;
use x509_parser::prelude::FromDer as _;

use super::lint::unusable_key;
use super::{LEAF_DAYS, Leaf, PkiError};
use crate::name::HostName;

/// A request with a valid signature of its key. Only the names in it count: the rest of
/// the certificate is as the profile has it.
pub struct SigningRequest {
    /// The names and addresses; how long is not for the request to say.
    pub leaf: Leaf,
    pub(super) key: PublicKey,
}

impl SigningRequest {
    /// Reads a request in PEM.
    ///
    /// # Errors
    /// [`PkiError::Request`] for what is none, whose key browsers don't take, whose signature is wrong, or that asks for
    /// something else than host names and addresses.
    pub fn from_pem(pem: &str) -> Result<Self, PkiError> {
        let fault = |words: String| PkiError::Request(words);
        let der = CertificateSigningRequestDer::from_pem_slice(pem.as_bytes());
        let der = der.map_err(|error| fault(error.to_string()))?;
        let (_, request) = X509CertificationRequest::from_der(&der).map_err(|error| fault(error.to_string()))?;
        if let Some((_, words)) = unusable_key(&request.certification_request_info.subject_pki) {
            return Err(fault(words));
        }
        let read = CertificateSigningRequestParams::from_pem(pem).map_err(|error| fault(error.to_string()))?;
        let (mut names, mut wildcards, mut addresses) = (Vec::new(), Vec::new(), Vec::new());
        for asked in &read.params.subject_alt_names {
            match asked {
                SanType::DnsName(text) => {
                    let text = text.as_str();
                    let (list, bare) = match text.strip_prefix("*.") {
                        Some(rest) => (&mut wildcards, rest),
                        None => (&mut names, text),
                    };
                    list.push(HostName::parse(bare).map_err(|error| fault(error.to_string()))?);
                }
                SanType::IpAddress(address) => addresses.push(*address),
                _ => return Err(fault("it asks for more than host names and addresses".into())),
            }
        }
        Ok(Self { leaf: Leaf { names, wildcards, addresses, days: LEAF_DAYS }, key: read.public_key })
    }
}

impl std::fmt::Debug for SigningRequest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SigningRequest").field("leaf", &self.leaf).finish_non_exhaustive()
    }
}
