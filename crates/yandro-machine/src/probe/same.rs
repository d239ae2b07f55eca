//! Answers before and after a change, compared.

use std::net::SocketAddr;

use http_body_util::{BodyExt as _, Empty, Limited};
use hyper::body::Bytes;
use hyper::client::conn::http1::handshake;
use hyper::header::{CONNECTION, DATE, ETAG, HOST, HeaderName, HeaderValue, USER_AGENT};
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite};

use super::{Limit, tls};

/// A request for a page of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageRequest {
    /// The address to send it to.
    pub socket: SocketAddr,
    /// Whether over TLS.
    pub is_secure: bool,
    /// The host that is asked for.
    pub host: String,
    /// The path.
    pub path: String,
}

/// The whole answer to a request, but for its date.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WholeAnswer {
    /// The status.
    pub status: u16,
    /// The headers, in their order by name.
    pub headers: Vec<(String, String)>,
    /// The body, up to a megabyte.
    pub body: Vec<u8>,
}

/// The largest body that is compared, in bytes.
const LARGEST: usize = 1 << 20;

/// The answers to requests, one after the other; the words of a failure where there is none.
pub async fn whole_answers(requests: &[PageRequest], within: Limit) -> Vec<Result<WholeAnswer, String>> {
    let mut answers = Vec::with_capacity(requests.len());
    for request in requests {
        answers.push(ask(request, within).await);
    }
    answers
}

async fn ask(request: &PageRequest, within: Limit) -> Result<WholeAnswer, String> {
    let stream = within.connect(request.socket).await.map_err(|failure| failure.words)?;
    if !request.is_secure {
        return within.of(exchange(stream, request)).await.map_err(|failure| failure.words)?;
    }
    let trust = tls::TlsTrust::new(None);
    let shaken = trust.handshake(&request.host, stream, None, within).await;
    let (_, stream) = shaken.map_err(|failure| failure.words)?;
    within.of(exchange(stream, request)).await.map_err(|failure| failure.words)?
}

async fn exchange(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    request: &PageRequest,
) -> Result<WholeAnswer, String> {
    let words = |error: hyper::Error| error.to_string();
    let (mut sender, connection) = handshake(TokioIo::new(stream)).await.map_err(words)?;
    tokio::spawn(connection);
    let port = request.socket.port();
    let usual = if request.is_secure { 443 } else { 80 };
    let host = if port == usual { request.host.clone() } else { format!("{}:{port}", request.host) };
    let asked = Request::get(&request.path)
        .header(HOST, host)
        .header(USER_AGENT, concat!("yandro/", env!("CARGO_PKG_VERSION")))
        .header(CONNECTION, "close")
        .body(Empty::<Bytes>::new())
        .map_err(|error| error.to_string())?;
    let response = sender.send_request(asked).await.map_err(words)?;
    let (status, headers) = (response.status().as_u16(), headers(&response));
    let body = Limited::new(response.into_body(), LARGEST).collect().await.map(|body| body.to_bytes().to_vec());
    Ok(WholeAnswer { status, headers, body: body.unwrap_or_default() })
}

fn headers<B>(response: &Response<B>) -> Vec<(String, String)> {
    let shown = |name: &HeaderName, value: &HeaderValue| {
        let value = String::from_utf8_lossy(value.as_bytes());
        // httpd calls the tag of a file weak for a second after the file was written; RFC 9110, 8.8.3.2.
        let value = if name == ETAG { value.trim_start_matches("W/") } else { &value };
        (name.to_string(), value.to_owned())
    };
    let all = response.headers().iter().filter(|(name, _)| *name != DATE && *name != CONNECTION);
    let mut headers: Vec<_> = all.map(|(name, value)| shown(name, value)).collect();
    headers.sort();
    headers
}
