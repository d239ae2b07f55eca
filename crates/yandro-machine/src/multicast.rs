//! A name below `local` that other devices of the network find by multicast DNS (RFC 6762).

use std::net::IpAddr;
use std::time::{Duration, Instant};

use mdns_sd::{DaemonEvent, IfKind, ServiceDaemon, ServiceInfo};

/// How long announcing takes at most: three probes, a quarter of a second apart, and the announcement.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long the goodbye may take.
const GOODBYE: Duration = Duration::from_millis(800);
/// A service of TLS on TCP, so that programs that list services show it.
const KIND: &str = "_https._tcp.local.";

/// A name that is announced, until it is dropped: then it is taken back.
pub struct Announced {
    daemon: ServiceDaemon,
    service: String,
}

/// A name that can't be announced.
#[derive(Debug, thiserror::Error)]
pub enum AnnounceError {
    /// Another device of the network has it.
    #[error("another device of the network is called {0}")]
    Taken(String),
    /// The sockets of multicast DNS can't be had, or the network takes none.
    #[error("multicast DNS doesn't work here: {0}")]
    System(String),
}

impl From<mdns_sd::Error> for AnnounceError {
    fn from(error: mdns_sd::Error) -> Self {
        Self::System(error.to_string())
    }
}

impl Announced {
    /// Announces a name such as `saltmarsh.local` for an address of this computer, only in the network of that address.
    /// Returns once nobody objected.
    ///
    /// # Errors
    /// When another device has the name, or multicast DNS doesn't work.
    pub fn new(name: &str, address: IpAddr, port: u16) -> Result<Self, AnnounceError> {
        let daemon = ServiceDaemon::new()?;
        daemon.disable_interface(IfKind::All)?;
        daemon.enable_interface(IfKind::Addr(address))?;
        let label = name.split('.').next().unwrap_or(name);
        let info = ServiceInfo::new(KIND, label, &format!("{name}."), address, port, &[("path", "/")][..])?;
        let announced = Self { service: info.get_fullname().to_owned(), daemon };
        let events = announced.daemon.monitor()?;
        announced.daemon.register(info)?;
        let began = Instant::now();
        loop {
            let left = PATIENCE.checked_sub(began.elapsed()).unwrap_or_default();
            match events.recv_timeout(left) {
                Ok(DaemonEvent::Announce(..)) => return Ok(announced),
                Ok(DaemonEvent::NameChange(change)) if change.original.starts_with(name) => {
                    return Err(AnnounceError::Taken(name.to_owned()));
                }
                Ok(DaemonEvent::Error(error)) => return Err(error.into()),
                Ok(_) => {}
                Err(_) => return Err(AnnounceError::System("no interface of that network takes it".to_owned())),
            }
        }
    }
}

impl Drop for Announced {
    fn drop(&mut self) {
        if let Ok(done) = self.daemon.unregister(&self.service) {
            // Devices forget the name by themselves if they don't hear it.
            _ = done.recv_timeout(GOODBYE);
        }
        if let Ok(done) = self.daemon.shutdown() {
            _ = done.recv_timeout(GOODBYE);
        }
    }
}

impl std::fmt::Debug for Announced {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Announced").field(&self.service).finish()
    }
}
