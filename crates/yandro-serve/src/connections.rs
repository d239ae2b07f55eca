//! Connections: how many there may be, how long one may say nothing, and how they end.

use std::collections::VecDeque;
use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use hyper::body::{Body, Frame, SizeHint};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::task::AbortHandle;
use tokio::time::Sleep;

/// How long a client may take until its first byte.
const FIRST_BYTE: Duration = Duration::from_secs(10);
/// How long a new connection keeps its place in any case, so that a crowd doesn't push out a client in its handshake.
const GRACE: Duration = Duration::from_millis(250);
/// How long to wait for a place when no connection can be closed.
const PAUSE: Duration = Duration::from_millis(20);
/// File descriptors that are kept free for everything but connections and upstreams.
const RESERVED: u64 = 64;
/// The most connections, whatever the limit of descriptors.
const MOST: u64 = 4096;

/// The connections of a server, below the limit of file descriptors: each may need a second one for
/// its upstream. When all places are taken, the one that has been idle longest makes room.
#[derive(Clone)]
pub(crate) struct Connections {
    places: Arc<Semaphore>,
    open: Arc<Mutex<VecDeque<OpenConnection>>>,
}

struct OpenConnection {
    task: AbortHandle,
    requests: Requests,
    since: Instant,
}

impl Connections {
    /// Those of a process that may have so many files open; `None` where there is no limit.
    pub(crate) fn new(open_files: Option<u64>) -> Self {
        let limit = open_files.unwrap_or(MOST * 3);
        let most = (limit.saturating_sub(RESERVED) / 2).clamp(8, MOST);
        let most = usize::try_from(most).unwrap_or(8);
        Self { places: Arc::new(Semaphore::new(most)), open: Arc::default() }
    }

    /// A place for one more connection.
    pub(crate) async fn place(&self) -> Option<OwnedSemaphorePermit> {
        loop {
            if let Ok(place) = self.places.clone().try_acquire_owned() {
                return Some(place);
            }
            self.close_idle();
            // The one that was closed gives its place back at once, unless all have requests under way.
            if let Ok(place) = tokio::time::timeout(PAUSE, self.places.clone().acquire_owned()).await {
                return place.ok();
            }
        }
    }

    /// Remembers a connection, so that it can be closed.
    pub(crate) fn opened(&self, task: AbortHandle, requests: Requests) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.retain(|open| !open.task.is_finished());
        open.push_back(OpenConnection { task, requests, since: Instant::now() });
    }

    /// Closes the oldest connection without a request under way, if it has had its time.
    fn close_idle(&self) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.retain(|open| !open.task.is_finished());
        let may_go = |open: &OpenConnection| open.requests.is_idle() && open.since.elapsed() >= GRACE;
        if let Some(place) = open.iter().position(may_go)
            && let Some(open) = open.remove(place)
        {
            open.task.abort();
        }
    }
}

/// The requests under way on one connection.
#[derive(Clone, Default)]
pub(crate) struct Requests(Arc<AtomicUsize>);

impl Requests {
    fn is_idle(&self) -> bool {
        self.0.load(Ordering::SeqCst) == 0
    }

    /// Counts a request until the guard is dropped.
    pub(crate) fn begin(&self) -> UnderWay {
        self.0.fetch_add(1, Ordering::SeqCst);
        UnderWay(self.0.clone())
    }
}

/// A request that is under way.
pub(crate) struct UnderWay(Arc<AtomicUsize>);

impl Drop for UnderWay {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

/// A response's body; its request is under way until it ends.
pub(crate) struct Counted<B> {
    pub(crate) body: B,
    pub(crate) _under_way: UnderWay,
}

impl<B: Body + Unpin> Body for Counted<B> {
    type Data = B::Data;
    type Error = B::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Self::Data>, Self::Error>>> {
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// A stream whose client has a limited time for its first byte.
pub(crate) struct Prompt<S> {
    stream: S,
    deadline: Option<Pin<Box<Sleep>>>,
}

impl<S> Prompt<S> {
    pub(crate) fn new(stream: S) -> Self {
        Self { stream, deadline: Some(Box::pin(tokio::time::sleep(FIRST_BYTE))) }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Prompt<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let read = Pin::new(&mut self.stream).poll_read(context, buffer);
        if read.is_ready() {
            self.deadline = None;
        }
        match &mut self.deadline {
            Some(deadline) => deadline.as_mut().poll(context).map(|()| Err(io::ErrorKind::TimedOut.into())),
            None => read,
        }
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Prompt<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        parts: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(context, parts)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }
}
