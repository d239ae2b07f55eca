//! Lending one site to other devices of the network for a while. There is one port: with TLS it is the site, under the name that the
//! devices find by multicast DNS; in plain HTTP it is a page with the root certificate, which a device takes before.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, RwLock};
use std::time::Duration;

use hyper::body::Incoming;
use hyper::header::{HeaderMap, HeaderName, HeaderValue, LOCATION, ORIGIN, REFERER, SET_COOKIE, USER_AGENT};
use hyper::http::request::Parts;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc::UnboundedSender;
use tokio_rustls::{TlsAcceptor, TlsConnector};

use crate::body::{Body, text, without_content};
use crate::connections::{Connections, Counted, Requests};
use crate::offer::{self, Offered};
use crate::proxy::exchange;
use crate::respond::{self, Asked};
use crate::sites::{Certificate, SiteError, Sites};
use crate::tls::{self, Current};

/// How long a client may take until its first byte, over its handshake, and over the head of a request.
const PATIENCE: Duration = Duration::from_secs(10);
/// The first byte of a TLS record with a handshake (RFC 8446 section 5.1).
const HANDSHAKE: u8 = 22;

/// The site that is lent, where it answers on this computer.
#[derive(Clone)]
pub struct Origin {
    /// Where it is asked.
    pub address: SocketAddr,
    /// For a site with HTTPS: its own name, and the root that its certificate is from, in PEM.
    pub tls: Option<(String, String)>,
    /// The host that the application is asked for.
    pub host: String,
    /// The site's own addresses without a path, such as `https://saltmarsh.test`: redirects to them stay on the lent name.
    pub own: Vec<String>,
}

/// A visit of another device.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Visit {
    /// It fetched this path of the page in plain HTTP.
    Page(IpAddr, String),
    /// It asked the site, and calls itself so.
    Site(IpAddr, String),
}

/// An origin that is ready to be asked.
pub(crate) struct LentOrigin {
    origin: Origin,
    tls: Option<(TlsConnector, ServerName<'static>)>,
}

/// A site that can't be lent.
#[derive(Debug, thiserror::Error)]
pub enum LendError {
    /// Its certificate can't be used.
    #[error("{0}")]
    Certificate(#[from] SiteError),
    /// The root of the site's own certificate can't be read.
    #[error("the root certificate can't be used: {0}")]
    Root(String),
}

impl LentOrigin {
    fn new(origin: Origin) -> Result<Self, LendError> {
        let fault = |error: &dyn std::fmt::Display| LendError::Root(error.to_string());
        let Some((name, root)) = &origin.tls else { return Ok(Self { origin, tls: None }) };
        let mut roots = RootCertStore::empty();
        let root = CertificateDer::from_pem_slice(root.as_bytes()).map_err(|error| fault(&error))?;
        roots.add(root).map_err(|error| fault(&error))?;
        let config = ClientConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|error| fault(&error))?
            .with_root_certificates(roots)
            .with_no_client_auth();
        let name = ServerName::try_from(name.clone()).map_err(|error| fault(&error))?;
        let connector = TlsConnector::from(Arc::new(config));
        Ok(Self { origin, tls: Some((connector, name)) })
    }

    /// The site's answer under its lent name.
    pub(crate) async fn answer(&self, asked: &Asked<'_>, body: Incoming) -> Response<Body> {
        let lent = format!("{}://{}", asked.scheme, asked.authority());
        let mut request = Request::from_parts(asked.request.clone(), body);
        self.as_own(request.headers_mut(), &lent);
        match self.exchanged(asked, request).await {
            Ok(mut answer) => {
                self.as_lent(answer.headers_mut(), &lent);
                answer
            }
            Err(error) => {
                text(StatusCode::BAD_GATEWAY, format!("The site doesn't answer on its own computer: {error}\n"))
            }
        }
    }

    async fn exchanged(
        &self,
        asked: &Asked<'_>,
        request: Request<Incoming>,
    ) -> Result<Response<Body>, Box<dyn std::error::Error + Send + Sync>> {
        let stream = TcpStream::connect(self.origin.address).await?;
        let host = Some(self.origin.host.clone());
        Ok(match &self.tls {
            Some((connector, name)) => {
                let stream = connector.connect(name.clone(), stream).await?;
                exchange(stream, host, asked, request).await?
            }
            None => exchange(stream, host, asked, request).await?,
        })
    }

    /// Pages say where they come from, and applications compare that with their own address.
    fn as_own(&self, headers: &mut HeaderMap, lent: &str) {
        let Some(own) = self.origin.own.first() else { return };
        for name in [ORIGIN, REFERER] {
            replace(headers, &name, |value| moved(value, &[lent], own));
        }
    }

    /// Redirects and cookies that are for the site's own name are for the lent one.
    fn as_lent(&self, headers: &mut HeaderMap, lent: &str) {
        let own: Vec<&str> = self.origin.own.iter().map(String::as_str).collect();
        replace(headers, &LOCATION, |value| moved(value, &own, lent));
        let cookies: Vec<HeaderValue> = headers.get_all(SET_COOKIE).iter().map(without_domain).collect();
        headers.remove(SET_COOKIE);
        for cookie in cookies {
            headers.append(SET_COOKIE, cookie);
        }
    }
}

fn replace(headers: &mut HeaderMap, name: &HeaderName, of: impl Fn(&str) -> Option<String>) {
    let value = headers.get(name).and_then(|value| of(value.to_str().ok()?));
    if let Some(value) = value.and_then(|value| HeaderValue::try_from(value).ok()) {
        headers.insert(name, value);
    }
}

/// An address that begins with one of these origins, with another in its place.
fn moved(value: &str, from: &[&str], to: &str) -> Option<String> {
    from.iter().find_map(|from| {
        let rest = value.strip_prefix(from)?;
        // `https://saltmarsh.test` is no part of `https://saltmarsh.tests`.
        (rest.is_empty() || rest.starts_with(['/', '?', '#'])).then(|| format!("{to}{rest}"))
    })
}

/// A cookie for the host that sets it, and no other (RFC 6265 section 5.2.3).
fn without_domain(cookie: &HeaderValue) -> HeaderValue {
    let Ok(text) = cookie.to_str() else { return cookie.clone() };
    let is_domain =
        |part: &&str| part.trim().split('=').next().is_some_and(|name| name.trim().eq_ignore_ascii_case("domain"));
    let kept: Vec<&str> = text.split(';').filter(|part| !is_domain(part)).collect();
    HeaderValue::try_from(kept.join(";")).unwrap_or_else(|_| cookie.clone())
}

/// What the connections of a lent site share.
struct Shared {
    name: String,
    sites: Current,
    acceptor: TlsAcceptor,
    pages: BTreeMap<&'static str, Offered>,
    told: UnboundedSender<Visit>,
}

/// Lends a site under this name until it is dropped. Each visit is told.
///
/// # Errors
/// When the certificate or the root can't be used.
pub fn lend(
    listener: TcpListener,
    name: String,
    certificate: &Certificate,
    origin: Origin,
    pages: BTreeMap<&'static str, Offered>,
    told: UnboundedSender<Visit>,
) -> Result<impl Future<Output = ()> + use<>, LendError> {
    let sites = Sites::lent(&name, certificate, LentOrigin::new(origin)?)?;
    let sites: Current = Arc::new(RwLock::new(Arc::new(sites)));
    let acceptor = TlsAcceptor::from(Arc::new(tls::config(sites.clone())));
    let shared = Arc::new(Shared { name, sites, acceptor, pages, told });
    Ok(async move {
        // Strangers may come: there are few places, and who says nothing loses its own.
        let (connections, mut tasks) = (Connections::new(Some(576)), tokio::task::JoinSet::new());
        while let Some(place) = connections.place().await {
            let Ok((stream, client)) = listener.accept().await else {
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            };
            let (shared, requests) = (shared.clone(), Requests::default());
            let of_task = requests.clone();
            let task = tasks.spawn(async move {
                serve(stream, client, &shared, &of_task).await;
                drop(place);
            });
            connections.opened(task, requests);
            while tasks.try_join_next().is_some() {}
        }
    })
}

async fn serve(stream: TcpStream, client: SocketAddr, shared: &Arc<Shared>, requests: &Requests) {
    _ = stream.set_nodelay(true);
    let mut first = [0];
    let Ok(Ok(1)) = tokio::time::timeout(PATIENCE, stream.peek(&mut first)).await else { return };
    if first[0] != HANDSHAKE {
        let service = service_fn(|request: Request<Incoming>| {
            let answer = offer::answer(&shared.pages, &request);
            if answer.status() == StatusCode::OK {
                // Nobody may be listening any more.
                _ = shared.told.send(Visit::Page(client.ip(), request.uri().path().to_owned()));
            }
            async move { Ok::<_, Infallible>(answer) }
        });
        let mut builder = hyper::server::conn::http1::Builder::new();
        builder.timer(TokioTimer::new()).header_read_timeout(PATIENCE);
        _ = builder.serve_connection(TokioIo::new(stream), service).await;
        return;
    }
    let Ok(Ok(stream)) = tokio::time::timeout(PATIENCE, shared.acceptor.accept(stream)).await else { return };
    let service = service_fn(|request: Request<Incoming>| {
        let (shared, under_way) = (shared.clone(), requests.begin());
        let (request, body) = request.into_parts();
        async move {
            let sites = tls::current(&shared.sites);
            let answer = respond::answer(&sites, Some(&shared.name), client, &request, body).await;
            if answer.status() != StatusCode::MISDIRECTED_REQUEST {
                _ = shared.told.send(Visit::Site(client.ip(), agent(&request)));
            }
            let answer = if request.method == Method::HEAD { without_content(answer) } else { answer };
            Ok::<_, Infallible>(answer.map(|body| Counted { body, _under_way: under_way }))
        }
    });
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(PATIENCE);
    builder.http2().timer(TokioTimer::new()).keep_alive_interval(PATIENCE).keep_alive_timeout(PATIENCE);
    _ = builder.serve_connection_with_upgrades(TokioIo::new(stream), service).await;
}

/// The client's name for itself, of which a line has room for so much.
fn agent(request: &Parts) -> String {
    let agent = request.headers.get(USER_AGENT).map(hyper::header::HeaderValue::as_bytes).unwrap_or_default();
    String::from_utf8_lossy(agent).chars().filter(|letter| !letter.is_control()).take(80).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn redirects_and_cookies_stay_on_the_lent_name() {
        let origin = Origin {
            address: ([127, 0, 0, 1], 443).into(),
            tls: None,
            host: "saltmarsh.test".into(),
            own: vec!["https://saltmarsh.test".into(), "http://saltmarsh.test".into()],
        };
        let (origin, lent) = (LentOrigin::new(origin).unwrap(), "https://saltmarsh.local:8443");
        for (location, expected) in [
            ("https://saltmarsh.test/tides?a=b", "https://saltmarsh.local:8443/tides?a=b"),
            ("http://saltmarsh.test", "https://saltmarsh.local:8443"),
            ("https://saltmarsh.tests/", "https://saltmarsh.tests/"),
            ("https://saltmarsh.test:9443/", "https://saltmarsh.test:9443/"),
            ("/tides", "/tides"),
        ] {
            let mut headers: HeaderMap = [(LOCATION, location.parse().unwrap())].into_iter().collect();
            headers.append(SET_COOKIE, "a=1; Domain=saltmarsh.test; Path=/".parse().unwrap());
            headers.append(SET_COOKIE, "b=domain=2; HttpOnly".parse().unwrap());
            origin.as_lent(&mut headers, lent);
            assert_eq!(headers[LOCATION], expected);
            let cookies: Vec<_> = headers.get_all(SET_COOKIE).iter().collect();
            assert_eq!(cookies, ["a=1; Path=/", "b=domain=2; HttpOnly"]);
        }
        let mut headers: HeaderMap = [(ORIGIN, lent.parse().unwrap())].into_iter().collect();
        headers.insert(REFERER, format!("{lent}/a").parse().unwrap());
        origin.as_own(&mut headers, lent);
        assert_eq!(
            (&headers[ORIGIN], &headers[REFERER]),
            (
                &HeaderValue::from_static("https://saltmarsh.test"),
                &HeaderValue::from_static("https://saltmarsh.test/a")
            )
        );
    }
}
