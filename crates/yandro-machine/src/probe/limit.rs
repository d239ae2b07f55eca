//! How long a probe waits.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use tokio::net::TcpStream;
use yandro_core::{Failure, FailureKind};

use super::io_failure;

/// How long a probe waits for any one answer, and until when for all of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limit {
    each: Duration,
    until: Option<Instant>,
}

/// How many times as long all answers of a site may take together as one of them.
const ALL: u32 = 2;

impl Default for Limit {
    /// Five seconds.
    fn default() -> Self {
        Self::seconds(5)
    }
}

impl Limit {
    /// So many seconds.
    pub const fn seconds(seconds: u16) -> Self {
        Self { each: Duration::from_secs(seconds as u64), until: None }
    }

    /// The same, and twice as long from now on for all answers together.
    pub(super) fn for_all(self) -> Self {
        Self { until: Some(Instant::now() + self.each * ALL), ..self }
    }

    /// How long the next answer may take.
    fn left(self) -> Duration {
        let left = self.until.map(|until| until.saturating_duration_since(Instant::now()));
        left.map_or(self.each, |left| left.min(self.each))
    }

    /// The result, if it comes in time.
    pub(super) async fn of<T>(self, answer: impl Future<Output = T>) -> Result<T, Failure> {
        let left = self.left();
        tokio::time::timeout(left, answer).await.map_err(|_| passed(left))
    }

    /// A connection in time.
    pub(super) async fn connect(self, address: SocketAddr) -> Result<TcpStream, Failure> {
        let stream = self.of(TcpStream::connect(address)).await?.map_err(|error| io_failure(&error))?;
        // Small requests must not wait for one another.
        _ = stream.set_nodelay(true);
        Ok(stream)
    }
}

fn passed(limit: Duration) -> Failure {
    let seconds = limit.as_secs();
    let words = format!("no answer within {seconds} second{}", if seconds == 1 { "" } else { "s" });
    Failure { kind: FailureKind::TimedOut, words }
}
