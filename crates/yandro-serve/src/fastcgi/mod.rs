//! PHP files, run by a `FastCGI` server such as php-fpm.

mod head;
mod records;
mod variables;

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use camino::{Utf8Path, Utf8PathBuf};
use http_body_util::{BodyExt as _, Limited};
use hyper::body::{Body as _, Bytes, Frame, Incoming};
use hyper::header::SERVER;
use hyper::{Response, StatusCode};
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt as _, BufReader};
use tokio::sync::mpsc;
use yandro_core::{FastCgi, SiteVariable};

use crate::answered::Said;
use crate::body::{Body, NAME, text};
use crate::respond::Asked;
use records::{ConversationError, Record};

/// The longest body without a `Content-Length`, in bytes: it is read whole first, since PHP needs its length.
const LONGEST_UNTOLD: usize = 64 * 1024 * 1024;
/// How many pieces of an answer wait for a slow client.
const WAITING: usize = 8;
/// How long a busy PHP may take to accept a connection.
const CONNECT: Duration = Duration::from_secs(60);

/// The PHP of a site.
pub(crate) struct Php {
    address: FastCgi,
    root: Utf8PathBuf,
    /// The site's own variables.
    variables: Vec<SiteVariable>,
}

/// A PHP file that answers a request.
#[derive(Debug)]
pub(crate) struct Script {
    /// Its path of the site: `/index.php`.
    pub(crate) name: String,
    /// The file.
    pub(crate) file: Utf8PathBuf,
    /// The rest of the path, for it to read: empty, or with a slash in front.
    pub(crate) info: String,
}

/// A fault of running a file.
#[derive(Debug, thiserror::Error)]
enum RunError {
    #[error("{0}")]
    Connect(#[source] std::io::Error),
    #[error("{0}")]
    Conversation(#[from] ConversationError),
    #[error("{0}")]
    Head(#[from] head::HeadError),
}

type Reader = BufReader<Box<dyn AsyncRead + Send + Unpin>>;
type Writer = Box<dyn AsyncWrite + Send + Unpin>;

impl Php {
    pub(crate) fn new(address: &FastCgi, root: &Utf8Path, variables: &[SiteVariable]) -> Self {
        Self { address: address.clone(), root: root.to_owned(), variables: variables.to_vec() }
    }

    /// The answer of a PHP file.
    pub(crate) async fn run(&self, asked: &Asked<'_>, script: &Script, body: Incoming) -> Response<Body> {
        let body = match sized(body).await {
            Ok(body) => body,
            Err(refusal) => return refusal,
        };
        let variables = variables::of(&self.root, &self.variables, asked, script, body.length());
        let said = Said::default();
        let mut answer = self.talk(&variables, body, &said).await.unwrap_or_else(|error| self.fault(&error));
        answer.extensions_mut().insert(said);
        answer
    }

    async fn talk(
        &self,
        variables: &[(String, Vec<u8>)],
        body: Sized,
        said: &Said,
    ) -> Result<Response<Body>, RunError> {
        let connected = tokio::time::timeout(CONNECT, connect(&self.address)).await;
        let (mut reader, mut writer) =
            connected.unwrap_or_else(|_| Err(std::io::ErrorKind::TimedOut.into())).map_err(RunError::Connect)?;
        let begun = records::beginning(variables);
        // A file that doesn't read its request may answer before it has all of it: both go on at once.
        let sending = tokio::spawn(async move {
            writer.write_all(&begun).await?;
            body.write(&mut writer).await?;
            writer.flush().await?;
            // Closed, the connection would end the request.
            Ok::<Writer, std::io::Error>(writer)
        });
        let mut came = Vec::new();
        loop {
            match records::read(&mut reader).await? {
                Record::Out(piece) => came.extend_from_slice(&piece),
                Record::Error(words) => said.add(&words),
                Record::End => return Err(head::HeadError::Missing.into()),
            }
            if let Some((head, rest)) = head::split(&came)? {
                let (status, headers) = head::read(head)?;
                let rest = Bytes::copy_from_slice(rest);
                let mut answer = Response::new(following(reader, sending, rest, said.clone()));
                (*answer.status_mut(), *answer.headers_mut()) = (status, headers);
                answer.headers_mut().entry(SERVER).or_insert(NAME);
                return Ok(answer);
            }
        }
    }

    /// The page for a fault: what is wrong, and what to do.
    fn fault(&self, error: &RunError) -> Response<Body> {
        let kind = match error {
            RunError::Connect(error) | RunError::Conversation(ConversationError::Connection(error)) => {
                Some(error.kind())
            }
            _ => None,
        };
        let step = match (kind, error) {
            (Some(std::io::ErrorKind::PermissionDenied), _) => {
                "Only the web server's user may ask this PHP. Let yandro run PHP as you: yandro map NAME --php"
            }
            (_, RunError::Connect(_)) => {
                "Start it (yandro servers start built-in, or your php-fpm), then load this page again."
            }
            _ => "What it said is in `yandro logs`.",
        };
        let address = &self.address;
        text(StatusCode::BAD_GATEWAY, format!("PHP at {address} gave no answer: {error}\n{step}\n"))
    }
}

/// A request's body whose length is known.
enum Sized {
    Whole(Bytes),
    Coming(Incoming, u64),
}

impl Sized {
    /// In bytes.
    fn length(&self) -> u64 {
        match self {
            Self::Whole(body) => body.len() as u64,
            Self::Coming(_, length) => *length,
        }
    }

    async fn write(self, to: &mut Writer) -> std::io::Result<()> {
        match self {
            Self::Whole(body) if body.is_empty() => {}
            Self::Whole(body) => records::write_body(to, &body).await?,
            Self::Coming(mut body, _) => {
                while let Some(frame) = body.frame().await {
                    // The client left: the connection to PHP ends, and with it the request.
                    let frame = frame.map_err(std::io::Error::other)?;
                    if let Some(piece) = frame.data_ref().filter(|piece| !piece.is_empty()) {
                        records::write_body(to, piece).await?;
                    }
                }
            }
        }
        records::write_body(to, &[]).await
    }
}

/// The body with its length, which is waited for where the client doesn't say it.
async fn sized(body: Incoming) -> Result<Sized, Response<Body>> {
    if let Some(length) = body.size_hint().exact() {
        return Ok(if length == 0 { Sized::Whole(Bytes::new()) } else { Sized::Coming(body, length) });
    }
    match Limited::new(body, LONGEST_UNTOLD).collect().await {
        Ok(whole) => Ok(Sized::Whole(whole.to_bytes())),
        Err(error) => {
            let status = StatusCode::PAYLOAD_TOO_LARGE;
            Err(text(status, format!("A body without a length may have 64 MiB at most: {error}\n")))
        }
    }
}

async fn connect(address: &FastCgi) -> std::io::Result<(Reader, Writer)> {
    let (reader, writer): (Box<dyn AsyncRead + Send + Unpin>, Writer) = match address {
        FastCgi::Address(address) => {
            let stream = tokio::net::TcpStream::connect(address.to_string()).await?;
            _ = stream.set_nodelay(true);
            let (reader, writer) = stream.into_split();
            (Box::new(reader), Box::new(writer))
        }
        #[cfg(unix)]
        FastCgi::Socket(path) => {
            let (reader, writer) = connect_to_socket(path.as_str()).await?.into_split();
            (Box::new(reader), Box::new(writer))
        }
        #[cfg(not(unix))]
        FastCgi::Socket(_) => return Err(std::io::ErrorKind::Unsupported.into()),
    };
    Ok((BufReader::new(reader), writer))
}

/// Connects to a socket, which is there in a moment where php-fpm is being started.
#[cfg(unix)]
async fn connect_to_socket(path: &str) -> std::io::Result<tokio::net::UnixStream> {
    use std::io::ErrorKind;
    // How long it may take until it listens, and how often that is tried.
    const START: Duration = Duration::from_secs(3);
    const PAUSE: Duration = Duration::from_millis(30);
    let began = std::time::Instant::now();
    loop {
        match tokio::net::UnixStream::connect(path).await {
            Err(error)
                if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::ConnectionRefused)
                    && began.elapsed() < START =>
            {
                tokio::time::sleep(PAUSE).await;
            }
            connected => return connected,
        }
    }
}

/// The rest of an answer, as it comes.
fn following(
    mut reader: Reader,
    sending: tokio::task::JoinHandle<std::io::Result<Writer>>,
    rest: Bytes,
    said: Said,
) -> Body {
    let (send, pieces) = mpsc::channel(WAITING);
    tokio::spawn(async move {
        let _sending = AbortOnDrop(sending);
        if !rest.is_empty() && send.send(Ok(rest)).await.is_err() {
            return;
        }
        loop {
            let piece = tokio::select! {
                // The client is gone: the connection's end tells PHP.
                () = send.closed() => return,
                piece = records::read(&mut reader) => piece,
            };
            let sent = match piece {
                Ok(Record::Out(piece)) => send.send(Ok(piece)).await,
                Ok(Record::Error(words)) => {
                    said.add(&words);
                    Ok(())
                }
                Ok(Record::End) => return,
                Err(error) => {
                    _ = send.send(Err(error)).await;
                    return;
                }
            };
            if sent.is_err() {
                return;
            }
        }
    });
    Body::boxed(Following(pieces))
}

/// Ends a task with itself.
struct AbortOnDrop<T>(tokio::task::JoinHandle<T>);

impl<T> Drop for AbortOnDrop<T> {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// The pieces of an answer.
struct Following(mpsc::Receiver<Result<Bytes, ConversationError>>);

impl hyper::body::Body for Following {
    type Data = Bytes;
    type Error = ConversationError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Self::Error>>> {
        self.0.poll_recv(context).map(|piece| piece.map(|piece| piece.map(Frame::data)))
    }
}
