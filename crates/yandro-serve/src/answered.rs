//! Requests that were answered, for a log of them.

use std::net::IpAddr;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::{Duration, Instant, SystemTime};

use hyper::body::{Body, Bytes, Frame, SizeHint};
use hyper::header::{HeaderName, REFERER, USER_AGENT};
use hyper::http::request::Parts;
use hyper::{Response, Version};

use crate::respond::host;

/// The longest text that is kept of one request's application, in bytes.
const LONGEST: usize = 64 * 1024;

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
    /// When it was answered.
    pub at: SystemTime,
    /// What the application said on the side, for its developer; mostly nothing.
    pub said: String,
}

/// Is given each request once it is answered. It must not wait: it runs where requests are answered.
pub type OnAnswered = Arc<dyn Fn(&Report) + Send + Sync>;

/// A request that was answered, in a form that costs little to make; [`Reports`] keep it for later.
#[derive(Debug)]
pub struct Report {
    /// Host, request line, referer and agent, each ended by a NUL, which none of them has. The headers of the request would
    /// keep its buffer from being used again.
    texts: String,
    began: Instant,
    rest: Rest,
}

/// What a report has besides its texts.
#[derive(Clone, Debug)]
struct Rest {
    client: IpAddr,
    status: u16,
    bytes: u64,
    took: Duration,
    at: SystemTime,
    said: Option<Said>,
}

/// Reports that were put aside, until they are read on another thread. Nothing that one thread allocated is freed by another,
/// which would make them wait for each other.
#[derive(Debug, Default)]
pub struct Reports {
    texts: String,
    rests: Vec<Rest>,
}

impl Reports {
    /// Puts one aside.
    pub fn add(&mut self, report: &Report) {
        self.texts.push_str(&report.texts);
        self.rests.push(report.rest.clone());
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.rests.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.rests.is_empty()
    }

    /// Takes them all out, in their order; the room for others stays.
    pub fn read(&mut self) -> Vec<Answered> {
        let mut texts = self.texts.split('\0').map(str::to_owned);
        let mut next = || texts.next().unwrap_or_default();
        let answered = |Rest { client, status, bytes, took, at, said }: Rest| {
            let (host, request, referer, agent) = (next(), next(), next(), next());
            let said = said.map(|said| std::mem::take(&mut *said.0.lock().unwrap_or_else(PoisonError::into_inner)));
            let said = String::from_utf8_lossy(&said.unwrap_or_default()).into_owned();
            let some = |text: String| Some(text).filter(|text| !text.is_empty());
            let (referer, agent) = (some(referer), some(agent));
            Answered { host, client, request, status, bytes, referer, agent, took, at, said }
        };
        let all = self.rests.drain(..).map(answered).collect();
        self.texts.clear();
        all
    }
}

/// What an application says on the side while it answers a request.
#[derive(Clone, Debug, Default)]
pub(crate) struct Said(Arc<Mutex<Vec<u8>>>);

impl Said {
    pub(crate) fn add(&self, words: &[u8]) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let left = LONGEST.saturating_sub(all.len());
        all.extend_from_slice(&words[..words.len().min(left)]);
    }
}

impl Report {
    fn begin(client: IpAddr, request: &Parts) -> Self {
        let target = request.uri.path_and_query().map_or("*", |target| target.as_str());
        let version = match request.version {
            Version::HTTP_2 => "HTTP/2.0",
            Version::HTTP_10 => "HTTP/1.0",
            _ => "HTTP/1.1",
        };
        let mut texts = String::with_capacity(192 + target.len());
        for part in [host(request).unwrap_or_default(), "\0", request.method.as_str(), " ", target, " ", version, "\0"]
        {
            texts.push_str(part);
        }
        let field = |name: HeaderName| request.headers.get(name).map(hyper::header::HeaderValue::as_bytes);
        for value in [field(REFERER), field(USER_AGENT)] {
            texts.push_str(&String::from_utf8_lossy(value.unwrap_or_default()));
            texts.push('\0');
        }
        let (took, at) = (Duration::ZERO, SystemTime::UNIX_EPOCH);
        Self { texts, began: Instant::now(), rest: Rest { client, status: 0, bytes: 0, took, at, said: None } }
    }
}

/// A request that is being answered; it is reported when this is dropped.
pub(crate) struct Reported {
    report: Report,
    taker: OnAnswered,
}

impl Reported {
    /// Begins with a request.
    pub(crate) fn begin(taker: &OnAnswered, client: IpAddr, request: &Parts) -> Self {
        Self { report: Report::begin(client, request), taker: Arc::clone(taker) }
    }

    pub(crate) fn of_answer<B>(mut self, answer: &Response<B>) -> Self {
        self.report.rest.status = answer.status().as_u16();
        self.report.rest.said = answer.extensions().get().cloned();
        self
    }
}

impl Drop for Reported {
    fn drop(&mut self) {
        self.report.rest.took = self.report.began.elapsed();
        self.report.rest.at = SystemTime::now();
        (self.taker)(&self.report);
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
            reported.report.rest.bytes += data.len() as u64;
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
