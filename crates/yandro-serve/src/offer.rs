//! Offering a few public files over plain HTTP for a while: the root certificate, to a phone.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;

use http_body_util::Full;
use hyper::body::Bytes;
use hyper::header::{CACHE_CONTROL, CONTENT_DISPOSITION, CONTENT_TYPE};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;
use tokio::sync::mpsc::UnboundedSender;

/// A file that is offered.
#[derive(Clone, Debug)]
pub struct Offered {
    /// Its media type.
    pub media: &'static str,
    /// The name under which it is saved; `None` for a page that is shown.
    pub saved_as: Option<&'static str>,
    /// Its content. Public: everybody on the network can fetch it.
    pub content: Vec<u8>,
}

/// Serves these files by their paths, and nothing else, until it is dropped. Each fetch is reported: the
/// path, and who fetched it.
pub async fn offer(
    listener: TcpListener,
    files: BTreeMap<&'static str, Offered>,
    told: UnboundedSender<(String, String)>,
) {
    let files = Arc::new(files);
    let mut connections = tokio::task::JoinSet::new();
    loop {
        let Ok((stream, from)) = listener.accept().await else { continue };
        let (files, told) = (Arc::clone(&files), told.clone());
        connections.spawn(async move {
            let service = service_fn(move |request: Request<hyper::body::Incoming>| {
                let answer = answer(&files, &request);
                if answer.status() == StatusCode::OK {
                    // Nobody may be listening any more.
                    _ = told.send((request.uri().path().to_owned(), from.ip().to_string()));
                }
                async move { Ok::<_, Infallible>(answer) }
            });
            _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
        });
        while connections.try_join_next().is_some() {}
    }
}

pub(crate) fn answer<B>(files: &BTreeMap<&'static str, Offered>, request: &Request<B>) -> Response<Full<Bytes>> {
    let plain = |status: StatusCode| {
        let mut answer = Response::new(Full::new(Bytes::from_static(b"there is nothing here\n")));
        *answer.status_mut() = status;
        answer
    };
    if request.method() != Method::GET && request.method() != Method::HEAD {
        return plain(StatusCode::METHOD_NOT_ALLOWED);
    }
    let Some(file) = files.get(request.uri().path()) else { return plain(StatusCode::NOT_FOUND) };
    let mut answer = Response::builder().header(CONTENT_TYPE, file.media).header(CACHE_CONTROL, "no-store");
    if let Some(name) = file.saved_as {
        answer = answer.header(CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\""));
    }
    answer
        .body(Full::new(Bytes::from(file.content.clone())))
        .unwrap_or_else(|_| plain(StatusCode::INTERNAL_SERVER_ERROR))
}
