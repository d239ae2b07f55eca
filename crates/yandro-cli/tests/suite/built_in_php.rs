//! PHP on the built-in server: a real php-fpm, which runs with the rights of an ordinary user.

use std::fs;

use super::background::{machine, without_sudo};
use super::harbour::Harbour;
use super::kit::{eventually, has};
use super::pools::start_php;

const URL: &str = "https://shop.localhost:8443";
/// Answers with what it was asked.
const ASKED: &str = r"<?php
$asked = ['host' => $_SERVER['HTTP_HOST'], 'uri' => $_SERVER['REQUEST_URI'], 'script' => $_SERVER['SCRIPT_NAME'],
    'info' => $_SERVER['PATH_INFO'] ?? '', 'https' => $_SERVER['HTTPS'] ?? '', 'method' => $_SERVER['REQUEST_METHOD'],
    'user' => posix_getpwuid(posix_geteuid())['name'], 'get' => $_GET, 'post' => $_POST, 'cookie' => $_COOKIE,
    'tide' => $_SERVER['TIDE'] ?? '', 'key' => $_SERVER['KEY'] ?? '', 'proxy' => $_SERVER['HTTP_PROXY'] ?? '',
    'length' => strlen(file_get_contents('php://input')), 'port' => $_SERVER['SERVER_PORT'],
    'same' => realpath($_SERVER['SCRIPT_FILENAME']) === __FILE__];
header('Content-Type: application/json');
echo json_encode($asked, JSON_UNESCAPED_SLASHES);
";

/// Ada's project with PHP on the built-in server, mapped without any right of root's.
fn shop() -> Option<Harbour> {
    if !has(&["php"], true) {
        return None;
    }
    let harbour = machine("[built-in]\nhttp-port = 8080\nhttps-port = 8443\n")?;
    without_sudo(&harbour);
    let shop = harbour.machine.path("ada/shop");
    fs::remove_file(shop.join("index.html")).unwrap();
    let write = |file: &str, text: &str| fs::write(shop.join(file), text).unwrap();
    write("index.php", ASKED);
    write("tides.txt", "high at noon\n");
    write("wrong.php", "<?php\nno_such_tide();\n");
    write("early.php", "<?php\nheader('HTTP/1.1 404 Not Found'); echo str_repeat('x', 3000000);\n");
    write("away.php", "<?php\nheader('Location: /tides.txt'); setcookie('a', '1'); setcookie('b', '2');\n");
    write(
        "slow.php",
        "<?php\nwhile (ob_get_level()) ob_end_clean();\necho 'first'; flush(); sleep(20); echo 'last';\n",
    );
    fs::write(harbour.machine.path("ada/key"), "secret\n").unwrap();
    harbour.machine.run("chown", &["-R", "ada", &harbour.home(Some("ada"))]).succeeds();
    let home = harbour.home(Some("ada"));
    let (shop, key) = (format!("{home}/shop"), format!("KEY@{home}/key"));
    let words = ["map", "shop.localhost", &shop, "--server", "built-in", "--php", "--fallback", "/index.php"];
    let ran = harbour.yandro(&[&words[..], &["--env", "TIDE=high", "--env", &key]].concat()).succeeds();
    assert!(ran.stdout.contains(&format!("{URL}/ answers from there, over HTTPS")), "{ran}");
    Some(harbour)
}

impl Harbour {
    fn shop_page(&self, more: &[&str], path: &str) -> String {
        let url = format!("{URL}{path}");
        self.machine.run("curl", &[&["-sk", "--max-time", "30"], more, &[&url]].concat()).stdout
    }

    fn asked(&self, more: &[&str], path: &str) -> serde_json::Value {
        let page = self.shop_page(more, path);
        serde_json::from_str(&page).unwrap_or_else(|error| panic!("{path}: {error}: {page}"))
    }

    fn php_of_ada(&self) -> String {
        self.machine.run("pgrep", &["-u", "ada", "php-fpm"]).stdout
    }
}

#[test]
fn php_runs_as_the_user_and_reads_each_request_as_it_was_sent() {
    let Some(harbour) = shop() else { return };
    for version in ["--http1.1", "--http2"] {
        let asked =
            harbour.asked(&[version, "-b", "a=1; b=2", "-H", "Proxy: evil", "-d", "boat=ada&n=2"], "/?tide=low");
        let expected = serde_json::json!({
            "host": "shop.localhost:8443", "uri": "/?tide=low", "script": "/index.php", "info": "", "https": "on",
            "method": "POST", "user": "ada", "get": {"tide": "low"}, "post": {"boat": "ada", "n": "2"},
            "cookie": {"a": "1", "b": "2"}, "tide": "high", "key": "secret", "proxy": "", "length": 12, "port": "8443",
            "same": true,
        });
        assert_eq!(asked, expected, "{version}");
    }
    // What is no file has the front controller, also by another method; a path behind a script is the script's.
    let asked = harbour.asked(&["-X", "DELETE"], "/booking/7?x=%2F");
    assert_eq!(
        (&asked["uri"], &asked["script"], &asked["method"]),
        (&"/booking/7?x=%2F".into(), &"/index.php".into(), &"DELETE".into())
    );
    let asked = harbour.asked(&[], "/index.php/booking/7");
    assert_eq!((&asked["script"], &asked["info"]), (&"/index.php".into(), &"/booking/7".into()));
    assert_eq!(harbour.shop_page(&[], "/tides.txt"), "high at noon\n");
    // Large bodies, with a length and without; an answer that comes before the request was read.
    fs::write(harbour.machine.path("ada/large"), vec![b'x'; 5_000_000]).unwrap();
    let large = format!("@{}/large", harbour.home(Some("ada")));
    let raw = ["-H", "Content-Type: application/octet-stream", "--data-binary", &large];
    assert_eq!(harbour.asked(&raw, "/")["length"], 5_000_000);
    let chunked = [&["--http1.1", "-H", "Transfer-Encoding: chunked"], &raw[..]].concat();
    assert_eq!(harbour.asked(&chunked, "/")["length"], 5_000_000);
    let told = harbour
        .shop_page(&[&["-o", "/dev/null", "-w", "%{http_code} %{size_download}"], &raw[..]].concat(), "/early.php");
    assert_eq!(told, "404 3000000");
    let away = harbour.shop_page(&["-D", "-", "-o", "/dev/null"], "/away.php");
    assert!(away.starts_with("HTTP/2 302") && away.matches("set-cookie: ").count() == 2, "{away}");
    // A secret is read anew, and no source is sent.
    fs::write(harbour.machine.path("ada/key"), "another").unwrap();
    assert_eq!(harbour.asked(&[], "/")["key"], "another");
    let link = harbour.machine.path("ada/shop/notes.txt");
    std::os::unix::fs::symlink("wrong.php", &link).unwrap();
    for path in ["/notes.txt", "/wrong.PHP", "/wrong.phtml", "/wrong.php.", "/.wrong.php"] {
        assert!(!harbour.shop_page(&[], path).contains("no_such_tide"), "{path}");
    }
    // What PHP says on the side is in the site's log.
    assert_eq!(harbour.shop_page(&["-o", "/dev/null", "-w", "%{http_code}"], "/wrong.php?x"), "500");
    let mut logs = String::new();
    eventually("the log has the error", || {
        logs = harbour.yandro(&["logs", "shop.localhost", "--once", "--errors"]).succeeds().stdout;
        logs.contains("Call to undefined function no_such_tide()")
    });
    assert!(logs.contains("(GET /wrong.php?x)"), "{logs}");
    harbour.yandro(&["check"]).succeeds();
    fs::write(harbour.machine.path("ada/shop/index.php"), "<?php\n\nno_such_tide();\n").unwrap();
    let ran = harbour.yandro(&["check"]);
    let (said, fix) =
        ("PHP ends with a fault: Uncaught Error: Call to undefined function no_such_tide()\n", "/ada/shop/index.php\n");
    assert!(ran.stdout.contains(said) && ran.stdout.contains(" +3 ") && ran.stdout.contains(fix), "{ran}");
}

#[test]
fn its_php_comes_and_goes_with_the_server_and_is_nobody_elses() {
    let Some(harbour) = shop() else { return };
    // A piece of a page comes at once, and a client that leaves ends nothing but its request.
    let first = harbour.machine.run("sh", &["-c", &format!("curl -skN --max-time 2 {URL}/slow.php")]);
    assert_eq!(first.stdout, "first", "{first}");
    assert_eq!(harbour.asked(&[], "/")["user"], "ada");
    let socket = "/.local/share/yandro/php/fpm.sock";
    let mode = harbour.machine.run("stat", &["-c", "%a %U", &format!("{}{socket}", harbour.home(Some("ada")))]).stdout;
    assert_eq!(mode, "600 ada\n");
    // Killed, it comes back; killed with the server, too.
    let before = harbour.php_of_ada();
    harbour.machine.run("pkill", &["-9", "-u", "ada", "php-fpm"]).succeeds();
    eventually("php-fpm is back", || !harbour.php_of_ada().is_empty() && harbour.php_of_ada() != before);
    harbour.machine.run("pkill", &["-9", "-u", "ada", "-f", "serve --kept"]).succeeds();
    eventually("all of it is back", || harbour.shop_page(&[], "/").contains("\"user\":\"ada\""));
    assert_eq!(harbour.machine.run("pgrep", &["-u", "ada", "-f", "php-fpm: master"]).stdout.lines().count(), 1);
    // Without PHP it ends, and the source isn't sent.
    harbour.yandro(&["map", "shop.localhost", "--php", "off"]).succeeds();
    eventually("php-fpm ends", || harbour.php_of_ada().is_empty());
    let page = harbour.shop_page(&["-w", "%{http_code}"], "/index.php");
    assert!(page.contains("yandro map NAME --php") && page.ends_with("501"), "{page}");
    // A pool of the web server's user is another person's.
    let _php = start_php(&harbour);
    let socket = harbour.machine.run("sh", &["-c", "ls /run/php/php*.sock | tail -n 1"]).stdout;
    let (socket, version) =
        (socket.trim(), socket.trim().trim_start_matches("/run/php/php").trim_end_matches("-fpm.sock"));
    let mapped = harbour.yandro(&["map", "shop.localhost", &format!("--php={socket}")]);
    assert!(harbour.shop_page(&[], "/").contains("yandro map NAME --php"));
    let said = format!("the server's user `ada` may not use the socket of PHP, {socket}\n");
    for ran in [mapped, harbour.yandro(&["check"])] {
        assert!(ran.stdout.contains(&said) && ran.stdout.contains("fix: yandro map shop.localhost --php\n"), "{ran}");
        assert_eq!(ran.status, 1, "{ran}");
    }
    harbour.yandro(&["map", "shop.localhost", &format!("--php={version}")]).succeeds();
    eventually("the version runs", || harbour.shop_page(&[], "/").contains("\"user\":\"ada\""));
    harbour.yandro(&["uninstall", "--yes"]).succeeds();
    eventually("nothing of it is left", || harbour.servers_of_ada().is_empty() && harbour.php_of_ada().is_empty());
    assert!(!harbour.machine.path("ada/.local/share/yandro").exists());
}
