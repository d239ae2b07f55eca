//! Requests over HTTP/1.1, on a connection that is already there.

use std::net::SocketAddr;

use http_body_util::{BodyExt as _, Empty};
use hyper::body::Bytes;
use hyper::client::conn::http1::{SendRequest, handshake};
use hyper::header::{CONNECTION, COOKIE, HOST, LOCATION, RETRY_AFTER, SERVER, SET_COOKIE, USER_AGENT};
use hyper::http::request::Builder;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite};
use yandro_core::{Answer, Failure, FailureKind, Upstream};

use super::{BODY_LIMIT, Limit};

/// An answer with the start of its body.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Fetched {
    pub(super) answer: Answer,
    /// At most as much as was asked for.
    pub(super) body: Vec<u8>,
    /// The cookies that it sets, `name=value`.
    pub(super) cookies: Vec<String>,
}

/// A connection that takes one request after the other.
pub(super) struct HttpSession {
    sender: SendRequest<Empty<Bytes>>,
    within: Limit,
}

impl HttpSession {
    /// A session over a stream; each answer has to come within the limit.
    pub(super) async fn open(
        stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
        within: Limit,
    ) -> Result<Self, Failure> {
        let (sender, connection) = handshake(TokioIo::new(stream)).await.map_err(|error| failure(&error))?;
        // It ends with the sender; its faults come back with each request.
        tokio::spawn(connection);
        Ok(Self { sender, within })
    }

    /// `GET path` of `host`, with cookies as a browser sends what it was given before (RFC 6265 section 4.2); reads at
    /// most `limit` bytes of the body, and with a limit of 0 none: the session is then used up.
    pub(super) async fn get(
        &mut self,
        host: &str,
        path: &str,
        cookies: &[String],
        limit: usize,
    ) -> Result<Fetched, Failure> {
        let request = Request::get(path).header(HOST, host);
        let request = if cookies.is_empty() { request } else { request.header(COOKIE, cookies.join("; ")) };
        self.send(request, limit).await
    }

    /// The first page, with the headers that a server adds which passes a request on.
    async fn get_as_passed_on(&mut self, asked: &str, host: &str, scheme: &str) -> Result<Fetched, Failure> {
        let request = Request::get("/").header(HOST, asked).header("x-forwarded-proto", scheme);
        self.send(request.header("x-forwarded-host", host), BODY_LIMIT).await
    }

    async fn send(&mut self, request: Builder, limit: usize) -> Result<Fetched, Failure> {
        let request = request
            .header(USER_AGENT, concat!("Mozilla/5.0 (compatible; yandro-check/", env!("CARGO_PKG_VERSION"), ")"))
            .header(CONNECTION, if limit == 0 { "close" } else { "keep-alive" })
            .body(Empty::new())
            .map_err(|error| Failure { kind: FailureKind::Other, words: error.to_string() })?;
        let exchange = async {
            self.sender.ready().await?;
            let response = self.sender.send_request(request).await?;
            let (answer, cookies) = (answer(&response), cookies(&response));
            let mut body = Vec::new();
            let mut rest = response.into_body();
            while body.len() < limit {
                let Some(frame) = rest.frame().await else { break };
                if let Some(data) = frame?.data_ref() {
                    body.extend_from_slice(&data[..data.len().min(limit - body.len())]);
                }
            }
            Ok(Fetched { answer, body, cookies })
        };
        self.within.of(exchange).await?.map_err(|error: hyper::Error| failure(&error))
    }
}

/// One request on a separate connection.
pub(super) async fn get_once(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    host: &str,
    path: &str,
    within: Limit,
) -> Result<Answer, Failure> {
    Ok(HttpSession::open(stream, within).await?.get(host, path, &[], 0).await?.answer)
}

/// The page of an upstream, asked directly under a host's name: many answer with
/// links of the scheme and the host in the request. `asked` is sent as `Host`.
pub(super) async fn get_from(
    upstream: &Upstream,
    asked: &str,
    host: &str,
    scheme: &str,
    within: Limit,
) -> Result<Fetched, Failure> {
    let other = |error: std::io::Error| Failure { kind: FailureKind::Other, words: error.to_string() };
    let addresses: Vec<SocketAddr> =
        tokio::net::lookup_host(upstream.host_port().to_string()).await.map_err(other)?.collect();
    let mut last = Failure { kind: FailureKind::Other, words: "it has no address".into() };
    for address in addresses {
        match within.connect(address).await {
            Ok(stream) => {
                return HttpSession::open(stream, within).await?.get_as_passed_on(asked, host, scheme).await;
            }
            Err(failure) => last = failure,
        }
    }
    Err(last)
}

fn answer<B>(response: &Response<B>) -> Answer {
    let text = |name| response.headers().get(name).map(|value| String::from_utf8_lossy(value.as_bytes()).into_owned());
    Answer {
        status: response.status().as_u16(),
        location: text(LOCATION),
        server: text(SERVER),
        is_for_later: response.headers().contains_key(RETRY_AFTER),
    }
}

/// `name=value` of each cookie; domain, path and lifetime don't matter for a few requests.
fn cookies<B>(response: &Response<B>) -> Vec<String> {
    let of = |value: &hyper::header::HeaderValue| Some(value.to_str().ok()?.split(';').next()?.trim().to_owned());
    response.headers().get_all(SET_COOKIE).iter().filter_map(of).collect()
}

fn failure(error: &hyper::Error) -> Failure {
    let mut words = error.to_string();
    let mut source = std::error::Error::source(error);
    while let Some(cause) = source {
        if cause.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == std::io::ErrorKind::UnexpectedEof)
        {
            // The TLS library's words lead to its manual.
            "the server closes the connection without an answer".clone_into(&mut words);
            break;
        }
        words = format!("{words}: {cause}");
        source = cause.source();
    }
    Failure { kind: FailureKind::Other, words }
}
