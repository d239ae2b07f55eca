//! The real Apache httpd, the real resolver and the real curl, on a private machine.

use std::fs;

use super::kit::{eventually, steady};
use super::namespace::{HOSTS, Namespace};

#[test]
fn a_folder_becomes_a_proven_site_and_goes_again() {
    let Some(machine) = Namespace::new(&["openssl"]) else { return };
    let tree = || machine.run("sh", &["-c", "cd apache2; find . | sort; cat sites-available/* ports.conf"]).stdout;
    let before = tree();

    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, www.saltmarsh.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      modules  enabled socache_shmcb, ssl, rewrite
      server  Apache httpd: configuration tested, started
      proof  https://saltmarsh.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    // The bind-mounted hosts file was written in place, and the resolver obeys it.
    let resolved = machine.run("getent", &["hosts", "www.saltmarsh.test"]).stdout;
    // `getent hosts` asks for IPv6 first.
    assert!(resolved.starts_with("::1 "), "{resolved}");

    let page = machine.curl(&["https://saltmarsh.test/"]).succeeds();
    assert_eq!(page.stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let distrusted = machine.run("curl", &["--silent", "--show-error", "https://saltmarsh.test/"]);
    assert_eq!(distrusted.status, 60, "{distrusted}");
    let head = machine.curl(&["--head", "http://www.saltmarsh.test/a%20b?tide=high&boat=%2F"]).stdout;
    assert!(head.starts_with("HTTP/1.1 307 "), "{head}");
    assert!(head.contains("Location: https://www.saltmarsh.test/a%20b?tide=high&boat=%2F\r\n"), "{head}");
    let chain = machine.path("home/.local/share/yandro/certificates/saltmarsh.test/fullchain.pem");
    let verified = machine.run(
        "openssl",
        &[
            "verify",
            "-x509_strict",
            "-CAfile",
            machine.root_certificate().to_str().unwrap(),
            "-untrusted",
            chain.to_str().unwrap(),
            "-verify_hostname",
            "www.saltmarsh.test",
            chain.to_str().unwrap(),
        ],
    );
    assert!(verified.stdout.ends_with(": OK\n"), "{verified}");

    // An override file works, as developers need it.
    fs::write(machine.path("saltmarsh/.htaccess"), "RewriteEngine on\nRewriteRule ^tides$ index.html\n").unwrap();
    assert_eq!(machine.curl(&["https://saltmarsh.test/tides"]).stdout, page.stdout);

    // Another folder, at once and without a restart.
    fs::create_dir(machine.path("tides")).unwrap();
    fs::write(machine.path("tides/index.html"), "tides\n").unwrap();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./tides"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/tides
      virtual host  changed /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      site list  changed $ROOT/home/.config/yandro/sites.toml
      server  Apache httpd: configuration tested, reloaded
      proof  https://saltmarsh.test/ answers from there, over HTTPS
    [status 0]
    ");
    assert_eq!(machine.curl(&["https://www.saltmarsh.test/"]).stdout, "tides\n");
    assert!(!machine.path("tides/.well-known").exists(), "the proof file is gone");

    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(machine.hosts(), HOSTS);
    assert_eq!(tree(), before, "modules and all");
}

#[test]
fn former_answers_stay_and_unknown_names_get_no_site() {
    // As Debian has it, and without any virtual host, as other layouts begin.
    for has_default in [true, false] {
        let Some(machine) = Namespace::new(&[]) else { return };
        if !has_default {
            fs::remove_file(machine.path("apache2/sites-enabled/000-default.conf")).unwrap();
            let main = fs::read_to_string(machine.path("apache2/apache2.conf")).unwrap();
            fs::write(machine.path("apache2/apache2.conf"), main + "DocumentRoot /var/www/html\n").unwrap();
        }
        machine.run("apachectl", &["-k", "start"]).succeeds();
        let page = |url: &str| {
            machine.run(
                "curl",
                &[
                    "--silent",
                    "--insecure",
                    "--resolve",
                    "tides.test:443:127.0.0.1",
                    "--resolve",
                    "tides.test:80:127.0.0.1",
                    url,
                ],
            )
        };
        eventually("it answers", || page("http://localhost/").status == 0);
        let before = page("http://localhost/").succeeds().stdout;
        assert!(before.contains("Apache2"), "{before}");
        for site in ["saltmarsh.test", "depot.saltmarsh.test"] {
            machine.yandro(&["map", site, "./saltmarsh"]).succeeds();
            assert_eq!(page("http://localhost/").succeeds().stdout, before);
            assert_eq!(page("http://tides.test/").succeeds().stdout, before);
            for url in ["https://localhost/", "https://tides.test/"] {
                let refused = page(url).succeeds().stdout;
                assert!(refused.contains("403 Forbidden") && !refused.contains("Saltmarsh"), "{refused}");
            }
        }
        let enabled = || machine.run("ls", &["apache2/mods-enabled"]).stdout;
        assert!(enabled().contains("ssl.load"));
        // A module that somebody else has come to use stays.
        fs::write(machine.path("apache2/conf-enabled/tides.conf"), "RewriteEngine on\n").unwrap();
        machine.yandro(&["unmap", "saltmarsh.test", "depot.saltmarsh.test"]).succeeds();
        assert!(enabled().contains("rewrite.load") && !enabled().contains("ssl.load"), "{}", enabled());
        eventually("it answers again", || page("http://localhost/").stdout == before);
    }
}

#[test]
fn a_refused_configuration_is_rolled_back() {
    let Some(machine) = Namespace::new(&[]) else { return };
    fs::write(machine.path("apache2/sites-enabled/zz-tides.conf"), "# mine\nTideTable on\n").unwrap();
    let tree = || machine.run("sh", &["-c", "find apache2 home/.config 2>/dev/null | sort; cat hosts"]).stdout;
    let before = tree();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: the server refuses its configuration as it was before yandro changed anything:
      Action '-t' failed.
      The Apache error log may have more information.
      AH00526: Syntax error on line 2 of /etc/apache2/sites-enabled/zz-tides.conf:
      Invalid command 'TideTable', perhaps misspelled or defined by a module not included in the server configuration
    everything was rolled back
    fix: correct the file and line that it names, then run the command again
    [status 3]
    ");
    assert_eq!(tree(), before);
    assert!(!machine.root_certificate().exists());
}

#[test]
fn an_unproven_site_is_rolled_back() {
    let Some(machine) = Namespace::new(&[]) else { return };
    machine.yandro(&["map", "depot.saltmarsh.test", "./saltmarsh"]).succeeds();
    let hosts = machine.hosts();
    fs::create_dir(machine.path("crew")).unwrap();
    fs::write(machine.path("crew/.htaccess"), "Require all denied\n").unwrap();
    let ran = machine.yandro(&["map", "crew.saltmarsh.test", "./crew"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: `crew.saltmarsh.test` could not be proven:
    ✗ crew.saltmarsh.test: a line of the configuration forbids $ROOT/crew
        seen: $ROOT/crew/.htaccess:1
              /var/log/apache2/crew.saltmarsh.test-error.log:N: [NOW] [authz_core:error] [PID] [CLIENT] AH01630: client denied by server configuration: $ROOT/crew/
        fix: ${EDITOR:-vi} +1 $ROOT/crew/.htaccess

    everything was rolled back
    fix: correct what was found, then map the site again
    [status 3]
    ");
    assert_eq!(machine.hosts(), hosts);
    assert!(!machine.path("apache2/sites-available/yandro-crew.saltmarsh.test.conf").exists());
    // The server reloads its former configuration.
    eventually("the old configuration answers", || machine.curl(&["https://depot.saltmarsh.test/"]).status == 0);
    eventually("the new one does not", || {
        machine
            .curl(&["--insecure", "--resolve", "crew.saltmarsh.test:443:127.0.0.1", "https://crew.saltmarsh.test/"])
            .stdout
            .contains("403 Forbidden")
    });
}

#[test]
fn faults_made_on_purpose_are_found_by_their_cause() {
    let Some(machine) = Namespace::new(&[]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let site_file = machine.path("apache2/sites-available/yandro-saltmarsh.test.conf");
    let link = machine.path("apache2/sites-enabled/yandro-saltmarsh.test.conf");
    let codes = || -> Vec<String> {
        let ran = machine.yandro(&["--json", "check"]);
        let json: serde_json::Value =
            serde_json::from_str(&ran.stdout).unwrap_or_else(|_| panic!("{}", ran.to_string()));
        assert_eq!(ran.status, i32::from(!json["sites"][0]["findings"].as_array().unwrap().is_empty()), "{ran}");
        json["sites"][0]["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|finding| finding["code"].as_str().unwrap().to_owned())
            .collect()
    };
    let reload = || {
        machine.run("apachectl", &["-k", "graceful"]);
    };
    let found = |code: &str| eventually(code, || codes() == [code]);
    let well = || eventually("all is well again", || codes().is_empty());
    well();

    fs::write(machine.path("hosts"), HOSTS).unwrap();
    found("hosts-missing");
    fs::write(machine.path("hosts"), "127.0.0.1 localhost\n127.0.0.9 saltmarsh.test\n127.0.0.1 saltmarsh.test\n")
        .unwrap();
    found("hosts-shadowed");
    fs::write(machine.path("hosts"), "127.0.0.1 localhost saltmarsh.test\n").unwrap();
    well();

    let text = fs::read_to_string(&site_file).unwrap();
    fs::rename(machine.path("saltmarsh"), machine.path("gone")).unwrap();
    found("folder-missing");
    fs::rename(machine.path("gone"), machine.path("saltmarsh")).unwrap();

    fs::write(&site_file, text.replace("RewriteEngine on", "RewriteEngine off")).unwrap();
    reload();
    found("redirect-missing");
    fs::write(&site_file, text.replace("$ROOT/saltmarsh", "$ROOT/home").replace("/saltmarsh\"", "/log\"")).unwrap();
    reload();
    eventually("answered-elsewhere", || codes().contains(&"answered-elsewhere".to_owned()));
    fs::write(&site_file, text.replace("Require all granted", "Require all denied")).unwrap();
    reload();
    found("access-denied");
    fs::write(&site_file, text.replace("SSLEngine on", "SSLEngine off")).unwrap();
    reload();
    found("tls-off");
    fs::write(&site_file, &text).unwrap();
    reload();
    well();

    fs::remove_file(machine.path("saltmarsh/index.html")).unwrap();
    fs::write(machine.path("saltmarsh/.htaccess"), "Options -Indexes\n").unwrap();
    found("index-missing");
    fs::write(machine.path("saltmarsh/index.html"), "tides\n").unwrap();

    fs::remove_file(&link).unwrap();
    reload();
    found("site-not-enabled");
    machine.yandro(&["map", "saltmarsh.test"]).succeeds();
    machine.run("apachectl", &["-k", "stop"]);
    found("server-down");
    machine.yandro(&["map", "saltmarsh.test"]).succeeds();
    well();
}

#[test]
fn an_upstream_is_passed_on_to_and_told_when_it_is_down() {
    let Some(machine) = Namespace::new(&["python3"]) else { return };
    let ran = machine.yandro(&["map", "booking.saltmarsh.test", "http://127.0.0.1:3000"]);
    assert_eq!(ran.status, 1, "written, with a finding: {ran}");
    insta::assert_snapshot!(steady(&ran), @"
    booking.saltmarsh.test -> http://127.0.0.1:3000
      authority  made, until $DATE
      certificate  made for booking.saltmarsh.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-booking.saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-booking.saltmarsh.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      modules  enabled socache_shmcb, ssl, rewrite, proxy, proxy_http, headers
      server  Apache httpd: configuration tested, started
      proof  written, but with problems

    ✗ booking.saltmarsh.test: the upstream of `booking.saltmarsh.test` doesn't answer at http://127.0.0.1:3000: start it
        seen: connection refused
        fix: curl --verbose http://127.0.0.1:3000

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 1]
    ");
    let mut upstream = machine.command("python3");
    upstream.args(["-m", "http.server", "3000", "--bind", "127.0.0.1", "--directory"]).arg(machine.path("saltmarsh"));
    let _upstream = super::kit::Background::start(&mut upstream);
    eventually("the upstream is proven", || machine.yandro(&["check"]).status == 0);
    assert_eq!(machine.curl(&["https://booking.saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
}

#[test]
fn override_files_of_a_project_without_php_choose_no_handler() {
    let Some(machine) = Namespace::new(&[]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let written = |text: &str| fs::write(machine.path("saltmarsh/.htaccess"), text).unwrap();
    let status =
        || machine.curl(&["--output", "/dev/null", "--write-out", "%{http_code}", "https://saltmarsh.test/"]).stdout;
    for usual in [
        "RewriteEngine on\nRewriteRule ^tides$ index.html\n",
        "<IfModule mod_headers.c>\nHeader set X-Ferry tide\n</IfModule>\n",
        "Require all granted\nOrder allow,deny\nAllow from all\n",
        "Options -Indexes +FollowSymLinks\nIndexOptions FancyIndexing\nDirectoryIndex index.html\n",
        "ErrorDocument 404 /index.html\nAddType text/plain .txt\nAddDefaultCharset utf-8\nSetEnv TIDE high\n",
        "<Files \"*.txt\">\nRequire all denied\n</Files>\n<FilesMatch \"[.]bak$\">\nRequire all denied\n</FilesMatch>\n",
    ] {
        written(usual);
        assert_eq!(status(), "200", "{usual}");
    }
    for hostile in [
        "SetHandler server-status\n",
        "AddHandler cgi-script .html\n",
        "Options +ExecCGI\n",
        "Options +Includes\nAddOutputFilter INCLUDES .html\n",
        "<Files index.html>\nSetHandler cgi-script\n</Files>\n",
        "<IfModule !mod_none.c>\nAddHandler cgi-script .html\n</IfModule>\n",
        "<If \"true\">\nSetHandler cgi-script\n</If>\n",
    ] {
        written(hostile);
        assert_eq!(status(), "500", "{hostile}");
    }
    // `check` reports it, and the command that it prints allows the line.
    written("AddHandler default-handler .html\n");
    let ran = machine.yandro(&["check"]);
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test  $ROOT/saltmarsh, Apache httpd
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  127.0.0.1  TIME
      ✓ resolver  ::1, 127.0.0.1  TIME
      ✓ address  this machine's own
      ✓ connection  ports 80, 443: apache2 (process PID, user root)  TIME
      ✓ virtual host  yandro-saltmarsh.test.conf:2  TIME
      ✓ HTTP  307  TIME
      ✓ redirect  307 to the same over HTTPS
      ✓ TLS handshake  TLS 1.3  TIME
      ✓ TLS, on offer  TLS 1.2 and 1.3, HTTP/1.1  TIME
      ✓ unknown names  rejected (certificate of 0.invalid)  TIME
      ✓ certificate chain  trusted
      ✓ certificate names  covered
      ✓ certificate validity  396 days
      ✓ certificate on disk  the same
      – trust stores  not trusted yet. Run: yandro authority trust
      ✗ HTTPS  500  TIME
      – application  no page of the site's own
      ✗ proof  elsewhere  TIME

    ✗ saltmarsh.test: the override file $ROOT/saltmarsh/.htaccess has a line that is refused for a site without PHP, since such lines can run programs: allow it if you trust the project
        seen: /var/log/apache2/saltmarsh.test-error.log:N: [NOW] [core:alert] [PID] [CLIENT] $ROOT/saltmarsh/.htaccess: AddHandler not allowed here
        fix: yandro map saltmarsh.test --overrides all

    1 site, 1 name: 0 proven, 1 not (TIME)
    [status 1]
    ");
    let fix = ran.stdout.lines().find_map(|line| line.split_once("yandro map saltmarsh.test --overrides all"));
    assert!(fix.is_some(), "{ran}");
    machine.yandro(&["map", "saltmarsh.test", "--overrides", "all"]).succeeds();
    assert_eq!(status(), "200");
    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["map", "saltmarsh.test", "--overrides", "on"]);
    machine.yandro(&["map", "saltmarsh.test", "--overrides", "off"]).succeeds();
    assert_eq!(status(), "200", "not even looked at");
}
