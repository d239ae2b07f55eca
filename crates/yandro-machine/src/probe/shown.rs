//! The certificates that a server shows, whatever they are worth.

use tokio_rustls::rustls::pki_types::CertificateDer;
use yandro_core::{Failure, FailureKind, HostName};

use super::limit::Limit;
use super::tls;

/// Why no certificate is shown.
#[derive(Debug, thiserror::Error)]
pub enum NotShown {
    /// The name isn't found.
    #[error("{}", crate::files::words(.0))]
    Unresolved(#[from] std::io::Error),
    /// The name has no address.
    #[error("it has no address")]
    NoAddress,
    /// The server speaks plain HTTP.
    #[error("plain HTTP is spoken there")]
    PlainHttp,
    /// Nothing answers, or the handshake fails.
    #[error("{}", .0.words)]
    Failed(Failure),
}

/// The certificates that are shown for a name at a port, whatever they are worth.
pub(crate) async fn shown(name: &HostName, port: u16) -> Result<Vec<CertificateDer<'static>>, NotShown> {
    let addresses = tokio::net::lookup_host((name.as_str(), port)).await?;
    let mut last = NotShown::NoAddress;
    let within = Limit::default();
    for address in addresses {
        let stream = match within.connect(address).await {
            Ok(stream) => stream,
            Err(failure) => {
                last = NotShown::Failed(failure);
                continue;
            }
        };
        return match tls::TlsTrust::new(None).handshake(name.as_str(), stream, None, within).await {
            Ok((_, stream)) => Ok(stream.get_ref().1.peer_certificates().unwrap_or_default().to_vec()),
            Err(failure) if failure.kind == FailureKind::PlainHttp => Err(NotShown::PlainHttp),
            Err(failure) => Err(NotShown::Failed(failure)),
        };
    }
    Err(last)
}
