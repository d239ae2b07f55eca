//! The Windows of a test.

use std::env;
use std::fmt;
use std::fs;
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// The hosts file.
pub(crate) const HOSTS: &str = r"C:\Windows\System32\drivers\etc\hosts";
/// Its content at the beginning of each test: manual lines with CRLF.
pub(crate) const BY_HAND: &str = "# by hand\r\n127.0.0.1 localhost\r\n10.0.0.7 printer.test # the office's\r\n";
/// How long anything is waited for.
const PATIENCE: Duration = Duration::from_secs(120);

/// Tests run one at a time, since they share the machine.
static ONE: Mutex<()> = Mutex::new(());

/// A clean Windows with a folder of the ferry line's.
pub(crate) struct Machine {
    _one: MutexGuard<'static, ()>,
}

/// Exit status and output of a command.
pub(crate) struct Ran {
    pub(crate) status: i32,
    pub(crate) stdout: String,
    pub(crate) stderr: String,
}

impl fmt::Display for Ran {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}[status {}]", self.stdout, self.stderr, self.status)
    }
}

impl Ran {
    #[track_caller]
    pub(crate) fn succeeds(self) -> Self {
        assert_eq!(self.status, 0, "{self}");
        self
    }

    #[track_caller]
    pub(crate) fn says(self, text: &str) -> Self {
        assert!(self.stdout.contains(text) || self.stderr.contains(text), "no `{text}` in\n{self}");
        self
    }
}

impl Machine {
    /// `None` unless this is a machine for tests.
    pub(crate) fn take() -> Option<Self> {
        if env::var_os("YANDRO_TEST_MACHINE").is_none() {
            assert!(env::var_os("YANDRO_REQUIRE_REAL").is_none(), "no Windows is there for the test");
            return None;
        }
        let machine = Self { _one: ONE.lock().unwrap_or_else(PoisonError::into_inner) };
        fs::create_dir_all(r"C:\sites").unwrap();
        machine.yandro(&["servers", "stop", "built-in"]);
        for folder in [r"C:\sites", r"C:\nginx", r"C:\Apache24", r"C:\web tools"] {
            _ = fs::remove_dir_all(folder);
        }
        for folder in machine.own_folders() {
            _ = fs::remove_dir_all(folder);
        }
        write(HOSTS, BY_HAND);
        write(r"C:\sites\saltmarsh\public\index.html", "<h1>Saltmarsh Ferries</h1>\n");
        write(r"C:\sites\depot\index.html", "<h1>Depot</h1>\n");
        Some(machine)
    }

    /// The folders of yandro's own files.
    pub(crate) fn own_folders(&self) -> [PathBuf; 2] {
        ["APPDATA", "LOCALAPPDATA"].map(|name| PathBuf::from(env::var_os(name).unwrap()).join("yandro"))
    }

    pub(crate) fn command(&self, program: impl AsRef<Path>, arguments: &[&str]) -> Command {
        let mut command = Command::new(program.as_ref());
        command.args(arguments).current_dir(r"C:\sites").stdin(Stdio::null());
        command
    }

    pub(crate) fn yandro(&self, arguments: &[&str]) -> Ran {
        self.run(program(env!("CARGO_BIN_EXE_yandro")), arguments)
    }

    /// The same with variables in its environment.
    pub(crate) fn with(&self, arguments: &[&str], variables: &[(&str, &str)]) -> Ran {
        let mut command = self.command(program(env!("CARGO_BIN_EXE_yandro")), arguments);
        said(command.envs(variables.iter().copied()))
    }

    pub(crate) fn run(&self, program: impl AsRef<Path>, arguments: &[&str]) -> Ran {
        said(&mut self.command(program, arguments))
    }

    /// Starts a program that stays, and waits until something answers on a port.
    pub(crate) fn start(&self, program: impl AsRef<Path>, arguments: &[&str], port: u16) -> Running {
        let running = Running(self.command(program, arguments).stdout(Stdio::null()).spawn().unwrap());
        eventually("it listens", || TcpStream::connect(("127.0.0.1", port)).is_ok());
        running
    }

    /// Requests a page with WinHTTP, which trusts the system's root store. Returns the status and the page, or WinHTTP's
    /// error (12157: the certificate isn't trusted).
    pub(crate) fn fetch(&self, host: &str) -> Option<String> {
        let client = tool("YANDRO_WINHTTP")?;
        Some(self.run(client, &[host, "443", "/"]).stdout.trim().to_owned())
    }

    /// A real nginx in a folder, with a site by hand; `None` where there is none for the test.
    pub(crate) fn nginx(&self, folder: &str) -> Option<PathBuf> {
        let from = tool("YANDRO_NGINX")?;
        for inner in ["conf", "logs", "html"] {
            fs::create_dir_all(Path::new(folder).join(inner)).unwrap();
        }
        let program = Path::new(folder).join("nginx.exe");
        fs::copy(from, &program).unwrap();
        write(&Path::new(folder).join(r"html\index.html"), "the usual page\n");
        write(&Path::new(folder).join(r"conf\nginx.conf"), &NGINX.replace('\n', "\r\n"));
        Some(program)
    }
}

/// The built-in server stays in the background otherwise.
impl Drop for Machine {
    fn drop(&mut self) {
        self.yandro(&["servers", "stop", "built-in"]);
    }
}

const NGINX: &str = "worker_processes 1;
events { worker_connections 64; }
http {
    default_type text/html;
    server { listen 80; server_name localhost; location / { root html; } }
    server { listen 80; server_name pier.test; root C:/sites/depot; }
}
";

/// Runs a command to its end.
fn said(command: &mut Command) -> Ran {
    let ran = command.output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Ran { status: ran.status.code().unwrap_or(-1), stdout: text(&ran.stdout), stderr: text(&ran.stderr) }
}

/// A program that runs until this is dropped.
pub(crate) struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        _ = self.0.kill();
        _ = self.0.wait();
    }
}

/// A path of the system that Wine runs on is on its drive Z.
fn program(path: &str) -> PathBuf {
    if path.starts_with('/') { format!("Z:{path}").into() } else { path.into() }
}

/// A program that the test was given.
fn tool(variable: &str) -> Option<PathBuf> {
    let path = env::var(variable).ok();
    assert!(path.is_some() || env::var_os("YANDRO_REQUIRE_REAL").is_none(), "{variable} is not set");
    path.map(|path| program(&path))
}

pub(crate) fn write(path: impl AsRef<Path>, text: &str) {
    let path = path.as_ref();
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, text).unwrap();
}

pub(crate) fn read(path: impl AsRef<Path>) -> String {
    String::from_utf8(fs::read(path).unwrap()).unwrap()
}

/// All files below a folder, with their content.
pub(crate) fn tree(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() { found.extend(tree(&path)) } else { found.push((path.clone(), fs::read(path).unwrap())) }
    }
    found.sort();
    found
}

#[track_caller]
pub(crate) fn eventually(what: &str, holds: impl Fn() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < PATIENCE, "not within {} s: {what}", PATIENCE.as_secs());
        std::thread::sleep(Duration::from_millis(50));
    }
}
