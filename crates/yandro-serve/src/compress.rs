//! Content codings: what a client accepts, and compressing on the way.

use std::convert::Infallible;
use std::future::{Ready, ready};
use std::task::{Context, Poll};

use hyper::header::{ACCEPT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, ETAG, HeaderValue};
use hyper::{HeaderMap, Request, Response};
use tower_http::compression::predicate::Predicate;
use tower_http::compression::{Compression, CompressionLevel};
use tower_service::Service;

use crate::body::Body;

/// Shorter bodies than this many bytes don't become shorter on the way.
const WORTHWHILE: u64 = 1024;

/// An answer as the client accepts it: compressed by gzip (RFC 1952), if that is worth it. Images, archives and streams of
/// events stay as they are.
pub(crate) async fn compressed(asked: &HeaderMap, answer: Response<Body>) -> Response<Body> {
    let Some(accepted) = asked.get(ACCEPT_ENCODING) else { return answer };
    if !accepted.to_str().is_ok_and(|accepted| accepts(accepted, "gzip")) || !Worthwhile.should_compress(&answer) {
        return answer;
    }
    let request = Request::builder().header(ACCEPT_ENCODING, "gzip").body(()).expect("a fixed request");
    let mut compression =
        Compression::new(Made(Some(answer))).quality(CompressionLevel::Fastest).compress_when(Worthwhile);
    let Ok(mut answer) = compression.call(request).await;
    // Other bytes of the same page (RFC 9110 section 8.8.1).
    if let Some(tag) = answer.headers().get(ETAG).filter(|tag| tag.as_bytes().starts_with(b"\""))
        && let Ok(weak) = HeaderValue::from_bytes(&[b"W/", tag.as_bytes()].concat())
    {
        answer.headers_mut().insert(ETAG, weak);
    }
    answer.map(Body::boxed)
}

/// Whether a client accepts a content coding, by its `Accept-Encoding` (RFC 9110 section 12.5.3).
pub(crate) fn accepts(accepted: &str, coding: &str) -> bool {
    accepted.split(',').any(|one| {
        let mut parts = one.split(';').map(str::trim);
        let is_it = parts.next().is_some_and(|name| name.eq_ignore_ascii_case(coding));
        let is_refused = |part: &str| {
            let weight = part.strip_prefix(['q', 'Q']).and_then(|rest| rest.trim_start().strip_prefix('='));
            weight.and_then(|weight| weight.trim().parse::<f32>().ok()) == Some(0.0)
        };
        is_it && !parts.any(is_refused)
    })
}

/// Whether a media type is of text, more or less.
pub(crate) fn is_compressible(media: &str) -> bool {
    let media = media.split(';').next().unwrap_or_default().trim();
    if media == "text/event-stream" {
        return false;
    }
    media.starts_with("text/")
        || media.ends_with("+json")
        || media.ends_with("+xml")
        || ["application/json", "application/javascript", "application/xml", "application/wasm"].contains(&media)
}

/// Which answers are compressed.
#[derive(Clone, Copy)]
struct Worthwhile;

impl Predicate for Worthwhile {
    fn should_compress<B: hyper::body::Body>(&self, answer: &Response<B>) -> bool {
        let field = |name| answer.headers().get(name).and_then(|value: &HeaderValue| value.to_str().ok());
        let length = field(CONTENT_LENGTH).and_then(|length| length.parse().ok()).or(answer.body().size_hint().exact());
        field(CONTENT_TYPE).is_some_and(is_compressible) && length.is_none_or(|length| length >= WORTHWHILE)
    }
}

/// A service that gives an answer that is made already.
struct Made(Option<Response<Body>>);

impl Service<Request<()>> for Made {
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = Ready<Result<Response<Body>, Infallible>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, _: Request<()>) -> Self::Future {
        ready(Ok(self.0.take().expect("it is asked once")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_client_accepts_and_what_is_text() {
        for (accepted, expected) in [
            ("gzip, deflate, br", true),
            ("GZIP;q=0.5", true),
            ("br;q=1.0, gzip;q=0", false),
            ("gzip; q=0.0", false),
            ("identity", false),
            ("gzipped", false),
            ("", false),
        ] {
            assert_eq!(accepts(accepted, "gzip"), expected, "{accepted}");
        }
        for (media, expected) in [
            ("text/html; charset=utf-8", true),
            ("image/svg+xml", true),
            ("application/json", true),
            ("image/png", false),
            ("text/event-stream", false),
        ] {
            assert_eq!(is_compressible(media), expected, "{media}");
        }
    }
}
