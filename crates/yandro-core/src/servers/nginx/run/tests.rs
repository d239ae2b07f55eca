use std::collections::BTreeMap;

use super::*;
use crate::servers::RuleEffect;

struct Some2(BTreeMap<&'static str, &'static str>);

impl Files for Some2 {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        self.0.get(path.as_str()).map(|text| text.as_bytes().to_vec())
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let paths =
            self.0.keys().map(|path| ServerPath::new(path)).filter(|path| path.parent().as_ref() == Some(folder));
        let names: Vec<String> = paths.map(|path| path.file_name().unwrap().to_owned()).collect();
        (!names.is_empty()).then_some(names)
    }
}

fn run(files: &[(&'static str, &'static str)]) -> NginxRun {
    NginxRun::run(&ServerPath::new("/n/nginx.conf"), &Some2(files.iter().copied().collect()))
}

#[test]
fn server_blocks_are_found_where_they_count() {
    let done = run(&[
        (
            "/n/nginx.conf",
            "user www-data;\npid /run/n.pid;\nstream { server { listen 53; } }\nhttp {\n  upstream u { server 127.0.0.1:3000; }\n  include sites/*;\n  include none/*.conf;\n  server { server_name z.test; location / { proxy_pass http://u; } }\n}\n",
        ),
        (
            "/n/sites/a",
            "server {\n  listen 80;\n  listen [::]:80;\n  server_name a.test *.a.test;\n  return 307 https://$host;\n}\n",
        ),
        (
            "/n/sites/b",
            "server { listen 443 ssl; server_name b.test; root /srv/b; }\nserver { listen 0.0.0.0:80 default_server; server_name b.test; root /srv/b; }",
        ),
    ]);
    assert_eq!(done.fault, None);
    let told: Vec<String> = done
        .answering()
        .iter()
        .map(|at| {
            let names: Vec<&str> = at.hosts.iter().map(|host| host.name.as_deref().unwrap_or("-")).collect();
            format!("{} {} ({})", at.address, names.join(" "), at.default)
        })
        .collect();
    assert_eq!(told, ["*:80 a.test b.test z.test (1)", "[::]:80 a.test (0)", "*:443 b.test (0)"]);
    assert_eq!(done.servers[0].host.instead.as_deref(), Some("redirects to https://$host"));
    assert_eq!(done.servers[3].host.instead.as_deref(), Some("http://u"));
    assert_eq!(done.servers[1].host.place.to_string(), "/n/sites/b:1");
    assert_eq!(done.includes, ["/n/sites/*", "/n/none/*.conf"]);
    assert_eq!((done.user.as_deref(), done.pid_file), (Some("www-data"), Some(ServerPath::new("/run/n.pid"))));
}

#[test]
fn the_innermost_that_says_something_of_logs_and_of_who_may_come_in_counts() {
    let done = run(&[(
        "/n/nginx.conf",
        "error_log /l/main;\nhttp {\n error_log /l/http;\n deny 10.0.0.0/8;\n server { server_name a.test; }\n server {\n  server_name b.test;\n  error_log /l/b warn;\n  allow 127.0.0.0/8;\n  deny all;\n  location ~ /x { deny all; }\n }\n server {\n  server_name c.test;\n  allow all;\n  location / {\n   deny all;\n  }\n }\n}\n",
    )]);
    let logs: Vec<&[String]> = done.servers.iter().map(|own| done.error_logs(own)).collect();
    assert_eq!(logs, [["/l/http"], ["/l/b"], ["/l/http"]]);
    for (block, address, line) in [
        (0, "127.0.0.1", None),
        (0, "10.1.1.1", Some(4)),
        (1, "127.0.0.1", None),
        (1, "192.168.0.1", Some(10)),
        (2, "127.0.0.1", Some(17)),
    ] {
        let rules = done.rules(&done.servers[block], address.parse().unwrap());
        let denied = rules.iter().find(|rule| rule.effect == RuleEffect::Denies);
        assert_eq!(denied.map(|rule| rule.place.line), line, "{block} {address}");
    }
    assert_eq!(run(&[("/n/nginx.conf", "http { server { } }")]).error_logs(&done.servers[0]), [""; 0]);
}

#[test]
fn the_file_of_the_process_is_found_without_reading_the_rest() {
    let of = |files: &[(&'static str, &'static str)]| {
        let files = Some2(files.iter().copied().collect());
        NginxRun::pid_file_of(&ServerPath::new("/n/nginx.conf"), &files).map(|path| path.to_string())
    };
    let found = |path: &str| Some(path.to_owned());
    assert_eq!(of(&[("/n/nginx.conf", "pid /run/n.pid;\nhttp { never closed")]), found("/run/n.pid"));
    let below = "http { include gone.conf; server { pid x; } }\ninclude x;\nuser a;\n";
    assert_eq!(of(&[("/n/nginx.conf", below), ("/n/x", "pid logs/n.pid;")]), found("/n/logs/n.pid"));
    assert_eq!(of(&[("/n/nginx.conf", "http { }")]), None);
}

#[test]
fn faults_have_their_place() {
    let told = |text: &'static str| run(&[("/n/nginx.conf", text)]).fault.unwrap().to_string();
    assert_eq!(
        told("http {\n include mime.types;\n}\n"),
        "/n/nginx.conf:2: `mime.types` is included, and there is no such file"
    );
    assert_eq!(told("http {\n server {\n}\n"), "/n/nginx.conf:1: `http` is never closed");
    assert_eq!(
        told("\u{feff}http { }\n"),
        "/n/nginx.conf:1: the file begins with a byte order mark, which the server refuses"
    );
    assert!(told("include nginx.conf;\n").contains("does a file include itself?"));
    assert_eq!(run(&[]).fault.unwrap().to_string(), "/n/nginx.conf:1: the main file can't be read");
}

#[test]
fn lines_that_answer_in_the_place_of_the_folder_are_found() {
    let of = |lines: &str| -> Vec<String> {
        let text: &'static str = format!("http {{\nlimit_req zone=a;\nserver {{\n{lines}\n}}\n}}\n").leak();
        let done = run(&[("/n/nginx.conf", text)]);
        assert_eq!(done.fault, None, "{lines}");
        let rules = done.rules(&done.servers[0], "127.0.0.1".parse().unwrap()).into_iter();
        let told = rules.filter(|rule| rule.effect != RuleEffect::Limits);
        told.map(|rule| format!("{:?} {}", rule.effect, rule.place.line)).collect()
    };
    for (lines, expected) in [
        ("return 403;", vec!["Answers(403) 4"]),
        ("return 307 https://$host;", vec![]),
        ("location = / {\nreturn 403;\n}", vec!["Answers(403) 5"]),
        ("location ~* \\.HTML$ {\nreturn 403;\n}", vec!["Answers(403) 5"]),
        ("location ^~ /admin {\nreturn 403;\n}", vec![]),
        ("location ~ /[.]ht {\ndeny all;\n}", vec![]),
        ("location / {\nif ($a) {\nreturn 410;\n}\n}", vec!["Answers(410) 6"]),
        ("if ($a) {\nreturn 444;\n}", vec!["Answers(444) 5"]),
        ("location = /index.html {\ninternal;\n}", vec!["Answers(404) 5"]),
        ("ssl_verify_client on;", vec!["WantsCertificate 4"]),
        ("ssl_verify_client optional;", vec![]),
        ("ssl_protocols TLSv1 TLSv1.1;", vec!["OldTls 4"]),
        ("ssl_protocols TLSv1.1 TLSv1.2;", vec![]),
        ("disable_symlinks if_not_owner;", vec!["BarsLinks 4"]),
        ("index a.html;", vec!["Indexes([\"a.html\"]) 4"]),
    ] {
        assert_eq!(of(lines), expected, "{lines}");
    }
}
