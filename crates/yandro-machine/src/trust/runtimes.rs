//! Whether runtimes trust the authority: each found one is had to ask a server of our own for a page,
//! and a request that arrives is one of a client that took the certificate.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use rustls::ServerConfig;
use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;
use yandro_core::{JAVA_SOURCE, Key, NOT_INSTALLED, RUNTIMES};

use crate::os;
use crate::traced::Traced;

/// How long one of them has.
const PATIENCE: Duration = Duration::from_secs(10);

/// Whether a runtime trusts the authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Measured {
    /// Title for people.
    pub title: String,
    /// Its program.
    pub program: Utf8PathBuf,
    /// Whether its request arrived.
    pub trusts: bool,
}

/// Why the runtimes could not be asked.
#[derive(Debug, thiserror::Error)]
pub enum MeasureError {
    /// The certificate is none.
    #[error(transparent)]
    Certificate(#[from] rustls::pki_types::pem::Error),
    /// No server can be made with it.
    #[error(transparent)]
    Tls(#[from] rustls::Error),
    /// The key is none.
    #[error("{0}")]
    Key(&'static str),
    /// The server can't listen, or a file can't be written.
    #[error(transparent)]
    System(#[from] std::io::Error),
}

/// Asks every runtime that is found on `path` (as in the variable of that name) by a certificate
/// for 127.0.0.1 that the authority issued.
///
/// # Errors
/// When the server can't listen, or the certificate isn't one.
pub async fn measure(path: &str, chain_pem: &str, key: &Key) -> Result<Vec<Measured>, MeasureError> {
    let chain: Vec<CertificateDer<'static>> =
        CertificateDer::pem_slice_iter(chain_pem.as_bytes()).collect::<Result<_, _>>()?;
    let key = PrivateKeyDer::try_from(key.to_secret_der().to_vec()).map_err(MeasureError::Key)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, key))?;
    let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
    let port = listener.local_addr()?.port();
    let asked = Arc::new(Mutex::new(BTreeSet::new()));
    let serving = tokio::spawn(serve(listener, TlsAcceptor::from(Arc::new(config)), Arc::clone(&asked)));
    let source = tempfile::Builder::new().suffix(".java").tempfile()?;
    source.as_file().write_all(JAVA_SOURCE.as_bytes())?;
    let mut tasks = Vec::new();
    for (number, asking) in found(path, source.path().to_str().unwrap_or_default()).into_iter().enumerate() {
        let run = tokio::task::spawn_blocking(move || {
            let is_there = run(&asking, number, port);
            (number, asking, is_there)
        });
        tasks.push(run);
    }
    let mut done = Vec::new();
    for task in tasks {
        done.extend(task.await.ok().filter(|(.., is_there)| *is_there));
    }
    serving.abort();
    let asked = asked.lock().unwrap_or_else(PoisonError::into_inner);
    let measured = |(number, asking, _): (usize, Asking, bool)| Measured {
        trusts: asked.contains(&number),
        title: asking.title,
        program: asking.program,
    };
    Ok(done.into_iter().map(measured).collect())
}

/// A program and its arguments.
struct Asking {
    title: String,
    program: Utf8PathBuf,
    arguments: Vec<String>,
    input: &'static str,
}

fn found(path: &str, java_source: &str) -> Vec<Asking> {
    let on_path = |name: &str| path.split(':').map(|folder| Utf8Path::new(folder).join(name)).find(|own| own.is_file());
    let known = RUNTIMES.iter().filter_map(|runtime| {
        let arguments = runtime.arguments.iter().map(|&word| word.to_owned()).collect();
        Some(Asking {
            title: runtime.title.into(),
            program: on_path(runtime.program)?,
            arguments,
            input: runtime.input,
        })
    });
    let java = on_path("java").filter(|program| has_compiler(program)).map(|program| {
        let arguments = vec!["-XX:-UsePerfData".to_owned(), java_source.to_owned(), "{url}".to_owned()];
        Asking { title: "Java".into(), program, arguments, input: "" }
    });
    known.chain(java).collect()
}

fn has_compiler(program: &Utf8Path) -> bool {
    let real = os::real_path(program).unwrap_or_else(|_| program.to_owned());
    real.with_file_name("javac").is_file()
}

/// Runs one to its end; whether it is there at all.
fn run(asking: &Asking, number: usize, port: u16) -> bool {
    let fill = |word: &str| {
        let (host, path) = (format!("127.0.0.1:{port}"), format!("/{number}"));
        word.replace("{url}", &format!("https://{host}{path}")).replace("{host}", &host).replace("{path}", &path)
    };
    let mut command = Command::new(&asking.program);
    command
        .args(asking.arguments.iter().map(|word| fill(word)))
        // A proxy would answer in our place; git would ask for a password.
        .env("NO_PROXY", "127.0.0.1")
        .env("no_proxy", "127.0.0.1")
        .env("GIT_TERMINAL_PROMPT", "0")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    let traced = Traced::new(&command);
    let Ok(mut child) = command.spawn().inspect_err(|error| traced.not_started(error)) else { return false };
    let input = child.stdin.take().map(|mut stdin| {
        _ = stdin.write_all(fill(asking.input).as_bytes());
        stdin
    });
    // A program that reads on keeps its standard input until the answer has come.
    let _held = if asking.input.is_empty() { None } else { input };
    let deadline = Instant::now() + PATIENCE;
    loop {
        match child.try_wait() {
            Ok(Some(status)) => {
                traced.ended(status);
                return status.code() != Some(NOT_INSTALLED);
            }
            Ok(None) if Instant::now() < deadline => std::thread::sleep(Duration::from_millis(5)),
            _ => {
                _ = child.kill();
                _ = child.wait();
                return true;
            }
        }
    }
}

/// Answers every request, and notes its number.
async fn serve(listener: TcpListener, acceptor: TlsAcceptor, asked: Arc<Mutex<BTreeSet<usize>>>) {
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        let (acceptor, asked) = (acceptor.clone(), Arc::clone(&asked));
        tokio::spawn(async move {
            let Ok(mut stream) = acceptor.accept(stream).await else { return };
            let mut head = vec![0; 2048];
            let length = stream.read(&mut head).await.unwrap_or_default();
            let line = String::from_utf8_lossy(&head[..length]).into_owned();
            let path = line.split(' ').nth(1).unwrap_or_default();
            if let Ok(number) = path.trim_start_matches('/').split(['/', '?']).next().unwrap_or_default().parse() {
                asked.lock().unwrap_or_else(PoisonError::into_inner).insert(number);
            }
            _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 3\r\nConnection: close\r\n\r\nok\n").await;
            _ = stream.shutdown().await;
        });
    }
}
