//! How a site is served: folders, PHP, ports, logs and the rest, by the real Apache httpd.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};

use super::kit::{Background, YANDRO, eventually, steady};
use super::namespace::Namespace;

fn mode(machine: &Namespace, path: &str) -> u32 {
    fs::metadata(machine.path(path)).unwrap().permissions().mode() & 0o7777
}

#[test]
fn map_reports_and_fixes_a_folder_that_the_server_cannot_enter() {
    let Some(machine) = Namespace::new(&["getfacl"]) else { return };
    let tree = || machine.run("sh", &["-c", "find apache2 home/.config 2>/dev/null | sort; cat hosts"]).stdout;
    let before = tree();
    fs::create_dir_all(machine.path("crew/site/public")).unwrap();
    fs::write(machine.path("crew/site/public/index.html"), "crew\n").unwrap();
    for folder in ["crew", "crew/site"] {
        fs::set_permissions(machine.path(folder), fs::Permissions::from_mode(0o700)).unwrap();
    }
    let ran = machine.yandro(&["map", "crew.saltmarsh.test", "./crew/site"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: the server's user `www-data` may not enter $ROOT/crew: its mode is 0700; nothing was changed
    fix: setfacl --modify user:www-data:x $ROOT/crew
    fix: or have yandro do that for every folder on the way: add `--fix-permissions`
    [status 3]
    ");
    assert_eq!(tree(), before, "nothing was written");

    let preview = machine.yandro(&["--preview", "map", "crew.saltmarsh.test", "./crew/site", "--fix-permissions"]);
    insta::assert_snapshot!(steady(&preview), @r#"
    rights $ROOT/crew: www-data:x on its access control list
    rights $ROOT/crew/site: www-data:x on its access control list
    folder +$ROOT/home/.local/share/yandro/authority
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/authority/root.pem
    (1 certificate in PEM)
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/authority/issuing.pem
    (1 certificate in PEM)
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/authority/issuing.key
    (a key: not shown)
    folder +$ROOT/home/.local/share/yandro/certificates/crew.saltmarsh.test
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/certificates/crew.saltmarsh.test/key.pem
    (a key: not shown)
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/certificates/crew.saltmarsh.test/fullchain.pem
    (2 certificates in PEM)
    link +/etc/apache2/mods-enabled/socache_shmcb.load -> ../mods-available/socache_shmcb.load
    link +/etc/apache2/mods-enabled/ssl.load -> ../mods-available/ssl.load
    link +/etc/apache2/mods-enabled/ssl.conf -> ../mods-available/ssl.conf
    link +/etc/apache2/mods-enabled/rewrite.load -> ../mods-available/rewrite.load
    --- /dev/null
    +++ /etc/apache2/sites-available/yandro-crew.saltmarsh.test.conf
    @@ -0,0 +1,30 @@
    +# crew.saltmarsh.test: a site of root, in $ROOT/home/.config/yandro/sites.toml; lines that you add here stay
    +<VirtualHost *:80>
    +	ServerName crew.saltmarsh.test
    +	RewriteEngine on
    +	RewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI} [R=307,L]
    +	ErrorLog ${APACHE_LOG_DIR}/crew.saltmarsh.test-error.log
    +	CustomLog ${APACHE_LOG_DIR}/crew.saltmarsh.test-access.log combined
    +</VirtualHost>
    +
    +<VirtualHost *:443>
    +	ServerName crew.saltmarsh.test
    +	DocumentRoot "$ROOT/crew/site/public"
    +	<Directory "$ROOT/crew/site/public">
    +		Options Indexes FollowSymLinks
    +		AllowOverride AuthConfig Indexes Limit Options=Indexes,MultiViews,FollowSymLinks,SymLinksIfOwnerMatch
    +		AllowOverrideList AddCharset AddDefaultCharset AddEncoding AddLanguage AddOutputFilter AddOutputFilterByType AddType BrowserMatch BrowserMatchNoCase DefaultLanguage ErrorDocument FileETag ForceLanguagePriority Header LanguagePriority PassEnv Redirect RedirectMatch RedirectPermanent RedirectTemp RemoveCharset RemoveEncoding RemoveLanguage RemoveType RequestHeader RewriteBase RewriteCond RewriteEngine RewriteOptions RewriteRule SetEnv SetEnvIf SetEnvIfNoCase SetOutputFilter UnsetEnv AcceptPathInfo
    +		Require all granted
    +	</Directory>
    +	<Location />
    +		AuthMerging And
    +		Require local
    +	</Location>
    +	SSLEngine on
    +	SSLProtocol -all +TLSv1.2 +TLSv1.3
    +	SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20
    +	SSLCertificateFile "$ROOT/home/.local/share/yandro/certificates/crew.saltmarsh.test/fullchain.pem"
    +	SSLCertificateKeyFile "$ROOT/home/.local/share/yandro/certificates/crew.saltmarsh.test/key.pem"
    +	ErrorLog ${APACHE_LOG_DIR}/crew.saltmarsh.test-error.log
    +	CustomLog ${APACHE_LOG_DIR}/crew.saltmarsh.test-access.log combined
    +</VirtualHost>
    link +/etc/apache2/sites-enabled/yandro-crew.saltmarsh.test.conf -> ../sites-available/yandro-crew.saltmarsh.test.conf
    folder +$ROOT/home/.local/share/yandro/certificates/0.invalid
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/certificates/0.invalid/key.pem
    (a key: not shown)
    --- /dev/null
    +++ $ROOT/home/.local/share/yandro/certificates/0.invalid/fullchain.pem
    (2 certificates in PEM)
    --- /dev/null
    +++ /etc/apache2/sites-available/yandro-0.invalid.conf
    @@ -0,0 +1,13 @@
    +# Default virtual hosts for unknown host names, shared by all site lists; kept by `yandro map`
    +# Modules that yandro enabled: socache_shmcb ssl rewrite
    +<VirtualHost *:443>
    +	ServerName localhost
    +	SSLEngine on
    +	SSLProtocol -all +TLSv1.2 +TLSv1.3
    +	SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20
    +	SSLCertificateFile "$ROOT/home/.local/share/yandro/certificates/0.invalid/fullchain.pem"
    +	SSLCertificateKeyFile "$ROOT/home/.local/share/yandro/certificates/0.invalid/key.pem"
    +	<Location />
    +		Require all denied
    +	</Location>
    +</VirtualHost>
    link +/etc/apache2/sites-enabled/yandro-0.invalid.conf -> ../sites-available/yandro-0.invalid.conf
    --- /etc/hosts
    +++ /etc/hosts
    @@ -1 +1,5 @@
     127.0.0.1 localhost
    +# yandro sites of root, in $ROOT/home/.config/yandro/sites.toml: change them with yandro
    +127.0.0.1	crew.saltmarsh.test
    +::1	crew.saltmarsh.test
    +# end of yandro sites
    folder +$ROOT/home/.config/yandro
    --- /dev/null
    +++ $ROOT/home/.config/yandro/sites.toml
    @@ -0,0 +1,8 @@
    +# Sites that yandro keeps. Edit this file as you like.
    +
    +[[site]]
    +name = "crew.saltmarsh.test"
    +folder = "$ROOT/crew/site"
    +document-root = "public"
    +server = "apache"
    +only-here = true
    then Apache httpd tests its configuration and is reloaded (or started)
    Nothing was changed: this was a preview.
    [status 0]
    "#);
    assert_eq!(mode(&machine, "crew"), 0o700);
    machine.yandro(&["map", "crew.saltmarsh.test", "./crew/site", "--fix-permissions"]).succeeds();
    assert_eq!(machine.curl(&["https://crew.saltmarsh.test/"]).stdout, "crew\n");
    // One user more may pass, and nobody else.
    let list = machine.run("getfacl", &["--omit-header", "crew"]).stdout;
    assert_eq!(list.trim(), "user::rwx\nuser:www-data:--x\ngroup::---\nmask::--x\nother::---");
    machine.yandro(&["undo"]).succeeds();
    assert_eq!((mode(&machine, "crew"), mode(&machine, "crew/site")), (0o700, 0o700));
    assert!(!machine.run("getfacl", &["--omit-header", "crew"]).stdout.contains("www-data"));
}

#[test]
fn a_new_project_is_made_with_its_page_and_goes_again_while_it_is_nobodys_work() {
    let Some(machine) = Namespace::new(&[]) else { return };
    // A folder that a group shares hands its group down.
    fs::create_dir(machine.path("shared")).unwrap();
    std::os::unix::fs::chown(machine.path("shared"), None, Some(50)).unwrap();
    fs::set_permissions(machine.path("shared"), fs::Permissions::from_mode(0o2775)).unwrap();
    let map = ["map", "tides.test", "./shared/tides", "--document-root", "public", "--create"];
    let ran = machine.yandro(&map).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    tides.test -> $ROOT/shared/tides/public
      folder  made $ROOT/shared/tides/public
      starter page  made $ROOT/shared/tides/public/index.html
      authority  made, until $DATE
      certificate  made for tides.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-tides.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-tides.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      modules  enabled socache_shmcb, ssl, rewrite
      server  Apache httpd: configuration tested, started
      proof  https://tides.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    assert!(machine.curl(&["https://tides.test/"]).stdout.contains("<h1>tides.test</h1>"));
    for folder in ["shared/tides", "shared/tides/public", "shared/tides/public/index.html"] {
        assert_eq!(fs::metadata(machine.path(folder)).unwrap().gid(), 50, "{folder}");
    }
    assert_eq!((mode(&machine, "shared/tides"), mode(&machine, "shared/tides/public/index.html")), (0o2775, 0o664));
    machine.yandro(&["undo"]).succeeds();
    assert!(!machine.path("shared/tides").exists());

    machine.yandro(&map).succeeds();
    fs::write(machine.path("shared/tides/public/index.html"), "<h1>High at noon</h1>\n").unwrap();
    machine.yandro(&["undo"]).succeeds();
    assert_eq!(fs::read_to_string(machine.path("shared/tides/public/index.html")).unwrap(), "<h1>High at noon</h1>\n");
    // A page that is there is nobody's to write over.
    machine.yandro(&map).succeeds();
    assert_eq!(machine.curl(&["https://tides.test/"]).stdout, "<h1>High at noon</h1>\n");
}

#[test]
fn php_runs_by_the_socket_that_is_found() {
    // Its version is part of its name.
    let programs = fs::read_dir("/usr/sbin").unwrap().filter_map(|entry| entry.unwrap().file_name().into_string().ok());
    let fpm = programs.filter(|name| name.starts_with("php-fpm")).max().unwrap_or("php-fpm".into());
    let Some(machine) = Namespace::new(&[&fpm]) else { return };
    machine.run("mkdir", &["/run/php"]).succeeds();
    let version = fpm.trim_start_matches("php-fpm").to_owned();
    let ran = machine.yandro(&["servers"]).succeeds();
    assert!(ran.stdout.contains(&format!("doesn't run: sudo service php{version}-fpm start")), "{ran}");
    // One that is installed and doesn't run is started as a server is, and says why it can't.
    let pools = format!("/etc/php/{version}/fpm/pool.d/www.conf");
    machine.run("sh", &["-c", &format!("mv {pools} /pool; echo nonsense > {pools}")]).succeeds();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--php"]);
    assert!(ran.status != 0 && !fs::exists(machine.path("home/.config/yandro/sites.toml")).unwrap(), "{ran}");
    machine.run("sh", &["-c", &format!("mv /pool {pools}")]).succeeds();
    let php = format!("--php={version}");
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", &php, "--preview"]).succeeds();
    assert_ne!(machine.run("pgrep", &["-f", "php-fpm: master"]).status, 0, "a preview starts nothing");
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--php"]).succeeds();
    machine.run("pgrep", &["-f", "php-fpm: master"]).succeeds();

    let page = "<?php echo $_SERVER['HTTP_HOST'], ' ', $_SERVER['HTTPS'] ?? 'off', ' ', $_SERVER['DOCUMENT_ROOT'], ' ', $_SERVER['REQUEST_URI'], ' ', $_SERVER['HTTP_AUTHORIZATION'] ?? '-';";
    fs::write(machine.path("saltmarsh/index.php"), page).unwrap();
    fs::remove_file(machine.path("saltmarsh/index.html")).unwrap();
    // By its version, with a space as well; one that isn't there is named with those that are.
    let ran = machine.yandro(&["servers"]).succeeds();
    assert!(ran.stdout.contains("RUNS AS") && ran.stdout.contains("www-data") && ran.stdout.contains("runs"), "{ran}");
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--php", "5.6"]);
    assert!(ran.status == 3 && ran.stderr.contains(&format!("take one that is: --php={version}\n")), "{ran}");
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--php", &version]).succeeds();
    machine
        .yandro(&["map", "saltmarsh.test", "./saltmarsh", "--php", "--fallback", "index.php", "--https", "both"])
        .succeeds();
    let list = fs::read_to_string(machine.path("home/.config/yandro/sites.toml")).unwrap();
    assert!(list.contains("php = \"/run/php/php") && list.contains("fallback = \"/index.php\""), "{list}");
    let root = machine.path("saltmarsh").display().to_string().replace(machine.root().to_str().unwrap(), "$ROOT");
    let seen = |arguments: &[&str]| machine.curl(arguments).stdout;
    assert_eq!(seen(&["https://saltmarsh.test/"]), format!("saltmarsh.test on {root} / -"));
    assert_eq!(
        seen(&["http://saltmarsh.test/tides/high?at=noon"]),
        format!("saltmarsh.test off {root} /tides/high?at=noon -")
    );
    let signed_in = seen(&["--header", "Authorization: Bearer ferry", "https://saltmarsh.test/crew"]);
    assert_eq!(signed_in, format!("saltmarsh.test on {root} /crew Bearer ferry"));
    // Variables come to PHP as they were given, with quotes and all.
    fs::write(machine.path("saltmarsh/env.php"), "<?php echo getenv('FERRY'), '|', $_SERVER['APP_ENV'] ?? '';")
        .unwrap();
    machine
        .yandro(&["map", "saltmarsh.test", "--env", "FERRY=high \"tide\"; it's 100% 'é'", "--env", "APP_ENV=local"])
        .succeeds();
    assert_eq!(seen(&["https://saltmarsh.test/env.php"]), "high \"tide\"; it's 100% 'é'|local");
    let ran = machine.yandro(&["env", "saltmarsh.test"]).succeeds();
    let shown = format!("{}\necho \"$SITE_URL|$SITE_NAME|$FERRY|$APP_ENV\"", ran.stdout);
    let ran = machine.run("sh", &["-c", &shown]).succeeds();
    assert_eq!(ran.stdout, "https://saltmarsh.test|saltmarsh.test|high \"tide\"; it's 100% 'é'|local\n");
    machine.yandro(&["map", "saltmarsh.test", "--env", "off"]).succeeds();
    assert_eq!(seen(&["https://saltmarsh.test/env.php"]), "|");
    for (value, said) in [
        ("PHP_ADMIN_VALUE=x", "the variable `PHP_ADMIN_VALUE` is set by the server"),
        ("A=$b", "the value of `A` has a `$`"),
        ("A", "write it as `NAME=VALUE`"),
    ] {
        let ran = machine.yandro(&["map", "saltmarsh.test", "--env", value]);
        assert!(ran.status == 2 && ran.stderr.contains(said), "{ran}");
    }
    // Without PHP again, its source is a file like any other; the choice is remembered until then.
    machine.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]).succeeds();
    assert!(seen(&["https://www.saltmarsh.test/"]).starts_with("www.saltmarsh.test on"));
    let ran = machine.yandro(&["map", "saltmarsh.test", "--php=off", "--fallback", "off"]);
    assert!(ran.status == 1 && ran.stdout.matches("sends PHP files as text").count() == 1, "made, and told: {ran}");
    assert_eq!(seen(&["https://saltmarsh.test/index.php"]), page);
}

#[test]
fn each_choice_does_what_it_says() {
    let Some(machine) = Namespace::new(&["openssl"]) else { return };
    fs::create_dir(machine.path("saltmarsh/maps")).unwrap();
    fs::write(machine.path("saltmarsh/maps/a.txt"), "chart\n").unwrap();
    fs::write(machine.path("saltmarsh/.htaccess"), "RewriteEngine on\nRewriteRule ^tides$ index.html\n").unwrap();
    fs::write(machine.path("more.conf"), "ErrorDocument 404 \"no ferry there\"\n").unwrap();
    std::os::unix::fs::symlink("maps/a.txt", machine.path("saltmarsh/chart.txt")).unwrap();
    let status = |url: &str| machine.curl(&["--output", "/dev/null", "--write-out", "%{http_code}", url]).stdout;
    let map = |arguments: &[&str]| machine.yandro(&[&["map", "saltmarsh.test"], arguments].concat()).succeeds();
    map(&["./saltmarsh"]);
    let statuses =
        || ["maps/", "tides", "chart.txt", "a.html"].map(|path| status(&format!("https://saltmarsh.test/{path}")));
    assert_eq!(statuses(), ["200", "200", "200", "404"]);
    map(&["--listing", "off", "--overrides", "off", "--symlinks", "off", "--extra", "./more.conf", "--logs", "./logs"]);
    assert_eq!(statuses(), ["403", "404", "403", "404"]);
    assert_eq!(machine.curl(&["https://saltmarsh.test/none"]).stdout, "no ferry there");
    eventually("the site's own log has it", || {
        fs::read_to_string(machine.path("logs/saltmarsh.test-access.log")).unwrap().contains("GET /none HTTP/")
    });
    map(&[
        "--listing",
        "on",
        "--overrides",
        "on",
        "--symlinks",
        "on",
        "--extra",
        "off",
        "--logs",
        "off",
        "--index",
        "a.html",
    ]);
    assert_eq!(statuses(), ["200", "200", "200", "404"]);
    assert!(
        machine.curl(&["https://saltmarsh.test/"]).stdout.contains("Index of /"),
        "its index is a.html, which is not there"
    );
    map(&["--index", "off", "--logs", "usual"]);
    let file = fs::read_to_string(machine.path("apache2/sites-available/yandro-saltmarsh.test.conf")).unwrap();
    let fresh = Namespace::new(&[]).unwrap();
    fresh.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let own = fs::read_to_string(fresh.path("apache2/sites-available/yandro-saltmarsh.test.conf")).unwrap();
    let without_root = |text: &str, machine: &Namespace| text.replace(machine.root().to_str().unwrap(), "");
    assert_eq!(without_root(&file, &machine), without_root(&own, &fresh));

    // Weak ciphers and old protocols find nobody.
    let shake = |arguments: &[&str]| {
        let usual = ["s_client", "-connect", "127.0.0.1:443", "-servername", "saltmarsh.test"];
        machine.run("openssl", &[&usual, arguments].concat()).status
    };
    assert_eq!(shake(&["-tls1_2", "-cipher", "ECDHE-ECDSA-AES128-GCM-SHA256"]), 0);
    assert_ne!(shake(&["-tls1_2", "-cipher", "ECDHE-ECDSA-AES256-SHA"]), 0);
    assert_ne!(shake(&["-tls1_1", "-cipher", "DEFAULT:@SECLEVEL=0"]), 0);

    // Whatever name is asked for at the address that a site has for itself.
    machine
        .yandro(&["map", "depot.saltmarsh.test", "./saltmarsh", "--address", "127.0.0.7", "--by-address", "on"])
        .succeeds();
    assert_eq!(machine.curl(&["--insecure", "https://127.0.0.7/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    assert!(machine.curl(&["--insecure", "https://127.0.0.1/"]).stdout.contains("403 Forbidden"));
}

#[test]
fn every_port_of_a_site_is_proven() {
    let Some(machine) = Namespace::new(&[]) else { return };
    let ports = ["--https-port", "443", "--https-port", "8443", "--http-port", "80", "--http-port", "8080"];
    machine.yandro(&[&["map", "saltmarsh.test", "./saltmarsh"], &ports[..]].concat()).succeeds();
    assert_eq!(machine.curl(&["https://saltmarsh.test:8443/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let listens = || fs::read_to_string(machine.path("apache2/ports.conf")).unwrap();
    assert_eq!(listens().matches("\nListen ").count(), 3, "80, 8080 and 8443, each once: {}", listens());
    machine.yandro(&["check"]).succeeds();
    // A problem only on the last of them is found, and reported with the port.
    let file = machine.path("apache2/sites-available/yandro-saltmarsh.test.conf");
    let text = fs::read_to_string(&file).unwrap();
    let (first, last) = text.split_at(text.find("<VirtualHost *:8443>").unwrap());
    fs::write(&file, first.to_owned() + &last.replace("Require all granted", "Require all denied")).unwrap();
    machine.yandro(&["servers", "reload"]).succeeds();
    let ran = machine.yandro(&["--verbose", "check"]);
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
      ✓ HTTPS  200  TIME
      ✓ application  stays
      ✓ proof  proven  TIME

    ✗ saltmarsh.test: a line of the configuration forbids $ROOT/saltmarsh
        seen: /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf:47; on the ports 8080 and 8443
        fix: ${EDITOR:-vi} +47 /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf && yandro servers reload apache
        code: access-denied

    1 site, 1 name: all proven (TIME)
    saltmarsh.test: reached from this computer only
    [status 1]
    ");
    // The other ports go with the choice, and their lines with the last site.
    fs::write(&file, text).unwrap();
    machine.yandro(&["map", "saltmarsh.test", "--https-port", "443", "--http-port", "80"]).succeeds();
    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(listens(), fs::read_to_string("/etc/apache2/ports.conf").unwrap());
}

#[test]
fn a_virtual_host_of_one_address_takes_no_site_away() {
    let Some(machine) = Namespace::new(&[]) else { return };
    // A person's own, on the very address: what asks there never gets to those of all addresses.
    let own =
        "<VirtualHost 127.0.0.1:80 [::1]:80>\nServerName tides.test\nDocumentRoot /var/www/html\n</VirtualHost>\n";
    fs::write(machine.path("apache2/sites-enabled/tides.conf"), own).unwrap();
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--https", "both"]).succeeds();
    assert_eq!(machine.curl(&["http://saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    machine.yandro(&["check"]).succeeds();
}

/// Answers only under its own name.
const STRICT: &str = "
import http.server
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        is_own = self.headers['Host'] == '127.0.0.1:3000'
        words = (self.headers['X-Forwarded-Host'] or 'nobody').encode()
        self.send_response(200 if is_own else 421); self.send_header('Content-Length', str(len(words))); self.end_headers()
        self.wfile.write(words)
http.server.ThreadingHTTPServer(('127.0.0.1', 3000), H).serve_forever()
";

#[test]
fn an_upstream_that_refuses_other_names_is_asked_for_its_own() {
    let Some(machine) = Namespace::new(&["python3", "nginx"]) else { return };
    let _upstream = Background::start(machine.command("python3").args(["-c", STRICT]));
    eventually("the upstream answers", || machine.run("curl", &["--silent", "http://127.0.0.1:3000/"]).status == 0);
    let map = |more: &[&str]| machine.yandro(&[&["map", "booking.test", "http://127.0.0.1:3000"], more].concat());
    let fix = "yandro map booking.test http://127.0.0.1:3000 --upstream-host own";
    for server in ["apache", "nginx"] {
        let ran = map(&["--server", server]);
        assert!(ran.status == 3 && ran.stderr.contains(fix), "{server}: {ran}");
        map(&["--server", server, "--upstream-host", "own"]).succeeds();
        assert_eq!(machine.curl(&["https://booking.test/"]).stdout, "booking.test", "it learns the site's name");
        machine.yandro(&["check"]).succeeds();
        machine.yandro(&["unmap", "booking.test"]).succeeds();
        machine.yandro(&["servers", "stop", server]).succeeds();
    }
    map(&["--server", "built-in", "--upstream-host", "own"]).succeeds();
    let _serving = Background::start(machine.command(YANDRO).arg("serve"));
    eventually("the built-in server proves it", || machine.yandro(&["check"]).status == 0);
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--upstream-host", "own"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: nothing of this site is passed on to an upstream: leave `--upstream-host` out
    [status 2]
    ");
}

/// Answers an upgrade to WebSocket as RFC 6455 section 4.2.2 has it, and a page otherwise.
const WEB_SOCKET: &str = r#"
import socket
s = socket.create_server(("127.0.0.1", 3000))
while True:
    c, _ = s.accept()
    head = b""
    while b"\r\n\r\n" not in head:
        got = c.recv(4096)
        if not got:
            break
        head += got
    if b"upgrade: websocket" in head.lower():
        c.sendall(b"HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: s3pPLMBiTxaQ9kYGzzhZRbK+xOo=\r\n\r\nferry")
    else:
        c.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 6\r\nConnection: close\r\n\r\ntides\n")
    c.close()
"#;

#[test]
fn an_upstream_can_upgrade_to_web_socket_on_both_servers() {
    for server in ["apache", "nginx"] {
        upgrades(server);
    }
}

fn upgrades(server: &str) {
    let Some(machine) = Namespace::new(&["python3", "nginx"]) else { return };
    let mut upstream = machine.command("python3");
    let _upstream = Background::start(upstream.args(["-c", WEB_SOCKET]));
    eventually("the upstream answers", || machine.run("curl", &["--silent", "http://127.0.0.1:3000/"]).status == 0);
    machine.yandro(&["map", "booking.saltmarsh.test", "http://127.0.0.1:3000", "--server", server]).succeeds();
    let upgraded = machine.curl(&[
        "--http1.1",
        "--include",
        "--max-time",
        "3",
        "--header",
        "Connection: Upgrade",
        "--header",
        "Upgrade: websocket",
        "--header",
        "Sec-WebSocket-Version: 13",
        "--header",
        "Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==",
        "https://booking.saltmarsh.test/live",
    ]);
    assert!(upgraded.stdout.starts_with("HTTP/1.1 101 ") && upgraded.stdout.ends_with("ferry"), "{upgraded}");
}

#[test]
fn browsers_are_offered_http2_where_apache_has_it_or_is_asked_to() {
    let Some(machine) = Namespace::new(&[]) else { return };
    let tree = || machine.run("sh", &["-c", "find apache2 | sort; cat hosts"]).stdout;
    let before = tree();
    let version = || {
        let words = ["--http2", "-so", "/dev/null", "-w", "%{http_version}", "https://saltmarsh.test/"];
        machine.curl(&words).succeeds().stdout
    };
    let map = |words: &[&str]| machine.yandro(&[&["map", "saltmarsh.test", "./saltmarsh"], words].concat());
    map(&[]).succeeds();
    assert_eq!(version(), "1.1", "nothing else is switched on for it");
    let module = machine.path("apache2/mods-enabled/http2.load");
    map(&["--http2", "on"]).succeeds();
    assert!(module.exists());
    assert_eq!(version(), "2");
    machine.yandro(&["check", "saltmarsh.test"]).succeeds();
    map(&["--http2", "off"]).succeeds();
    assert_eq!(version(), "1.1");
    // With the module there, it is offered without being asked for.
    map(&["--http2", "auto"]).succeeds();
    assert_eq!(version(), "2");
    let ran = machine.yandro(&["settle"]).succeeds();
    assert!(ran.stdout.contains("as the site list says; nothing was changed"), "{ran}");
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(tree(), before);
    // A process for each connection: it can't be.
    machine.yandro(&["servers", "stop", "apache"]).succeeds();
    let modules = machine.path("apache2/mods-enabled");
    for kind in ["load", "conf"] {
        fs::remove_file(modules.join(format!("mpm_event.{kind}"))).unwrap();
        let prefork = format!("mpm_prefork.{kind}");
        std::os::unix::fs::symlink(format!("../mods-available/{prefork}"), modules.join(prefork)).unwrap();
    }
    let before = tree();
    let ran = map(&["--http2", "on"]);
    assert_eq!(ran.status, 3, "{ran}");
    assert!(ran.stderr.contains("(prefork)\nfix: switch it to threads"), "{ran}");
    assert_eq!(tree(), before);
    map(&[]).succeeds();
    assert_eq!(version(), "1.1");
}
