//! Certificates as they lie in files, or are served.

use std::sync::Arc;

use camino::Utf8Path;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::CertifiedKey;
use yandro_core::{CertificateFacts, HostName, PkiError};

use crate::files::{self, FileError};
use crate::probe;

/// Why a certificate can't be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CertificateError {
    /// There is no such file.
    #[error("no such file: `{0}`")]
    Missing(camino::Utf8PathBuf),
    /// The file can't be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// It holds no certificate.
    #[error("{path}: {error}")]
    Content {
        /// The file.
        path: camino::Utf8PathBuf,
        /// The fault.
        error: PkiError,
    },
    /// It is not served.
    #[error("{name}:{port} shows no certificate: {source}")]
    NotServed {
        /// The name that was asked for.
        name: HostName,
        /// The port that was connected to.
        port: u16,
        /// Why.
        source: probe::NotShown,
    },
}

/// The certificates of a file, in PEM or DER; the first is the one that counts.
///
/// # Errors
/// When there is no such file, or none in it.
pub fn of_file(path: &Utf8Path) -> Result<Vec<CertificateDer<'static>>, CertificateError> {
    let bytes = files::read_if_there(path)?.ok_or_else(|| CertificateError::Missing(path.to_owned()))?;
    // DER begins with a sequence, and PEM with a letter or a hyphen.
    if bytes.first() == Some(&0x30) {
        return Ok(vec![CertificateDer::from(bytes)]);
    }
    CertificateFacts::certificates(&bytes).map_err(|error| CertificateError::Content { path: path.to_owned(), error })
}

/// The certificates that a server shows for a name, whatever they are worth.
///
/// # Errors
/// When nothing answers there, or nothing that speaks TLS.
pub async fn served(name: &HostName, port: u16) -> Result<Vec<CertificateDer<'static>>, CertificateError> {
    probe::shown(name, port).await.map_err(|source| CertificateError::NotServed { name: name.clone(), port, source })
}

/// Whether a key in PEM is the one that the first of these certificates is for; `None` if it can't
/// be read.
pub fn is_key_of(chain: &[CertificateDer<'static>], key: &[u8]) -> Option<bool> {
    let key = PrivateKeyDer::from_pem_slice(key).ok()?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    match CertifiedKey::from_der(chain.to_vec(), key, &provider) {
        Ok(_) => Some(true),
        Err(rustls::Error::InconsistentKeys(_)) => Some(false),
        Err(_) => None,
    }
}
