//! Listening and speaking.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, RwLock};
use std::time::Duration;

use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Method, Request};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;

use crate::answered::{Measured, OnAnswered, Reported};
use crate::body::without_content;
use crate::connections::{Connections, Counted, Prompt, Requests};
use crate::respond;
use crate::sites::Sites;
use crate::tls::{self, Current};
use crate::workers::Workers;

/// How long a client may take over its handshake.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// How long a client may take to send the headers of a request, and be idle before it.
const HEADERS: Duration = Duration::from_secs(30);
/// How long requests under way have to end when the server stops.
const STOP: Duration = Duration::from_secs(10);

/// A server that has its ports and doesn't answer yet.
#[derive(Debug)]
pub struct Server {
    http: Vec<TcpListener>,
    https: Vec<TcpListener>,
}

/// A handle on a server that answers.
pub struct Running {
    sites: Current,
    accepting: JoinSet<()>,
    graceful: Arc<GracefulShutdown>,
    workers: Arc<Workers>,
}

impl Server {
    /// Listens on the ports on each of these addresses; 0 means any free one.
    ///
    /// # Errors
    /// When an address or a port is not to be had.
    pub async fn bind(addresses: &[IpAddr], http_port: u16, https_port: u16) -> io::Result<Self> {
        let (mut http, mut https) = (Vec::new(), Vec::new());
        for &address in addresses {
            http.push(listen(address, http_port).await?);
            https.push(listen(address, https_port).await?);
        }
        Ok(Self { http, https })
    }

    /// Takes sockets that listen already, which systemd opened for it: those on this port are for HTTPS.
    ///
    /// # Errors
    /// When one can't be used, or there is none for HTTP or for HTTPS.
    pub fn of_listeners(listeners: Vec<std::net::TcpListener>, https_port: u16) -> io::Result<Self> {
        let (mut http, mut https) = (Vec::new(), Vec::new());
        for listener in listeners {
            listener.set_nonblocking(true)?;
            let is_https = listener.local_addr()?.port() == https_port;
            if is_https { &mut https } else { &mut http }.push(TcpListener::from_std(listener)?);
        }
        if http.is_empty() || https.is_empty() {
            return Err(io::Error::new(io::ErrorKind::AddrNotAvailable, "a socket for HTTP or for HTTPS is missing"));
        }
        Ok(Self { http, https })
    }

    /// The ports for HTTP and HTTPS, on the first address.
    ///
    /// # Errors
    /// When the system doesn't say.
    pub fn ports(&self) -> io::Result<(u16, u16)> {
        Ok((first_port(&self.http)?, first_port(&self.https)?))
    }

    /// Answers for these sites, until it is stopped or the runtime ends. `open_files` is how many files the process may
    /// have open, by which connections are limited; `None` without a limit. `report` is told of each request once it is
    /// answered.
    ///
    /// # Errors
    /// When the system doesn't say which ports it gave, or gives no thread.
    pub fn start(self, sites: Sites, open_files: Option<u64>, report: Option<&OnAnswered>) -> io::Result<Running> {
        let (_, https_port) = self.ports()?;
        let current: Current = Arc::new(RwLock::new(Arc::new(sites)));
        let acceptor = TlsAcceptor::from(Arc::new(tls::config(current.clone())));
        let (graceful, connections) = (Arc::new(GracefulShutdown::new()), Connections::new(open_files));
        let (mut accepting, workers) = (JoinSet::new(), Arc::new(Workers::start()?));
        let shared = |tls: Option<TlsAcceptor>| SharedState {
            sites: current.clone(),
            https_port,
            tls,
            connections: connections.clone(),
            report: report.cloned(),
        };
        for listener in self.http {
            accepting.spawn(accept(listener, shared(None), workers.clone(), graceful.clone()));
        }
        for listener in self.https {
            accepting.spawn(accept(listener, shared(Some(acceptor.clone())), workers.clone(), graceful.clone()));
        }
        Ok(Running { sites: current, accepting, graceful, workers })
    }
}

fn first_port(listeners: &[TcpListener]) -> io::Result<u16> {
    let first = listeners.first().ok_or(io::ErrorKind::AddrNotAvailable)?;
    first.local_addr().map(|address| address.port())
}

impl Running {
    /// Answers for these sites from now on. Requests under way end as they began.
    pub fn exchange(&self, sites: Sites) {
        *self.sites.write().expect("no holder panics") = Arc::new(sites);
    }

    /// Takes no more connections, and waits until requests under way have ended: ten seconds at most.
    pub async fn stop(mut self) {
        self.accepting.shutdown().await;
        // A client that takes longer is cut off.
        if let Some(graceful) = Arc::into_inner(self.graceful) {
            _ = tokio::time::timeout(STOP, graceful.shutdown()).await;
        }
        drop(self.workers);
    }
}

/// The shared state of the connections of one port.
#[derive(Clone)]
struct SharedState {
    sites: Current,
    https_port: u16,
    /// For HTTPS.
    tls: Option<TlsAcceptor>,
    connections: Connections,
    report: Option<OnAnswered>,
}

async fn listen(address: IpAddr, port: u16) -> io::Result<TcpListener> {
    let address = SocketAddr::new(address, port);
    TcpListener::bind(address)
        .await
        .map_err(|error| io::Error::new(error.kind(), format!("port {port} of {}: {error}", address.ip())))
}

async fn accept(listener: TcpListener, shared: SharedState, workers: Arc<Workers>, graceful: Arc<GracefulShutdown>) {
    while let Some(place) = shared.connections.place().await {
        let accepted = listener.accept().await.and_then(|(stream, client)| {
            _ = stream.set_nodelay(true);
            // The worker's own runtime watches it from now on.
            Ok((stream.into_std()?, client))
        });
        match accepted {
            Ok((stream, client)) => {
                let (requests, connections) = (Requests::default(), shared.connections.clone());
                let (shared, of_task, watcher) = (shared.clone(), requests.clone(), graceful.watcher());
                let task = workers.next().spawn(async move {
                    if let Ok(stream) = TcpStream::from_std(stream) {
                        serve(stream, client, shared, of_task, watcher).await;
                    }
                    drop(place);
                });
                connections.opened(task.abort_handle(), requests);
            }
            // Out of file descriptors, or a client that went away: others still come.
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
}

async fn serve(stream: TcpStream, client: SocketAddr, shared: SharedState, requests: Requests, watcher: Watcher) {
    let stream = Prompt::new(stream);
    match &shared.tls {
        None => speak(stream, &shared, Talk { client, sni: None, requests, watcher }).await,
        Some(acceptor) => {
            let Ok(Ok(stream)) = tokio::time::timeout(HANDSHAKE, acceptor.accept(stream)).await else { return };
            let sni: Option<Arc<str>> = stream.get_ref().1.server_name().map(Into::into);
            speak(stream, &shared, Talk { client, sni, requests, watcher }).await;
        }
    }
}

/// A connection with a client.
struct Talk {
    client: SocketAddr,
    /// The name that it asked for when it shook hands.
    sni: Option<Arc<str>>,
    requests: Requests,
    watcher: Watcher,
}

/// Answers the requests of one connection.
async fn speak<S>(stream: S, shared: &SharedState, talk: Talk)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let Talk { sni, client, requests, watcher } = talk;
    let service = service_fn(|request: Request<Incoming>| {
        let (sites, sni, under_way) = (tls::current(&shared.sites), sni.clone(), requests.begin());
        let (is_secure, https_port) = (shared.tls.is_some(), shared.https_port);
        let (request, body) = request.into_parts();
        let reported = shared.report.as_ref().map(|report| Reported::begin(report, client.ip(), &request));
        async move {
            let response = if is_secure {
                respond::answer(&sites, sni.as_deref(), client, &request, body).await
            } else {
                respond::answer_plain(&sites, https_port, client, &request, body).await
            };
            let response = if request.method == Method::HEAD { without_content(response) } else { response };
            let reported = reported.map(|reported| reported.of_answer(&response));
            let response = response.map(|body| Measured { body, reported });
            Ok::<_, std::convert::Infallible>(response.map(|body| Counted { body, _under_way: under_way }))
        }
    });
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(HEADERS);
    builder.http2().timer(TokioTimer::new()).keep_alive_interval(HEADERS).keep_alive_timeout(HEADERS);
    let connection = builder.serve_connection_with_upgrades(TokioIo::new(Prompt::new(stream)), service);
    // A client that disconnects is not a fault.
    _ = watcher.watch(connection).await;
}

impl std::fmt::Debug for Running {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Running").field(&*tls::current(&self.sites)).finish()
    }
}
