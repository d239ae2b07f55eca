//! A server's further offers within TLS, by two more handshakes.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use rustls::pki_types::CertificateDer;
use tokio::sync::OnceCell;
use yandro_core::{HostName, Offers, OtherName, Timed};

use super::manner::{Manner, OffersOf};
use super::tls::TlsTrust;

/// The server to ask, and facts from the first handshake.
pub(super) struct AskedOffers<'a> {
    pub(super) name: &'a HostName,
    pub(super) socket: SocketAddr,
    /// Whether TLS 1.3 was agreed on.
    pub(super) tls13: bool,
    /// The certificate that came.
    pub(super) leaf: Option<CertificateDer<'static>>,
}

/// A port, and the name if each name is asked.
type Whose = (SocketAddr, Option<HostName>);
type OfferAnswer = (Timed<Offers>, Timed<OtherName>);

/// Known offers: each server is asked once.
#[derive(Debug, Default)]
pub(super) struct KnownOffers(Mutex<BTreeMap<Whose, Arc<OnceCell<OfferAnswer>>>>);

impl KnownOffers {
    /// The further offers, if they are asked for.
    pub(super) async fn of(&self, asked: AskedOffers<'_>, trust: &TlsTrust, manner: Manner) -> Option<OfferAnswer> {
        let name = match manner.offers {
            OffersOf::None => return None,
            OffersOf::Ports => None,
            OffersOf::Names => Some(asked.name.clone()),
        };
        let cell = {
            let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            all.entry((asked.socket, name)).or_default().clone()
        };
        let ask = async {
            let AskedOffers { name, socket, tls13, leaf } = asked;
            let started = Instant::now();
            let (tls12, protocol) = trust.older(name, socket, manner.within).await;
            let offers = Timed { took: started.elapsed(), seen: Offers { tls12: tls12 || !tls13, tls13, protocol } };
            let started = Instant::now();
            let seen = trust.another_name(socket, leaf.as_ref(), manner.within).await;
            (offers, Timed { took: started.elapsed(), seen })
        };
        Some(cell.get_or_init(|| ask).await.clone())
    }
}
