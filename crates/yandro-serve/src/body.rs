//! The parts that every answer is made of.

use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt as _, Full};
use hyper::body::Bytes;
use hyper::header::{CONTENT_TYPE, HeaderValue, SERVER};
use hyper::{Response, StatusCode, Uri};

/// The body of an answer, whatever it comes from.
pub(crate) type Body = UnsyncBoxBody<Bytes, Box<dyn std::error::Error + Send + Sync>>;

/// The `Server` field of every answer.
pub(crate) const NAME: HeaderValue = HeaderValue::from_static("yandro");

/// An answer of plain text.
pub(crate) fn text(status: StatusCode, body: impl Into<String>) -> Response<Body> {
    let body = Full::new(Bytes::from(body.into())).map_err(|never| match never {}).boxed_unsync();
    let mut response = Response::new(body);
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/plain; charset=utf-8"));
    response.headers_mut().insert(SERVER, NAME);
    response
}

/// Only path and query of a request's target.
pub(crate) fn path_of(uri: &Uri) -> Uri {
    uri.path_and_query().map_or_else(|| Uri::from_static("/"), |path| Uri::from(path.clone()))
}
