//! Passing requests on to an upstream.

use hyper::body::Incoming;
use hyper::client::conn::http1;
use hyper::header::{CONNECTION, HOST, HeaderName, HeaderValue, UPGRADE};
use hyper::{Request, Response, StatusCode, Version};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use yandro_core::{Upstream, UpstreamHost};

use crate::body::{Body, BodyError, path_of, text};
use crate::respond::Asked;

/// Headers that belong to one connection and are not passed on (RFC 9110 section 7.6.1).
const HOP_BY_HOP: [&str; 7] =
    ["connection", "keep-alive", "proxy-authenticate", "proxy-authorization", "te", "trailer", "transfer-encoding"];

/// The upstream's answer to a request, which keeps its host or gets the upstream's own; the upstream learns
/// by `X-Forwarded-Proto` and `X-Forwarded-Host` how it came. `WebSockets` and
/// other upgrades of HTTP/1.1 go through.
pub(crate) async fn pass_on(
    upstream: &Upstream,
    whose: UpstreamHost,
    asked: &Asked<'_>,
    body: Incoming,
) -> Response<Body> {
    let own = (whose == UpstreamHost::Own).then(|| upstream.host_port().to_string());
    let exchanged = match TcpStream::connect(upstream.host_port().to_string()).await {
        Ok(stream) => exchange(stream, own, asked, Request::from_parts(asked.request.clone(), body)).await,
        Err(error) => Err(ExchangeError::Down(error.into())),
    };
    exchanged.unwrap_or_else(|error| match error {
        ExchangeError::Down(error) => text(
            StatusCode::BAD_GATEWAY,
            format!("The upstream {upstream} does not answer: {error}\nStart it, then load this page again.\n"),
        ),
        ExchangeError::Header(_) => text(StatusCode::BAD_REQUEST, format!("{error}\n")),
    })
}

/// A request that can't be passed on.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ExchangeError {
    #[error("{0}")]
    Down(#[source] BodyError),
    #[error("The request can't be passed on: {0}")]
    Header(#[from] hyper::header::InvalidHeaderValue),
}

/// Passes a request on over this stream; `own` is the host that is asked for instead of the request's.
pub(crate) async fn exchange<S>(
    stream: S,
    own: Option<String>,
    asked: &Asked<'_>,
    mut request: Request<Incoming>,
) -> Result<Response<Body>, ExchangeError>
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let down = |error: hyper::Error| ExchangeError::Down(error.into());
    let (mut sender, connection) = http1::handshake(TokioIo::new(stream)).await.map_err(down)?;
    tokio::spawn(connection.with_upgrades());

    let upgrade = upgrade_of(&request);
    let client = upgrade.as_ref().map(|_| hyper::upgrade::on(&mut request));
    let mut passed = onward(asked, own, upgrade.as_ref(), request)?;
    *passed.version_mut() = Version::HTTP_11;
    let mut response = sender.send_request(passed).await.map_err(down)?;
    if response.status() == StatusCode::SWITCHING_PROTOCOLS
        && let Some(client) = client
    {
        let server = hyper::upgrade::on(&mut response);
        tokio::spawn(async move {
            if let (Ok(client), Ok(server)) = tokio::join!(client, server) {
                // Either side may hang up at any time; there is nobody to tell.
                _ = tokio::io::copy_bidirectional(&mut TokioIo::new(client), &mut TokioIo::new(server)).await;
            }
        });
    } else {
        remove_hop_by_hop(response.headers_mut());
    }
    Ok(response.map(Body::boxed))
}

/// The protocol that a request wants to change to.
fn upgrade_of<B>(request: &Request<B>) -> Option<HeaderValue> {
    let wants = request.headers().get(CONNECTION)?.to_str().ok()?;
    let wants = wants.split(',').any(|word| word.trim().eq_ignore_ascii_case("upgrade"));
    if !wants || request.version() != Version::HTTP_11 {
        return None;
    }
    request.headers().get(UPGRADE).cloned()
}

fn onward(
    asked: &Asked<'_>,
    own: Option<String>,
    upgrade: Option<&HeaderValue>,
    request: Request<Incoming>,
) -> Result<Request<Incoming>, hyper::header::InvalidHeaderValue> {
    let (mut parts, body) = request.into_parts();
    let target = parts.uri.authority().map(|authority| authority.as_str().to_owned());
    parts.uri = path_of(&parts.uri);
    // A target that names the host counts before the header (RFC 9112 section 3.2.2); in HTTP/2 all do.
    let host_header = match (target, parts.headers.get(HOST)) {
        (Some(authority), _) => HeaderValue::try_from(authority)?,
        (None, Some(own)) => own.clone(),
        (None, None) => HeaderValue::try_from(asked.host)?,
    };
    remove_hop_by_hop(&mut parts.headers);
    let client = HeaderValue::try_from(asked.client.ip().to_string())?;
    parts.headers.insert(HeaderName::from_static("x-forwarded-for"), client);
    parts.headers.remove("forwarded");
    parts.headers.insert(HeaderName::from_static("x-forwarded-host"), host_header.clone());
    parts.headers.insert(HeaderName::from_static("x-forwarded-proto"), HeaderValue::from_static(asked.scheme));
    parts.headers.insert(HOST, own.map(HeaderValue::try_from).transpose()?.unwrap_or(host_header));
    if let Some(protocol) = upgrade {
        parts.headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        parts.headers.insert(UPGRADE, protocol.clone());
    }
    Ok(Request::from_parts(parts, body))
}

/// Removes what belongs to one connection: the headers that are known to, and those that `Connection`
/// names (RFC 9110 section 7.6.1).
fn remove_hop_by_hop(headers: &mut hyper::HeaderMap) {
    let values = headers.get_all(CONNECTION).iter().filter_map(|value| value.to_str().ok());
    let named: Vec<HeaderName> =
        values.flat_map(|value| value.split(',')).filter_map(|name| name.trim().parse().ok()).collect();
    for name in named.iter().filter(|name| **name != HOST) {
        headers.remove(name);
    }
    for name in HOP_BY_HOP {
        headers.remove(name);
    }
    headers.remove(UPGRADE);
}
