//! The built-in server, asked by the real curl.

use std::net::TcpListener;
use std::process::Command;

use super::kit::{Background, Ran, Sysroot, eventually, has, steady};

/// A sysroot with two sites, served on free ports.
pub struct Served {
    pub sysroot: Sysroot,
    pub http: u16,
    pub https: u16,
    pub server: Background,
}

impl Served {
    pub fn new() -> Option<Self> {
        Self::with_limit(1024)
    }

    /// With so many file descriptors for the server.
    pub fn with_limit(descriptors: u32) -> Option<Self> {
        if !has(&["curl"], false) {
            return None;
        }
        let sysroot = Sysroot::new();
        let free = || TcpListener::bind(("127.0.0.1", 0)).unwrap().local_addr().unwrap().port();
        let (http, https) = (free(), free());
        sysroot.write(
            "home/ada/.config/yandro/settings.toml",
            &format!("[built-in]\nhttp-port = {http}\nhttps-port = {https}\n"),
        );
        sysroot.write("crew.txt", "not to be served\n");
        sysroot.write("depot/crew.txt", "not to be served either\n");
        sysroot.write("saltmarsh/tides.css", "0123456789");
        let ran = sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
        assert!(ran.stdout.contains("yandro servers start built-in"), "{ran}");
        let serve = sysroot.command(&["serve"]);
        let mut limited = Command::new("sh");
        limited.args(["-c", r#"ulimit -n "$1"; shift; exec "$@""#, "sh", &descriptors.to_string()]);
        limited.arg(serve.get_program()).args(serve.get_args()).env_clear().env("HOME", "/home/ada");
        let server = Background::start(limited.current_dir(sysroot.root()));
        let served = Self { sysroot, http, https, server };
        eventually("the server answers", || served.sysroot.yandro(&["check"]).status == 0);
        Some(served)
    }

    pub fn curl(&self, arguments: &[&str]) -> Ran {
        let root = self.sysroot.path("home/ada/.local/share/yandro/authority/root.pem");
        let mut command = Command::new("curl");
        command
            .args([
                "--silent",
                "--show-error",
                "--max-time",
                "10",
                "--path-as-is",
                "--capath",
                "/nonexistent",
                "--cacert",
            ])
            .arg(root);
        for name in ["saltmarsh.test", "depot.saltmarsh.test", "crew.test"] {
            for port in [self.http, self.https] {
                command.args(["--resolve", &format!("{name}:{port}:127.0.0.1")]);
            }
        }
        Ran::of(command.args(arguments).output().unwrap(), self.sysroot.root())
    }

    pub fn url(&self, path: &str) -> String {
        format!("https://saltmarsh.test:{}{path}", self.https)
    }
}

#[test]
fn files_are_served_as_the_standards_want() {
    let Some(served) = Served::new() else { return };
    let head = |extra: &[&str], path: &str| {
        served.curl(&[&["--head"], extra, &[&served.url(path)]].concat()).stdout.to_lowercase()
    };
    for version in ["--http1.1", "--http2"] {
        let page = served
            .curl(&[version, "--write-out", "%{http_version} %{http_code} %{content_type}", &served.url("/")])
            .stdout;
        let number = if version == "--http2" { "2" } else { "1.1" };
        assert_eq!(page, format!("<h1>Saltmarsh Ferries</h1>\n{number} 200 text/html"));
    }
    let css = head(&[], "/tides.css");
    assert!(css.contains("content-type: text/css") && css.contains("content-length: 10"), "{css}");
    let part = served.curl(&["--range", "2-4", "--write-out", " %{http_code}", &served.url("/tides.css")]).stdout;
    assert_eq!(part, "234 206");
    assert!(head(&["--range", "20-"], "/tides.css").contains(" 416 "));
    let headers = served.curl(&["--head", &served.url("/tides.css")]).stdout;
    let modified = headers.lines().find_map(|line| line.strip_prefix("last-modified: ")).unwrap().to_owned();
    assert!(head(&["--header", &format!("If-Modified-Since: {modified}")], "/tides.css").contains(" 304 "));
    assert!(head(&[], "/nowhere").contains(" 404 "));
    let posted = served.curl(&["--data", "x", "--write-out", "%{http_code}", &served.url("/")]);
    assert!(posted.stdout.ends_with("405"), "{posted}");
}

#[test]
fn nothing_outside_the_document_root_comes_out() {
    let Some(served) = Served::new() else { return };
    for path in [
        "/../crew.txt",
        "/%2e%2e/crew.txt",
        "/..%2fcrew.txt",
        "/%2e%2e%2fcrew.txt",
        "/tides.css/../../crew.txt",
        "//etc/passwd",
        "/..%5ccrew.txt",
        "/%00",
    ] {
        let ran = served.curl(&["--write-out", " %{http_code}", &served.url(path)]);
        assert!(!ran.stdout.contains("not to be served") && !ran.stdout.ends_with("200"), "{path}: {ran}");
    }
    // Nor what is hidden, nor the source of what should run.
    served.sysroot.write("saltmarsh/.env", "TIDE=secret\n");
    served.sysroot.write("saltmarsh/book.php", "<?php secret();\n");
    for (path, status) in
        [("/.env", "404"), ("/%2eenv", "404"), ("/book.php", "501"), ("/book.%70hp", "501"), ("/book.PHP/x", "404")]
    {
        let ran = served.curl(&["--write-out", " %{http_code}", &served.url(path)]);
        assert!(!ran.stdout.contains("secret") && ran.stdout.ends_with(status), "{path}: {ran}");
    }
}

#[test]
fn each_name_has_its_own_certificate_and_no_other_name_any() {
    let Some(served) = Served::new() else { return };
    // A site mapped while the server runs is served, and proven, at once.
    let ran = served
        .sysroot
        .yandro(&["map", "depot.saltmarsh.test", "./depot", "--document-root", "public", "--server", "built-in"])
        .succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    depot.saltmarsh.test -> $ROOT/depot/public
      certificate  made for depot.saltmarsh.test, until $DATE
      hosts file  changed /etc/hosts
      site list  changed /home/ada/.config/yandro/sites.toml
      proof  https://depot.saltmarsh.test:PORT/ answers from there, over HTTPS
    [status 0]
    ");
    let depot = format!("https://depot.saltmarsh.test:{}/", served.https);
    assert_eq!(served.curl(&[&depot]).stdout, "<h1>Depot handbook</h1>\n");
    let stranger = served.curl(&["--insecure", &format!("https://crew.test:{}/", served.https)]);
    assert_eq!(stranger.status, 35, "no handshake for a name that is no site: {stranger}");
    let misdirected =
        served.curl(&["--header", "Host: depot.saltmarsh.test", "--write-out", "%{http_code}", &served.url("/")]);
    assert!(misdirected.stdout.ends_with("421"), "{misdirected}");

    let plain = |host: &str| {
        served
            .curl(&[
                "--write-out",
                "%{http_code} %{redirect_url}",
                "--output",
                "/dev/null",
                &format!("http://{host}:{}/a?b=c", served.http),
            ])
            .stdout
    };
    assert_eq!(plain("saltmarsh.test"), format!("307 https://saltmarsh.test:{}/a?b=c", served.https));
    assert_eq!(plain("crew.test"), "404 ");
}

#[test]
fn it_listens_on_loopback_alone() {
    let Some(served) = Served::new() else { return };
    let sockets = std::fs::read_to_string("/proc/net/tcp").unwrap()
        + &std::fs::read_to_string("/proc/net/tcp6").unwrap_or_default();
    let port = format!(":{:04X}", served.https);
    let local: Vec<&str> = sockets
        .lines()
        .filter_map(|line| line.split_whitespace().nth(1))
        .filter(|address| address.ends_with(&port))
        .collect();
    assert!(!local.is_empty());
    for address in local {
        let is_loopback = address.starts_with("0100007F:") || address.starts_with("00000000000000000000000001000000:");
        assert!(is_loopback, "{address}");
    }
}

#[test]
fn an_interrupted_check_leaves_no_proof_file() {
    if !has(&["kill"], false) {
        return;
    }
    let sysroot = Sysroot::new();
    // A server that takes connections and never says a word.
    let silent = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let port = silent.local_addr().unwrap().port();
    let settings = "home/ada/.config/yandro/settings.toml";
    sysroot.write(settings, "[built-in]\nhttp-port = 1\nhttps-port = 1\n");
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    sysroot.write(settings, &format!("[built-in]\nhttp-port = {port}\nhttps-port = {port}\n"));
    for signal in ["INT", "TERM"] {
        let mut check = sysroot.command(&["check"]).stderr(std::process::Stdio::null()).spawn().unwrap();
        eventually("the proof file is there", || sysroot.path("saltmarsh/.well-known").exists());
        assert!(Command::new("kill").args(["-s", signal, &check.id().to_string()]).status().unwrap().success());
        assert_eq!(check.wait().unwrap().code(), Some(3));
        assert!(!sysroot.path("saltmarsh/.well-known").exists(), "{signal}");
    }
}

/// An upstream that echoes what comes after an upgrade, and tells of any other request what it was.
fn start_upstream() -> u16 {
    use std::io::{BufRead as _, BufReader, Read as _, Write as _};
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let mut reader = BufReader::new(stream.try_clone().unwrap());
                let mut stream = stream;
                let mut head = String::new();
                while !head.ends_with("\r\n\r\n") {
                    if reader.read_line(&mut head).unwrap_or(0) == 0 {
                        return;
                    }
                }
                let head = head.to_ascii_lowercase();
                if head.contains("upgrade: tide\r\n") {
                    stream
                        .write_all(b"HTTP/1.1 101 Switching Protocols\r\nConnection: upgrade\r\nUpgrade: tide\r\n\r\n")
                        .unwrap();
                    let mut word = [0; 4];
                    while reader.read_exact(&mut word).is_ok() {
                        stream.write_all(&word).unwrap();
                    }
                } else {
                    let lines =
                        |start: &str| head.lines().find(|line| line.starts_with(start)).unwrap_or_default().to_owned();
                    // The first page says nothing of the connection, as pages don't.
                    let connection = if head.starts_with("get / ") { String::new() } else { lines("connection:") };
                    let body =
                        format!("{}|{}|{}|{connection}\n", lines("get "), lines("host:"), lines("x-forwarded-proto:"));
                    write!(stream, "HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{body}", body.len()).unwrap();
                }
            });
        }
    });
    port
}

#[test]
fn an_upstream_is_passed_on_to_with_its_host_and_upgrades_go_through() {
    if !has(&["openssl"], false) {
        return;
    }
    let Some(served) = Served::new() else { return };
    let upstream = format!("http://127.0.0.1:{}", start_upstream());
    served.sysroot.yandro(&["map", "depot.saltmarsh.test", &upstream, "--server", "built-in"]).succeeds();
    for version in ["--http1.1", "--http2"] {
        let url = format!("https://depot.saltmarsh.test:{}/tides?at=noon", served.https);
        let page = served.curl(&[version, "--header", "Connection: keep-alive, x-own", &url]).stdout;
        let line = page.trim().split('|').collect::<Vec<_>>();
        assert_eq!(line[0], "get /tides?at=noon http/1.1", "{version}");
        assert!(line[1].starts_with("host: depot.saltmarsh.test"), "{page}");
        assert_eq!((line[2], line[3]), ("x-forwarded-proto: https", ""), "one connection's own headers stay behind");
    }
    let talk = format!(
        "(printf 'GET /live HTTP/1.1\\r\\nHost: depot.saltmarsh.test\\r\\nConnection: Upgrade\\r\\nUpgrade: tide\\r\\n\\r\\n'; sleep 0.5; printf 'high'; sleep 0.5) | \
         timeout 3 openssl s_client -quiet -alpn http/1.1 -connect 127.0.0.1:{} -servername depot.saltmarsh.test 2>/dev/null",
        served.https
    );
    let output = Command::new("sh").args(["-c", &talk]).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(text.starts_with("HTTP/1.1 101 ") && text.ends_with("\r\n\r\nhigh"), "{text:?}");
}
