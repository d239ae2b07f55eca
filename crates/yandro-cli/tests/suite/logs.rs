//! `yandro logs`: requests and errors of one site, from both servers, as they come.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::process::Stdio;

use super::harbour::{Harbour, Server};
use super::kit::{Background, eventually};

/// Gives the site's log a format with the time that a request took.
const APACHE_TIMED: &str = r#"echo 'LogFormat "%h %l %u %t \"%r\" %>s %O \"%{Referer}i\" \"%{User-Agent}i\" in=%I %{us}T" timed' >/etc/apache2/conf-enabled/timed.conf
sed -i 's/\(CustomLog.*\) combined/\1 timed/' /etc/apache2/sites-available/yandro-saltmarsh.test.conf"#;
const NGINX_TIMED: &str = r#"echo "log_format timed '\$remote_addr - \$remote_user [\$time_local] \"\$request\" \$status \$body_bytes_sent ' '\"\$http_referer\" \"\$http_user_agent\" rt=\$request_time';" >/etc/nginx/conf.d/timed.conf
sed -i 's/\(access_log [^;]*\);/\1 timed;/' /etc/nginx/sites-available/yandro-saltmarsh.test.conf"#;

#[test]
fn requests_and_errors_of_a_site_are_printed_as_they_come() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(harbour) = Harbour::new(server, &["ada"]) else { return };
        let machine = &harbour.machine;
        for site in ["saltmarsh", "depot"] {
            let folder = machine.path(site);
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join("index.html"), format!("{site}\n")).unwrap();
            let name = format!("{site}.test");
            machine.yandro(&["map", &name, folder.to_str().unwrap(), "--server", server.word()]).succeeds();
        }
        let ask = |path: &str| machine.curl(&["-so", "/dev/null", &format!("https://saltmarsh.test{path}")]);
        ask("/");
        ask("/gone");
        machine.curl(&["-so", "/dev/null", "https://depot.test/other"]);
        let logs = |words: &[&str]| machine.yandro(&[&["logs", "saltmarsh.test", "--once"], words].concat());
        let ran = logs(&[]).succeeds();
        assert!(ran.stdout.contains("  200  GET /  ") && ran.stdout.contains("  404  GET /gone  "), "{ran}");
        assert!(!ran.stdout.contains("/other") && !ran.stdout.contains("yandro-proof"), "{ran}");
        assert!(logs(&["-v"]).succeeds().stdout.contains("yandro-proof"));
        let ran = logs(&["--errors"]).succeeds();
        assert!(ran.stdout.contains("GET /gone") && !ran.stdout.contains("  200  "), "{ran}");
        let ran = logs(&["--json", "--last", "1", "--since", "1h"]);
        assert_eq!(ran.status, 2, "{ran}");
        let ran = logs(&["--json", "--since", "1h"]).succeeds();
        let lines: Vec<serde_json::Value> =
            ran.stdout.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert!(lines.iter().any(|line| line["status"] == 404 && line["request"] == "GET /gone"), "{ran}");
        assert_eq!(logs(&["--since", "2099-01-01T00:00:00Z"]).succeeds().stdout, "");
        // How long a request took, where the format has that.
        assert!(lines.iter().all(|line| line["took"].is_null()), "{ran}");
        let timed = if server == Server::Apache { APACHE_TIMED } else { NGINX_TIMED };
        machine.run("sh", &["-c", timed]).succeeds();
        machine.yandro(&["servers", "reload", server.word()]).succeeds();
        ask("/timed");
        let ran = logs(&["--json", "--last", "1"]).succeeds();
        let line: serde_json::Value = serde_json::from_str(ran.stdout.trim()).unwrap();
        assert!(line["took"].as_f64().is_some_and(|took| took < 60_000.0) && line["request"] == "GET /timed", "{ran}");
        let ran = logs(&["--last", "1"]).succeeds();
        assert!(ran.stdout.contains("  404  GET /timed  ") && ran.stdout.contains(" ms  "), "{ran}");
        // As they come, also after the file was rotated.
        let mut command = machine.command(super::kit::YANDRO);
        let command = command.args(["logs", "saltmarsh.test", "--last", "0"]).stdin(Stdio::null());
        let mut following = Background(command.stdout(Stdio::piped()).spawn().unwrap());
        let mut lines = BufReader::new(following.0.stdout.take().unwrap()).lines();
        // A request before the file is open is not followed: ask until one is.
        let (send, received) = std::sync::mpsc::channel();
        std::thread::spawn(move || while lines.next().is_some_and(|line| send.send(line.unwrap()).is_ok()) {});
        let comes = |path: &str| {
            eventually("the request is printed", || {
                ask(path);
                received.try_iter().any(|line| line.contains(path))
            });
        };
        comes("/live");
        let rotate = "for log in $(ls /var/log/*/saltmarsh.test-access.log); do mv $log $log.1; done";
        machine.run("sh", &["-c", rotate]).succeeds();
        machine.yandro(&["servers", "reload", server.word()]).succeeds();
        comes("/after-rotation");
    }
}

#[test]
fn a_site_without_logs_is_told_how_to_get_them() {
    let sysroot = super::kit::Sysroot::new();
    sysroot.write("etc/hosts", "127.0.0.1 localhost\n");
    sysroot.write("home/ada/tides/index.html", "tides\n");
    let folder = sysroot.path("home/ada/tides");
    sysroot.yandro(&["map", "tides.test", folder.to_str().unwrap(), "--server", "built-in"]).succeeds();
    for (words, said) in [
        (&["crew.test"][..], "no such site: `crew.test`"),
        (
            &["tides.test", "--since", "yesterday"],
            "`yesterday` is not a time\nfix: write how long ago, as 10m, 2h or 1d",
        ),
        (&["tides.test", "--since", "m"], "`m` is not a time"),
    ] {
        let ran = sysroot.yandro(&[&["logs"], words].concat());
        assert!(ran.status == 2 && ran.stderr.contains(said), "{ran}");
    }
}

#[test]
fn the_built_in_server_logs_each_request_with_its_time() {
    let Some(served) = super::built_in::Served::new() else { return };
    let logs = |words: &[&str]| served.sysroot.yandro(&[&["logs", "saltmarsh.test", "--once"], words].concat());
    let asked = |path: &str| served.curl(&["-A", "ferry \"1\"", "-o", "/dev/null", &served.url(path)]);
    asked("/tides.css?at=noon");
    asked("/gone");
    eventually("the requests are written", || logs(&[]).stdout.contains("  404  GET /gone  "));
    let ran = logs(&["--json"]).succeeds();
    let lines: Vec<serde_json::Value> = ran.stdout.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let css = lines.iter().find(|line| line["request"] == "GET /tides.css?at=noon").unwrap();
    assert!(css["status"] == 200 && css["bytes"] == 10 && css["client"] == "127.0.0.1", "{css}");
    assert!(css["took"].as_f64().is_some_and(|took| took > 0.0 && took < 60_000.0), "{css}");
    assert!(css["line"].as_str().unwrap().contains(" HTTP/2.0\" 200 10 \"-\" \"ferry \\\"1\\\"\" "), "{css}");
    // Of the requests of a check, only on request.
    assert!(!ran.stdout.contains("yandro-check"), "{ran}");
    let log = served.sysroot.path("home/ada/.local/share/yandro/logs/access.log");
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(log).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
}
