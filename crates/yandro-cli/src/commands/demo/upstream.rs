//! The booking office: a running server that the demo maps a name to.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

const PAGE: &str = "<!doctype html>\n<title>Saltmarsh Ferries: booking</title>\n<h1>Booking office</h1>\n<p>One place left on the 18:10.</p>\n";
/// No request of the demo is longer than this, in bytes.
const LONGEST: usize = 16 * 1024;

/// Starts it on a free port of loopback; it ends with the runtime.
pub(super) async fn start() -> io::Result<SocketAddr> {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
    let address = listener.local_addr()?;
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            // A client that breaks off is of no account here.
            tokio::spawn(async move { answer(stream).await.ok() });
        }
    });
    Ok(address)
}

/// The same page for every request.
async fn answer(mut stream: TcpStream) -> io::Result<()> {
    let mut request = Vec::new();
    while !request.windows(4).any(|bytes| bytes == b"\r\n\r\n") && request.len() < LONGEST {
        if stream.read_buf(&mut request).await? == 0 {
            return Ok(());
        }
    }
    let head = format!(
        "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        PAGE.len()
    );
    stream.write_all(head.as_bytes()).await?;
    stream.write_all(PAGE.as_bytes()).await?;
    stream.shutdown().await
}
