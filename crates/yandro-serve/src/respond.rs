//! Answering a request: the redirect to HTTPS, a folder's file, an upstream's answer.

use std::net::SocketAddr;
use std::sync::Arc;

use hyper::body::Incoming;
use hyper::header::{HOST, HeaderValue, LOCATION, SERVER};
use hyper::http::request::Parts;
use hyper::{Method, Response, StatusCode, Uri};
use yandro_core::{HostPort, Https};

use crate::body::{Body, NAME, drain, text};
use crate::proxy;
use crate::sites::{Answerer, SiteEntry, Sites};

/// A request's circumstances.
pub(crate) struct Asked<'a> {
    pub(crate) request: &'a Parts,
    /// The host that it is for, without its port.
    pub(crate) host: &'a str,
    pub(crate) scheme: &'static str,
    pub(crate) client: SocketAddr,
}

impl Asked<'_> {
    /// The host with its port, if the request says one.
    pub(crate) fn authority(&self) -> &str {
        authority(self.request).unwrap_or(self.host)
    }
}

/// Refuses what no site answers: CONNECT and TRACE, and a request with several hosts (RFC 9112 section
/// 3.2).
fn refused(request: &Parts) -> Option<Response<Body>> {
    if request.headers.get_all(HOST).iter().count() > 1 {
        return Some(text(StatusCode::BAD_REQUEST, "The request names several hosts.\n"));
    }
    let is_refused = [Method::CONNECT, Method::TRACE].contains(&request.method);
    is_refused.then(|| text(StatusCode::METHOD_NOT_ALLOWED, "This server answers neither CONNECT nor TRACE.\n"))
}

/// Over plain HTTP: the site's own answer if it has one there, else to the same name, path and
/// query over HTTPS.
pub(crate) async fn answer_plain(
    sites: &Sites,
    https_port: u16,
    client: SocketAddr,
    request: &Parts,
    body: Incoming,
) -> Response<Body> {
    if let Some(refusal) = refused(request) {
        return refusal;
    }
    let host = host(request).unwrap_or_default();
    let mut response = match sites.get(host) {
        None => no_site(StatusCode::NOT_FOUND, host),
        Some(entry) if entry.https == Https::Only => redirect(host, https_port, &request.uri),
        Some(entry) => content(entry, &Asked { request, host, scheme: "http", client }, body).await,
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
pub(crate) async fn answer(
    sites: &Sites,
    sni: Option<&str>,
    client: SocketAddr,
    request: &Parts,
    body: Incoming,
) -> Response<Body> {
    if let Some(refusal) = refused(request) {
        return refusal;
    }
    let host = host(request).unwrap_or_default();
    let entry = sites.get(host);
    // A connection made for one site must not serve another (RFC 9110 section 15.5.20).
    let is_same = |entry: &Arc<SiteEntry>| {
        sni.is_some_and(|sni| sni == host || sites.get(sni).is_some_and(|shaken| Arc::ptr_eq(entry, shaken)))
    };
    let Some(entry) = entry.filter(|entry| is_same(entry)) else {
        drain(body).await;
        return no_site(StatusCode::MISDIRECTED_REQUEST, host);
    };
    content(entry, &Asked { request, host, scheme: "https", client }, body).await
}

/// The site's answer.
async fn content(entry: &SiteEntry, asked: &Asked<'_>, body: Incoming) -> Response<Body> {
    if !entry.redirects.is_empty()
        && let Some(name) = entry.redirects.get(&asked.host.trim_end_matches('.').to_ascii_lowercase())
    {
        let port = HostPort::split(asked.authority()).1;
        let port = port.map(|port| format!(":{port}")).unwrap_or_default();
        let response = redirect_to(&format!("{}://{name}{port}", asked.scheme), &asked.request.uri);
        drain(body).await;
        return response;
    }
    match &entry.answer {
        Answerer::Upstream(upstream, whose) => proxy::pass_on(upstream, *whose, asked, body).await,
        Answerer::Folder(folder) => folder.answer(asked, body).await,
        Answerer::Lent(origin) => origin.answer(asked, body).await,
    }
}

/// The host that a request is for, with its port if it says one.
fn authority(request: &Parts) -> Option<&str> {
    match request.uri.authority() {
        Some(authority) => Some(authority.as_str()),
        None => request.headers.get(HOST)?.to_str().ok(),
    }
}

/// The host that a request is for, without its port.
pub(crate) fn host(request: &Parts) -> Option<&str> {
    match request.uri.host() {
        Some(host) => Some(host),
        None => Some(HostPort::split(authority(request)?).0),
    }
}

fn no_site(status: StatusCode, host: &str) -> Response<Body> {
    let shown: String = host.chars().filter(|c| c.is_ascii_alphanumeric() || "-.:[]".contains(*c)).take(253).collect();
    text(status, format!("No site here is named `{shown}`. `yandro sites` lists those that are.\n"))
}
