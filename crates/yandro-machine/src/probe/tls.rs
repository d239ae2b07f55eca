//! The TLS handshake, and what an independent validator says of the chain.

use std::sync::{Arc, Mutex};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use yandro_core::check::{Chain, Connection, Failure, FailureKind, Verdict};
use yandro_core::name::HostName;
use yandro_core::pki::{Authority, Facts};

use super::{TIMEOUT, io_failure, timed_out};

/// The authority as the only anchor.
#[derive(Debug)]
pub(super) struct Trust {
    provider: Arc<CryptoProvider>,
    verifier: Option<Arc<WebPkiServerVerifier>>,
}

impl Trust {
    pub(super) fn new(authority: Option<&Authority>) -> Self {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let verifier = authority.and_then(|authority| {
            let mut roots = RootCertStore::empty();
            roots.add(authority.root().clone()).ok()?;
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone()).build().ok()
        });
        Self { provider, verifier }
    }

    /// Shakes hands for `name`, whatever the certificate; the verdict on it is in the result.
    pub(super) async fn handshake(
        &self,
        name: &HostName,
        stream: TcpStream,
        chain_on_disk: Option<&[u8]>,
    ) -> Result<(Connection, TlsStream<TcpStream>), Failure> {
        let other = |words: String| Failure { kind: FailureKind::Other, words };
        let server_name = ServerName::try_from(name.as_str().to_owned()).map_err(|error| other(error.to_string()))?;
        let witness = Arc::new(Witness {
            provider: self.provider.clone(),
            verifier: self.verifier.clone(),
            verdict: Mutex::new(None),
        });
        let mut config = ClientConfig::builder_with_provider(self.provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(|error| other(error.to_string()))?
            .dangerous()
            .with_custom_certificate_verifier(witness.clone())
            .with_no_client_auth();
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        let connecting = TlsConnector::from(Arc::new(config)).connect(server_name, stream);
        let stream = match tokio::time::timeout(TIMEOUT, connecting).await {
            Ok(Ok(stream)) => stream,
            Ok(Err(error)) => return Err(tls_failure(&error)),
            Err(_) => return Err(timed_out()),
        };
        let session = stream.get_ref().1;
        let leaf = session.peer_certificates().and_then(<[_]>::first);
        let on_disk = chain_on_disk.and_then(|pem| Facts::certificates(pem).ok());
        let verdict = witness.verdict.lock().expect("no holder panics").take();
        let chain = Chain {
            leaf: leaf.and_then(|leaf| Facts::read(leaf).ok()),
            is_on_disk: on_disk.is_none_or(|chain| chain.first() == leaf),
            verdict: verdict.unwrap_or(Verdict::NoAuthority),
        };
        let version = match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3".to_owned(),
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".to_owned(),
            other => format!("{other:?}"),
        };
        Ok((Connection { version, chain }, stream))
    }
}

fn tls_failure(error: &std::io::Error) -> Failure {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
        // What comes back is no TLS record at all.
        Some(Error::InvalidMessage(rustls::InvalidMessage::InvalidContentType)) => {
            Failure { kind: FailureKind::PlainHttp, words: error.to_string() }
        }
        _ => io_failure(error),
    }
}

/// Lets every certificate pass and keeps the verdict on it: a check has to see more
/// than the first fault. Handshake signatures are verified all the same.
#[derive(Debug)]
struct Witness {
    provider: Arc<CryptoProvider>,
    verifier: Option<Arc<WebPkiServerVerifier>>,
    verdict: Mutex<Option<Verdict>>,
}

impl ServerCertVerifier for Witness {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let verdict = match &self.verifier {
            None => Verdict::NoAuthority,
            Some(verifier) => {
                match verifier.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now) {
                    Ok(_) => Verdict::Trusted,
                    Err(Error::InvalidCertificate(error)) => verdict_of(&error),
                    Err(error) => Verdict::Other(error.to_string()),
                }
            }
        };
        *self.verdict.lock().expect("no holder panics") = Some(verdict);
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

fn verdict_of(error: &CertificateError) -> Verdict {
    match error {
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => Verdict::Name,
        CertificateError::Expired
        | CertificateError::ExpiredContext { .. }
        | CertificateError::NotValidYet
        | CertificateError::NotValidYetContext { .. } => Verdict::Time,
        CertificateError::UnknownIssuer | CertificateError::BadSignature => Verdict::UnknownIssuer,
        other if format!("{other:?}").contains("NameConstraintViolation") => Verdict::Constraints,
        other => Verdict::Other(other.to_string()),
    }
}
