//! TLS by SNI.

use std::sync::{Arc, RwLock};

use rustls::ServerConfig;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

use crate::sites::Sites;

/// The sites of the moment: exchanged whole when the site list changes.
pub(crate) type Current = Arc<RwLock<Arc<Sites>>>;

pub(crate) fn current(sites: &Current) -> Arc<Sites> {
    sites.read().expect("no holder panics").clone()
}

/// The certificate of the site that the client names; an unknown host name gets
/// no handshake, so that no certificate is ever shown for the wrong name.
struct BySni(Current);

impl std::fmt::Debug for BySni {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("BySni")
    }
}

impl ResolvesServerCert for BySni {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        current(&self.0).get(hello.server_name()?)?.key.clone()
    }
}

/// TLS 1.2 and 1.3 with HTTP/2 and HTTP/1.1 by ALPN (RFC 7301).
pub(crate) fn config(sites: Current) -> ServerConfig {
    let mut config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .expect("the provider has the default versions")
        .with_no_client_auth()
        .with_cert_resolver(Arc::new(BySni(sites)));
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    config
}
