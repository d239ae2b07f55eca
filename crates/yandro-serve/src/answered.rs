//! Requests that were answered, for a log of them.

use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use hyper::body::{Body, Bytes, Frame, SizeHint};
use hyper::header::{HeaderName, REFERER, USER_AGENT};
use hyper::{Request, Version};

use crate::respond::host;

/// A request whose answer was sent, or was cut off by the client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answered {
    /// The host that it was for, without its port.
    pub host: String,
    /// The client.
    pub client: IpAddr,
    /// Method, target and version, as in its first line (RFC 9112 section 3).
    pub request: String,
    /// The status of the answer.
    pub status: u16,
    /// How many bytes of the answer's content were sent.
    pub bytes: u64,
    /// The page that led there, if the client says so.
    pub referer: Option<String>,
    /// The client's name for itself.
    pub agent: Option<String>,
    /// From the request's headers to the last byte of the answer.
    pub took: Duration,
}

/// Is given each request once it is answered. It must not wait: it runs where requests are answered.
pub type OnAnswered = Arc<dyn Fn(Answered) + Send + Sync>;

/// A request that is being answered; it is reported when this is dropped.
pub(crate) struct Reported {
    answered: Answered,
    began: Instant,
    report: OnAnswered,
}

impl Reported {
    /// Begins with a request.
    pub(crate) fn begin<B>(report: &OnAnswered, client: IpAddr, request: &Request<B>) -> Self {
        let field = |name: HeaderName| {
            request.headers().get(name).map(|value| String::from_utf8_lossy(value.as_bytes()).into_owned())
        };
        let target = request.uri().path_and_query().map_or("*", |target| target.as_str());
        let version = if request.version() == Version::HTTP_2 {
            "HTTP/2.0".to_owned()
        } else {
            format!("{:?}", request.version())
        };
        let answered = Answered {
            host: host(request).unwrap_or_default().to_owned(),
            client,
            request: format!("{} {target} {version}", request.method()),
            status: 0,
            bytes: 0,
            referer: field(REFERER),
            agent: field(USER_AGENT),
            took: Duration::ZERO,
        };
        Self { answered, began: Instant::now(), report: Arc::clone(report) }
    }

    pub(crate) fn with_status(mut self, status: u16) -> Self {
        self.answered.status = status;
        self
    }
}

impl Drop for Reported {
    fn drop(&mut self) {
        self.answered.took = self.began.elapsed();
        (self.report)(self.answered.clone());
    }
}

/// A body whose bytes are counted for a report.
pub(crate) struct Measured<B> {
    pub(crate) body: B,
    pub(crate) reported: Option<Reported>,
}

impl<B: Body<Data = Bytes> + Unpin> Body for Measured<B> {
    type Data = Bytes;
    type Error = B::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Self::Error>>> {
        let polled = Pin::new(&mut self.body).poll_frame(context);
        if let (Poll::Ready(Some(Ok(frame))), Some(reported)) = (&polled, &mut self.reported)
            && let Some(data) = frame.data_ref()
        {
            reported.answered.bytes += data.len() as u64;
        }
        polled
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}
