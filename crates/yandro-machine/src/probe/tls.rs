//! The TLS handshake, and what an independent validator says of the chain.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::version::TLS12;
use rustls::{
    ALL_VERSIONS, AlertDescription, CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore,
    SignatureScheme, SupportedProtocolVersion,
};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use yandro_core::{Authority, CertificateFacts, Chain, Connection, Failure, FailureKind, HostName, OtherName, Verdict};

use super::{Limit, io_failure, remembered};

/// As [`Connection::version`] has it.
pub(super) const TLS_1_3: &str = "TLS 1.3";
/// A name that never resolves (RFC 6761 section 6.4).
const NO_SITE: &str = "no-site.yandro.invalid";

/// HTTP/1.1 within TLS (RFC 7301).
const HTTP_1: &[u8] = b"http/1.1";
/// HTTP/2 within TLS (RFC 9113).
const HTTP_2: &[u8] = b"h2";

/// The authority as the only anchor.
#[derive(Debug)]
pub(super) struct TlsTrust {
    provider: Arc<CryptoProvider>,
    verifier: Option<Arc<WebPkiServerVerifier>>,
}

impl TlsTrust {
    pub(super) fn new(authority: Option<&Authority>) -> Self {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let verifier = authority.and_then(|authority| {
            let mut roots = RootCertStore::empty();
            roots.add(authority.root().clone()).ok()?;
            let for_chains = Arc::new(remembered::for_chains(&provider));
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), for_chains).build().ok()
        });
        Self { provider, verifier }
    }

    /// Shakes hands for `name`, whatever the certificate; the verdict on it is in the result.
    pub(super) async fn handshake(
        &self,
        name: &str,
        stream: TcpStream,
        chain_on_disk: Option<&[u8]>,
        within: Limit,
    ) -> Result<(Connection, TlsStream<TcpStream>), Failure> {
        let (stream, verdict) = self.shake(name, stream, ALL_VERSIONS, &[HTTP_1], within).await?;
        let session = stream.get_ref().1;
        let leaf = session.peer_certificates().and_then(<[_]>::first);
        let on_disk = chain_on_disk.and_then(|pem| CertificateFacts::certificates(pem).ok());
        let chain = Chain {
            leaf: leaf.and_then(|leaf| CertificateFacts::read(leaf).ok()),
            is_on_disk: on_disk.is_none_or(|chain| chain.first() == leaf),
            verdict: verdict.unwrap_or(Verdict::NoAuthority),
        };
        let version = match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => TLS_1_3.to_owned(),
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".to_owned(),
            other => format!("{other:?}"),
        };
        Ok((Connection { version, chain }, stream))
    }

    /// Whether TLS 1.2 is spoken as well, and which protocol is chosen where HTTP/2 is offered.
    pub(super) async fn older(&self, name: &HostName, socket: SocketAddr, within: Limit) -> (bool, Option<String>) {
        let shake = async |versions: &[&'static SupportedProtocolVersion]| {
            let stream = within.connect(socket).await?;
            self.shake(name.as_str(), stream, versions, &[HTTP_2, HTTP_1], within).await
        };
        if let Ok((stream, _)) = shake(&[&TLS12]).await {
            return (true, protocol(&stream));
        }
        (false, shake(ALL_VERSIONS).await.ok().and_then(|(stream, _)| protocol(&stream)))
    }

    /// The answer to a client that asks for an unknown host name. `own` is the certificate of the site.
    pub(super) async fn another_name(
        &self,
        socket: SocketAddr,
        own: Option<&CertificateDer<'static>>,
        within: Limit,
    ) -> OtherName {
        let shake = async {
            let stream = within.connect(socket).await?;
            self.shake(NO_SITE, stream, ALL_VERSIONS, &[HTTP_1], within).await
        };
        let Ok((stream, _)) = shake.await else { return OtherName::Refused };
        let leaf = stream.get_ref().1.peer_certificates().and_then(<[_]>::first);
        if leaf.is_some() && leaf == own {
            return OtherName::Own;
        }
        let facts = leaf.and_then(|leaf| CertificateFacts::read(leaf).ok());
        OtherName::Certificate(facts.map(|facts| facts.names).unwrap_or_default())
    }

    /// Shakes hands for `name`, whatever the certificate; the verdict on it comes with the stream.
    async fn shake(
        &self,
        name: &str,
        stream: TcpStream,
        versions: &[&'static SupportedProtocolVersion],
        protocols: &[&[u8]],
        within: Limit,
    ) -> Result<(TlsStream<TcpStream>, Option<Verdict>), Failure> {
        let other = |words: String| Failure { kind: FailureKind::Other, words };
        let server_name = ServerName::try_from(name.to_owned()).map_err(|error| other(error.to_string()))?;
        let witness = Arc::new(Witness {
            provider: self.provider.clone(),
            verifier: self.verifier.clone(),
            verdict: Mutex::new(None),
        });
        let mut config = ClientConfig::builder_with_provider(self.provider.clone())
            .with_protocol_versions(versions)
            .map_err(|error| other(error.to_string()))?
            .dangerous()
            .with_custom_certificate_verifier(witness.clone())
            .with_no_client_auth();
        config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
        let connecting = TlsConnector::from(Arc::new(config)).connect(server_name, stream);
        let stream = within.of(connecting).await?.map_err(|error| tls_failure(&error))?;
        let verdict = witness.verdict.lock().expect("no holder panics").take();
        Ok((stream, verdict))
    }
}

/// The protocol that was agreed on (RFC 7301).
fn protocol(stream: &TlsStream<TcpStream>) -> Option<String> {
    stream.get_ref().1.alpn_protocol().map(|protocol| String::from_utf8_lossy(protocol).into_owned())
}

fn tls_failure(error: &std::io::Error) -> Failure {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
        // The answer is not a TLS record.
        Some(Error::InvalidMessage(rustls::InvalidMessage::InvalidContentType)) => {
            Failure { kind: FailureKind::PlainHttp, words: error.to_string() }
        }
        Some(Error::AlertReceived(AlertDescription::ProtocolVersion) | Error::PeerIncompatible(_)) => {
            Failure { kind: FailureKind::TlsVersion, words: error.to_string() }
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
