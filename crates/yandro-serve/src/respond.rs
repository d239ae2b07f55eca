//! Answering a request: the redirect to HTTPS, a folder's file, an upstream's answer.

use std::time::Duration;

use http_body_util::BodyExt as _;
use hyper::body::{Bytes, Incoming};
use hyper::header::{HOST, HeaderValue, LOCATION, SERVER};
use hyper::{Method, Request, Response, StatusCode, Uri};
use percent_encoding::percent_decode_str;
use tower_service::Service as _;
use yandro_core::{HostPort, Https};

use crate::body::{Body, NAME, text};
use crate::files::is_hidden;
use crate::proxy;
use crate::sites::{Answerer, SiteEntry, Sites};

/// How much of a refused request's body is read, in bytes.
const DRAINED: usize = 256 * 1024;

/// Refuses what no site answers: CONNECT and TRACE, and a request with several hosts (RFC 9112 section
/// 3.2).
fn refused<B>(request: &Request<B>) -> Option<Response<Body>> {
    if request.headers().get_all(HOST).iter().count() > 1 {
        return Some(text(StatusCode::BAD_REQUEST, "The request names several hosts.\n"));
    }
    let is_refused = [Method::CONNECT, Method::TRACE].contains(request.method());
    is_refused.then(|| text(StatusCode::METHOD_NOT_ALLOWED, "This server answers neither CONNECT nor TRACE.\n"))
}

/// Over plain HTTP: the site's own answer if it has one there, else to the same name, path and
/// query over HTTPS.
pub(crate) async fn answer_plain(sites: &Sites, https_port: u16, request: Request<Incoming>) -> Response<Body> {
    if let Some(refusal) = refused(&request) {
        return refusal;
    }
    let host = host(&request).unwrap_or_default().to_owned();
    let mut response = match sites.get(&host) {
        None => no_site(StatusCode::NOT_FOUND, &host),
        Some(entry) if entry.https == Https::Only => redirect(&host, https_port, request.uri()),
        Some(entry) => content(entry, &host, "http", request).await,
    };
    response.headers_mut().entry(SERVER).or_insert(NAME);
    response
}

fn redirect(host: &str, https_port: u16, uri: &Uri) -> Response<Body> {
    let port = if https_port == 443 { String::new() } else { format!(":{https_port}") };
    redirect_to(&format!("https://{host}{port}"), uri)
}

/// 307 keeps the method and, unlike 301, is not remembered by browsers when the site is gone.
fn redirect_to(origin: &str, uri: &Uri) -> Response<Body> {
    let path = uri.path_and_query().map_or("/", |path| path.as_str());
    let location = format!("{origin}{path}");
    let mut response = text(StatusCode::TEMPORARY_REDIRECT, format!("This site is at {location}\n"));
    match HeaderValue::try_from(location) {
        Ok(location) => _ = response.headers_mut().insert(LOCATION, location),
        Err(_) => response = text(StatusCode::BAD_REQUEST, "The path can't be sent on.\n"),
    }
    response
}

/// Over HTTPS: the site's own answer. `sni` is the name that the handshake was for.
pub(crate) async fn answer(sites: &Sites, sni: Option<&str>, request: Request<Incoming>) -> Response<Body> {
    if let Some(refusal) = refused(&request) {
        return refusal;
    }
    let host = host(&request).unwrap_or_default().to_owned();
    let entry = sites.get(&host);
    // A connection made for one site must not serve another (RFC 9110 section 15.5.20).
    let same = match (entry, sni.and_then(|sni| sites.get(sni))) {
        (Some(entry), Some(shaken)) => std::sync::Arc::ptr_eq(entry, shaken),
        _ => false,
    };
    let Some(entry) = (if same { entry } else { None }) else {
        drain(request.into_body()).await;
        return no_site(StatusCode::MISDIRECTED_REQUEST, &host);
    };
    content(entry, &host, "https", request).await
}

/// The site's answer.
async fn content(entry: &SiteEntry, host: &str, scheme: &'static str, request: Request<Incoming>) -> Response<Body> {
    if let Some(name) = entry.redirects.get(&host.trim_end_matches('.').to_ascii_lowercase()) {
        let port = authority(&request).and_then(|authority| HostPort::split(authority).1);
        let port = port.map(|port| format!(":{port}")).unwrap_or_default();
        let response = redirect_to(&format!("{scheme}://{name}{port}"), request.uri());
        drain(request.into_body()).await;
        return response;
    }
    match &entry.answer {
        Answerer::Upstream(upstream, asked) => proxy::pass_on(upstream, *asked, host, scheme, request).await,
        Answerer::Folder(files) => {
            if ![Method::GET, Method::HEAD].contains(request.method()) {
                drain(request.into_body()).await;
                return text(StatusCode::METHOD_NOT_ALLOWED, "A folder answers GET and HEAD only.\n");
            }
            if let Some(refusal) = withheld(request.uri().path()) {
                return refusal;
            }
            let (rules, path) = (files.rules.clone(), request.uri().path().to_owned());
            if !tokio::task::spawn_blocking(move || rules.allow(&path)).await.unwrap_or(false) {
                return text(StatusCode::NOT_FOUND, "There is no such file, or it is outside of the project.\n");
            }
            let mut response = match files.service.clone().call(request).await {
                Ok(response) => response.map(|body| body.map_err(Into::into).boxed_unsync()),
                Err(never) => match never {},
            };
            response.headers_mut().insert(SERVER, NAME);
            response
        }
    }
}

/// Files of a folder that are not pages: hidden files are private, and PHP would be sent
/// as source.
fn withheld(path: &str) -> Option<Response<Body>> {
    let path = percent_decode_str(path).decode_utf8_lossy().to_ascii_lowercase();
    let mut parts = path.split('/');
    if parts.clone().any(is_hidden) {
        return Some(text(StatusCode::NOT_FOUND, "Hidden files are not served.\n"));
    }
    let is_php = parts.any(|part| [".php", ".phtml"].iter().any(|ending| part.ends_with(ending)));
    is_php.then(|| {
        let how = "map the site on Apache httpd or nginx: yandro map NAME --server apache --php";
        text(
            StatusCode::NOT_IMPLEMENTED,
            format!("The built-in server runs no PHP, and doesn't send its source; {how}\n"),
        )
    })
}

/// Reads a request's body before it is refused: over HTTP/2 the stream is reset
/// otherwise, and clients then see that and not the answer. A long one is cut off.
async fn drain(mut body: Incoming) {
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

/// The host that a request is for, with its port if it says one.
fn authority<B>(request: &Request<B>) -> Option<&str> {
    match request.uri().authority() {
        Some(authority) => Some(authority.as_str()),
        None => request.headers().get(HOST)?.to_str().ok(),
    }
}

/// The host that a request is for, without its port.
pub(crate) fn host<B>(request: &Request<B>) -> Option<&str> {
    match request.uri().host() {
        Some(host) => Some(host),
        None => Some(HostPort::split(authority(request)?).0),
    }
}

fn no_site(status: StatusCode, host: &str) -> Response<Body> {
    let shown: String = host.chars().filter(|c| c.is_ascii_alphanumeric() || "-.:[]".contains(*c)).take(253).collect();
    text(status, format!("No site here is named `{shown}`. `yandro sites` lists those that are.\n"))
}
