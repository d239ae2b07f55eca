//! The parts that every answer is made of.

use std::fs::File;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use futures_core::Stream as _;
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt as _, Full};
use hyper::body::{Body as _, Bytes, Frame, Incoming, SizeHint};
use hyper::header::{CONTENT_LENGTH, CONTENT_TYPE, HeaderValue, SERVER};
use hyper::{Response, StatusCode, Uri};
use tokio::io::AsyncReadExt as _;
use tokio_util::io::ReaderStream;

/// How much of a long file is read at once, in bytes.
const PIECE: usize = 256 * 1024;
/// How much of a refused request's body is read, in bytes.
const DRAINED: usize = 256 * 1024;

pub(crate) type BodyError = Box<dyn std::error::Error + Send + Sync>;

/// The body of an answer.
pub(crate) enum Body {
    Whole(Full<Bytes>),
    /// Whatever it comes from.
    Boxed(UnsyncBoxBody<Bytes, BodyError>),
}

impl Body {
    pub(crate) fn empty() -> Self {
        Self::Whole(Full::default())
    }

    pub(crate) fn boxed<B>(body: B) -> Self
    where
        B: hyper::body::Body<Data = Bytes> + Send + 'static,
        B::Error: Into<BodyError>,
    {
        Self::Boxed(body.map_err(Into::into).boxed_unsync())
    }

    /// So many bytes of a file, from where it stands. A file that ends before is an error, which cuts the answer off.
    pub(crate) fn of_file(file: File, length: u64) -> Self {
        let stream = ReaderStream::with_capacity(tokio::fs::File::from_std(file).take(length), PIECE);
        Self::boxed(Pieces { stream, left: length })
    }
}

impl hyper::body::Body for Body {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Self::Error>>> {
        match &mut *self {
            Self::Whole(body) => Pin::new(body).poll_frame(context).map_err(|never| match never {}),
            Self::Boxed(body) => Pin::new(body).poll_frame(context),
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            Self::Whole(body) => body.is_end_stream(),
            Self::Boxed(body) => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            Self::Whole(body) => body.size_hint(),
            Self::Boxed(body) => body.size_hint(),
        }
    }
}

/// A file in pieces.
struct Pieces {
    stream: ReaderStream<tokio::io::Take<tokio::fs::File>>,
    /// In bytes.
    left: u64,
}

impl hyper::body::Body for Pieces {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Self::Error>>> {
        let polled = Pin::new(&mut self.stream).poll_next(context);
        if let Poll::Ready(Some(Ok(piece))) = &polled {
            self.left = self.left.saturating_sub(piece.len() as u64);
        }
        polled.map_ok(Frame::data)
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.left)
    }
}

/// The `Server` field of every answer.
pub(crate) const NAME: HeaderValue = HeaderValue::from_static("yandro");

/// An answer of plain text.
pub(crate) fn text(status: StatusCode, body: impl Into<String>) -> Response<Body> {
    let mut response = Response::new(Body::Whole(Full::new(Bytes::from(body.into()))));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/plain; charset=utf-8"));
    response.headers_mut().insert(SERVER, NAME);
    response
}

/// The answer to HEAD (RFC 9110 section 9.3.2): the headers that GET would have got.
pub(crate) fn without_content(mut answer: Response<Body>) -> Response<Body> {
    if let Some(length) = answer.body().size_hint().exact().filter(|length| *length > 0) {
        answer.headers_mut().insert(CONTENT_LENGTH, length.into());
    }
    answer.map(|_| Body::empty())
}

/// Only path and query of a request's target.
pub(crate) fn path_of(uri: &Uri) -> Uri {
    uri.path_and_query().map_or_else(|| Uri::from_static("/"), |path| Uri::from(path.clone()))
}

/// Reads a request's body before it is refused: over HTTP/2 the stream is reset
/// otherwise, and clients then see that and not the answer. A long one is cut off.
pub(crate) async fn drain(mut body: Incoming) {
    if body.is_end_stream() {
        return;
    }
    let read = async {
        let mut left = DRAINED;
        while let Some(Ok(frame)) = body.frame().await {
            let length = frame.data_ref().map_or(0, Bytes::len);
            left = left.saturating_sub(length);
            if left == 0 {
                return;
            }
        }
    };
    // A client that takes longer gets its answer all the same.
    _ = tokio::time::timeout(Duration::from_secs(1), read).await;
}
