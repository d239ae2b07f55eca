//! Listening and speaking.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, RwLock};
use std::time::Duration;

use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;

use crate::respond;
use crate::sites::Sites;
use crate::tls::{self, Current};

/// How long a client may take over its handshake.
const HANDSHAKE: Duration = Duration::from_secs(10);

/// A server that has its ports and doesn't answer yet.
#[derive(Debug)]
pub struct Server {
    http: Vec<TcpListener>,
    https: Vec<TcpListener>,
}

/// A handle on a server that answers.
#[derive(Clone)]
pub struct Running {
    sites: Current,
}

impl Server {
    /// Takes the ports on each of these addresses; 0 stands for any free one.
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

    /// The ports for HTTP and HTTPS, on the first address.
    ///
    /// # Errors
    /// When the system doesn't say.
    pub fn ports(&self) -> io::Result<(u16, u16)> {
        let port = |listeners: &[TcpListener]| {
            let first = listeners.first().ok_or(io::ErrorKind::AddrNotAvailable)?;
            first.local_addr().map(|address| address.port())
        };
        Ok((port(&self.http)?, port(&self.https)?))
    }

    /// Answers for these sites, until the runtime ends.
    ///
    /// # Errors
    /// When the system doesn't say which ports it gave.
    pub fn start(self, sites: Sites) -> io::Result<Running> {
        let (_, https_port) = self.ports()?;
        let current: Current = Arc::new(RwLock::new(Arc::new(sites)));
        for listener in self.http {
            let current = current.clone();
            tokio::spawn(accept(listener, move |stream| plain(stream, current.clone(), https_port)));
        }
        let acceptor = TlsAcceptor::from(Arc::new(tls::config(current.clone())));
        for listener in self.https {
            let (current, acceptor) = (current.clone(), acceptor.clone());
            tokio::spawn(accept(listener, move |stream| secure(stream, acceptor.clone(), current.clone())));
        }
        Ok(Running { sites: current })
    }
}

impl Running {
    /// Answers for these sites from now on. Requests under way end as they began.
    pub fn exchange(&self, sites: Sites) {
        *self.sites.write().expect("no holder panics") = Arc::new(sites);
    }
}

async fn listen(address: IpAddr, port: u16) -> io::Result<TcpListener> {
    let address = SocketAddr::new(address, port);
    TcpListener::bind(address)
        .await
        .map_err(|error| io::Error::new(error.kind(), format!("port {port} of {}: {error}", address.ip())))
}

async fn accept<F>(listener: TcpListener, serve: impl Fn(TcpStream) -> F)
where
    F: Future<Output = ()> + Send + 'static,
{
    let mut connections = JoinSet::new();
    loop {
        match listener.accept().await {
            Ok((stream, _)) => {
                _ = stream.set_nodelay(true);
                connections.spawn(serve(stream));
            }
            // Out of file descriptors, or a client that went away: others still come.
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
        while connections.try_join_next().is_some() {}
    }
}

async fn plain(stream: TcpStream, sites: Current, https_port: u16) {
    let service = service_fn(|request| {
        let sites = tls::current(&sites);
        async move { Ok::<_, std::convert::Infallible>(respond::answer_plain(&sites, https_port, request).await) }
    });
    // A client that breaks off is no fault of ours, and there is nobody to tell.
    _ = Builder::new(TokioExecutor::new()).serve_connection_with_upgrades(TokioIo::new(stream), service).await;
}

async fn secure(stream: TcpStream, acceptor: TlsAcceptor, sites: Current) {
    let Ok(Ok(stream)) = tokio::time::timeout(HANDSHAKE, acceptor.accept(stream)).await else { return };
    let sni: Option<Arc<str>> = stream.get_ref().1.server_name().map(Into::into);
    let service = service_fn(|request| {
        let (sites, sni) = (tls::current(&sites), sni.clone());
        async move { Ok::<_, std::convert::Infallible>(respond::answer(&sites, sni.as_deref(), request).await) }
    });
    _ = Builder::new(TokioExecutor::new()).serve_connection_with_upgrades(TokioIo::new(stream), service).await;
}

impl std::fmt::Debug for Running {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Running").field(&*tls::current(&self.sites)).finish()
    }
}
