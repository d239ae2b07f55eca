//! The built-in server against hostile projects, clients and load.

use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::symlink;
use std::process::Command;
use std::time::Duration;

use super::built_in::Served;
use super::kit::{eventually, steady};

#[test]
fn a_project_can_not_read_its_users_files_by_links() {
    let Some(served) = Served::new() else { return };
    let root = served.sysroot.path("saltmarsh");
    let home = served.sysroot.path("home/ada");
    fs::create_dir_all(home.join(".ssh")).unwrap();
    fs::write(home.join(".ssh/id"), "the user's key").unwrap();
    fs::write(home.join("letter.txt"), "a letter").unwrap();
    for (target, link) in [
        (home.join(".local/share/yandro/authority/issuing.key"), "a.txt"),
        (home.join(".ssh/id"), "b.txt"),
        (home.join("letter.txt"), "c.txt"),
        (home.clone(), "home"),
    ] {
        symlink(target, root.join(link)).unwrap();
    }
    assert!(Command::new("mkfifo").arg(root.join("pipe")).status().unwrap().success());
    let status =
        |path: &str| served.curl(&["--output", "/dev/null", "--write-out", "%{http_code}", &served.url(path)]).stdout;
    let secrets = ["/a.txt", "/b.txt", "/home/.ssh/id", "/home/.local/share/yandro/authority/issuing.key"];
    for path in secrets.iter().chain(&["/c.txt", "/home/letter.txt", "/pipe"]) {
        assert_eq!(status(path), "404", "{path}");
    }
    let ran = served.sysroot.yandro(&["map", "saltmarsh.test", "--symlinks", "anywhere"]);
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      site list  changed /home/ada/.config/yandro/sites.toml
      proof  https://saltmarsh.test:PORT/ answers from there, over HTTPS
    note: symbolic links below $ROOT/saltmarsh are followed wherever they lead: whoever writes in that folder can have any file of yours served, but for those in hidden folders
    [status 0]
    ");
    eventually("the choice counts", || status("/c.txt") == "200");
    assert_eq!(status("/home/letter.txt"), "200");
    for path in secrets.iter().chain(&["/pipe"]) {
        assert_eq!(status(path), "404", "{path}, also where links may lead anywhere");
    }
    assert_eq!(status(&format!("/{}", "a".repeat(8192))), "404");
}

/// Sends a request over plain HTTP and gives the first line of the answer.
fn first_line(port: u16, request: &str) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut line = String::new();
    BufReader::new(stream).read_line(&mut line).unwrap();
    line.trim_end().to_owned()
}

#[test]
fn requests_that_no_server_should_answer_are_refused() {
    let Some(served) = Served::new() else { return };
    let status = |request: &str| first_line(served.http, request).split(' ').nth(1).unwrap_or_default().to_owned();
    for (request, expected) in [
        ("GET / HTTP/1.1\r\nHost: saltmarsh.test\r\nHost: crew.test\r\n\r\n", "400"),
        ("TRACE / HTTP/1.1\r\nHost: saltmarsh.test\r\n\r\n", "405"),
        ("CONNECT saltmarsh.test:22 HTTP/1.1\r\nHost: saltmarsh.test:22\r\n\r\n", "405"),
        ("GET http://saltmarsh.test/ HTTP/1.1\r\nHost: crew.test\r\n\r\n", "307"),
    ] {
        assert_eq!(status(request), expected, "{request:?}");
    }
}

/// An upstream that waits before it answers, and answers with the head of the request.
fn start_upstream(pause: Duration) -> u16 {
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let (mut head, mut stream) = (String::new(), stream);
                let mut reader = BufReader::new(stream.try_clone().unwrap());
                while !head.ends_with("\r\n\r\n") {
                    if reader.read_line(&mut head).unwrap_or(0) == 0 {
                        return;
                    }
                }
                if head.contains("/slow") {
                    std::thread::sleep(pause);
                }
                _ = write!(stream, "HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{head}", head.len());
            });
        }
    });
    port
}

#[test]
fn an_upstream_learns_the_client_and_nothing_that_the_client_made_up() {
    let Some(served) = Served::new() else { return };
    let upstream = format!("http://127.0.0.1:{}", start_upstream(Duration::ZERO));
    let map = ["map", "depot.saltmarsh.test", &upstream, "--server", "built-in", "--https", "both"];
    assert!(served.sysroot.yandro(&map).status <= 1, "this upstream's answers vary");
    let mut stream = TcpStream::connect(("127.0.0.1", served.http)).unwrap();
    let request = "GET http://depot.saltmarsh.test/tides HTTP/1.1\r\nHost: crew.test\r\nX-Forwarded-For: 8.8.8.8\r\n\
                   Forwarded: for=8.8.8.8\r\nX-Forwarded-Host: bank.test\r\nX-Forwarded-Proto: gopher\r\n\
                   Connection: close, X-Secret\r\nX-Secret: yes\r\n\r\n";
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    let answer = answer.to_ascii_lowercase();
    for line in [
        "get /tides http/1.1\r\n",
        "host: depot.saltmarsh.test\r\n",
        "x-forwarded-for: 127.0.0.1\r\n",
        "x-forwarded-host: depot.saltmarsh.test\r\n",
        "x-forwarded-proto: http\r\n",
    ] {
        assert!(answer.contains(line), "{line:?} in {answer}");
    }
    for word in ["8.8.8.8", "bank", "gopher", "x-secret", "crew"] {
        assert!(!answer.contains(word), "{word} in {answer}");
    }
}

#[test]
fn clients_that_say_nothing_lock_nobody_out() {
    let Some(served) = Served::with_limit(256) else { return };
    // Far more than it has descriptors for: some say nothing, others half a request.
    let mut silent = Vec::new();
    for number in 0..900 {
        let port = if number % 2 == 0 { served.http } else { served.https };
        let Ok(mut stream) = TcpStream::connect_timeout(&([127, 0, 0, 1], port).into(), Duration::from_secs(10)) else {
            continue;
        };
        if number % 3 == 0 {
            _ = stream.write_all(b"GET / HTTP/1.1\r\nHost: salt");
        }
        silent.push(stream);
        if number % 300 == 299 {
            let page = served.curl(&["--write-out", "%{http_code}", &served.url("/")]).stdout;
            assert!(page.ends_with("200"), "with {number} connections: {page}");
        }
    }
    assert!(silent.len() > 500, "only {} connections", silent.len());
}

#[test]
fn a_request_under_way_ends_before_the_server_does() {
    let Some(mut served) = Served::new() else { return };
    let upstream = format!("http://127.0.0.1:{}", start_upstream(Duration::from_millis(1500)));
    let map = ["map", "depot.saltmarsh.test", &upstream, "--server", "built-in", "--https", "both"];
    assert!(served.sysroot.yandro(&map).status <= 1, "this upstream's answers vary");
    let mut stream = TcpStream::connect(("127.0.0.1", served.http)).unwrap();
    stream.write_all(b"GET /slow HTTP/1.1\r\nHost: depot.saltmarsh.test\r\nConnection: close\r\n\r\n").unwrap();
    std::thread::sleep(Duration::from_millis(300));
    let pid = served.server.0.id().to_string();
    assert!(Command::new("kill").args(["-TERM", &pid]).status().unwrap().success());
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer:?}");
    assert!(served.server.0.wait().unwrap().success());
    assert!(TcpStream::connect(("127.0.0.1", served.http)).is_err(), "it listens no more");
}
