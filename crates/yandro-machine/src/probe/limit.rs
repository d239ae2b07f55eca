//! How long a probe waits.

use std::net::SocketAddr;
use std::time::Duration;

use tokio::net::TcpStream;
use yandro_core::{Failure, FailureKind};

use super::io_failure;

/// How long a probe waits for any one answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limit(Duration);

impl Default for Limit {
    /// Five seconds.
    fn default() -> Self {
        Self::seconds(5)
    }
}

impl Limit {
    /// So many seconds.
    pub const fn seconds(seconds: u16) -> Self {
        Self(Duration::from_secs(seconds as u64))
    }

    /// The result, if it comes in time.
    pub(super) async fn of<T>(self, answer: impl Future<Output = T>) -> Result<T, Failure> {
        tokio::time::timeout(self.0, answer).await.map_err(|_| self.passed())
    }

    /// A connection in time.
    pub(super) async fn connect(self, address: SocketAddr) -> Result<TcpStream, Failure> {
        let stream = self.of(TcpStream::connect(address)).await?.map_err(|error| io_failure(&error))?;
        // Small requests must not wait for one another.
        _ = stream.set_nodelay(true);
        Ok(stream)
    }

    fn passed(self) -> Failure {
        let seconds = self.0.as_secs();
        let words = format!("no answer within {seconds} second{}", if seconds == 1 { "" } else { "s" });
        Failure { kind: FailureKind::TimedOut, words }
    }
}
