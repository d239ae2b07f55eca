//! A small DNS responder on loopback for the names below sites: it answers for these alone, asks nobody else, and
//! refuses the rest, so that whoever asked goes on to the next server.

mod answer;

use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, RwLock};
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

pub use answer::TenantNames;

/// Questions a second that are answered over UDP; more wait in the system's queue, which drops what it can't hold.
const RATE: u32 = 50_000;
/// Connections at once (RFC 7766 section 6.2.2), and how long one may be idle.
const CONNECTIONS: usize = 32;
const IDLE: Duration = Duration::from_secs(5);

/// A responder that has its sockets and doesn't answer yet.
#[derive(Debug)]
pub struct Responder {
    udp: UdpSocket,
    tcp: TcpListener,
}

/// A handle on a responder that answers, until it is dropped.
#[derive(Debug)]
pub struct Responding {
    names: Shared,
    _tasks: JoinSet<()>,
}

type Shared = Arc<RwLock<Arc<TenantNames>>>;

impl Responder {
    /// Listens at an address over UDP and TCP.
    ///
    /// # Errors
    /// When it is not to be had.
    pub async fn bind(address: SocketAddr) -> io::Result<Self> {
        let named = |error: io::Error| io::Error::new(error.kind(), format!("{address}: {error}"));
        let udp = UdpSocket::bind(address).await.map_err(named)?;
        let tcp = TcpListener::bind(address).await.map_err(named)?;
        Ok(Self { udp, tcp })
    }

    /// Answers for these names.
    pub fn start(self, names: TenantNames) -> Responding {
        let names: Shared = Arc::new(RwLock::new(Arc::new(names)));
        let mut tasks = JoinSet::new();
        tasks.spawn(over_udp(self.udp, names.clone()));
        tasks.spawn(over_tcp(self.tcp, names.clone()));
        Responding { names, _tasks: tasks }
    }
}

impl Responding {
    /// Answers for these names from now on.
    pub fn exchange(&self, names: TenantNames) {
        *self.names.write().expect("no holder panics") = Arc::new(names);
    }
}

fn current(names: &Shared) -> Arc<TenantNames> {
    names.read().expect("no holder panics").clone()
}

/// How many questions are answered within the present second.
struct Quota {
    since: Instant,
    left: u32,
}

impl Quota {
    fn new() -> Self {
        Self { since: Instant::now(), left: RATE }
    }

    /// Takes one of the present second, or of the next: then gives how long to wait for it.
    fn take(&mut self) -> Duration {
        let past = self.since.elapsed();
        if past >= Duration::from_secs(1) {
            *self = Self::new();
        }
        if self.left > 0 {
            self.left -= 1;
            return Duration::ZERO;
        }
        let wait = Duration::from_secs(1).saturating_sub(past);
        *self = Self { since: Instant::now() + wait, left: RATE - 1 };
        wait
    }
}

async fn over_udp(socket: UdpSocket, names: Shared) {
    let (mut message, mut quota) = (vec![0; 4096], Quota::new());
    loop {
        // An asker that is gone shows as an error of the next receipt on some systems.
        let Ok((length, asker)) = socket.recv_from(&mut message).await else { continue };
        let wait = quota.take();
        if !wait.is_zero() {
            tokio::time::sleep(wait).await;
        }
        if let Some(reply) = current(&names).answer(&message[..length], false) {
            _ = socket.send_to(&reply, asker).await;
        }
    }
}

async fn over_tcp(listener: TcpListener, names: Shared) {
    let places = Arc::new(Semaphore::new(CONNECTIONS));
    loop {
        let place = places.clone().acquire_owned().await.expect("the semaphore is never closed");
        match listener.accept().await {
            Ok((stream, _)) => {
                let names = names.clone();
                tokio::spawn(async move {
                    _ = converse(stream, &names).await;
                    drop(place);
                });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
}

/// Each message has its length before it (RFC 1035 section 4.2.2).
async fn converse(mut stream: TcpStream, names: &Shared) -> io::Result<()> {
    loop {
        let reply = tokio::time::timeout(IDLE, async {
            let length = stream.read_u16().await?;
            let mut message = vec![0; usize::from(length)];
            stream.read_exact(&mut message).await?;
            Ok::<_, io::Error>(current(names).answer(&message, true))
        });
        let Some(reply) = reply.await?? else { return Ok(()) };
        let length = u16::try_from(reply.len()).map_err(io::Error::other)?;
        let whole = [&length.to_be_bytes()[..], &reply].concat();
        tokio::time::timeout(IDLE, stream.write_all(&whole)).await??;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_many_are_answered_in_a_second_as_the_rate_says() {
        // A second that doesn't begin.
        let mut quota = Quota { since: Instant::now() + Duration::from_secs(3600), left: RATE };
        let waits: Vec<Duration> = (0..=2 * RATE).map(|_| quota.take()).collect();
        let long: Vec<usize> = (0..waits.len()).filter(|at| !waits[*at].is_zero()).collect();
        assert_eq!(long, [RATE as usize, 2 * RATE as usize]);
        assert!(waits.iter().all(|wait| *wait <= Duration::from_secs(1)), "{waits:?}");
    }
}
