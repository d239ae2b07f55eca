//! Apache httpd in other layouts than Debian's: the same server, as others set it up.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use super::kit::eventually;
use super::namespace::Namespace;
use super::vhosts::agrees_with;

/// An Apache httpd that is not Debian's.
struct Other {
    program: &'static str,
    main: &'static str,
    files: Vec<(&'static str, String)>,
    /// Folder of its own pages over plain HTTP.
    own: &'static str,
}

const MODULES: &str = "/usr/lib/apache2/modules";
/// Modules that every layout loads at first.
const LOADED: [&str; 7] = ["mpm_event", "authn_core", "authz_core", "dir", "mime", "alias", "setenvif"];
/// Modules that exist and aren't loaded.
const UNLOADED: [&str; 8] =
    ["socache_shmcb", "ssl", "rewrite", "headers", "proxy", "proxy_http", "proxy_fcgi", "vhost_alias"];

fn loads(sign: &str, modules: &[&str]) -> String {
    modules.iter().map(|module| format!("{sign}LoadModule {module}_module modules/mod_{module}.so\n")).collect()
}

/// Common head of all main files.
fn head(root: &str) -> String {
    format!(
        "ServerRoot \"{root}\"\nUser www-data\nGroup www-data\nPidFile /run/httpd.pid\nDefaultRuntimeDir /run\nTypesConfig /etc/mime.types\nServerName localhost\n\
         LogFormat \"%h %l %u %t \\\"%r\\\" %>s %b\" combined\nErrorLog \"logs/error_log\"\n"
    )
}

fn pages(root: &str) -> String {
    format!("DocumentRoot \"{root}\"\n<Directory \"{root}\">\n    Require all granted\n</Directory>\n")
}

/// Everything in one file, most of it commented out, as the makers ship it.
fn shipped(root: &str, conf: &str, listen: &str, include: &str) -> String {
    format!(
        "# This is the main Apache server configuration file.\n\
            {}\n\
            #Listen 12.34.56.78:80\n\
            {listen}\n\
            \n\
            {}{}\n\
            {}\n\
            # Virtual hosts\n\
            #Include {include}extra/httpd-vhosts.conf\n\
            \n\
            # Secure (SSL/TLS) connections\n\
            #Include {include}extra/httpd-ssl.conf\n\
            <IfModule ssl_module>\n\
            SSLRandomSeed startup builtin\n\
            </IfModule>\n",
        head(root),
        loads("", &LOADED),
        loads("#", &UNLOADED),
        pages(&format!("{conf}/htdocs")),
    )
}

const EXAMPLES: &str = r#"# Virtual Hosts
#
# Use name-based virtual hosting.

<VirtualHost *:80>
    ServerAdmin webmaster@dummy-host.example.com
    DocumentRoot "/nowhere/docs/dummy-host.example.com"
    ServerName dummy-host.example.com
    ServerAlias www.dummy-host.example.com
    ErrorLog "logs/dummy-host.example.com-error_log"
    CustomLog "logs/dummy-host.example.com-access_log" common
</VirtualHost>

<VirtualHost *:80>
    ServerAdmin webmaster@dummy-host2.example.com
    DocumentRoot "/nowhere/docs/dummy-host2.example.com"
    ServerName dummy-host2.example.com
</VirtualHost>
"#;

fn upstream() -> Other {
    Other {
        program: "/usr/local/apache2/bin/httpd",
        main: "/usr/local/apache2/conf/httpd.conf",
        files: vec![
            ("/usr/local/apache2/conf/httpd.conf", shipped("/usr/local/apache2", "/usr/local/apache2", "Listen 80", "conf/")),
            ("/usr/local/apache2/conf/extra/httpd-vhosts.conf", EXAMPLES.into()),
            // With a certificate that isn't there: whoever includes it breaks the server.
            ("/usr/local/apache2/conf/extra/httpd-ssl.conf", "Listen 443\n<VirtualHost _default_:443>\nSSLEngine on\nSSLCertificateFile conf/server.crt\n</VirtualHost>\n".into()),
            ("/usr/local/apache2/htdocs/index.html", "<h1>It works!</h1>\n".into()),
            ("/usr/local/apache2/logs/error_log", String::new()),
        ],
        own: "http://localhost/",
    }
}

/// As upstream, but for its place, its own port, and a person's virtual host in the file that is
/// not included yet.
fn homebrew() -> Other {
    let hosts = "<VirtualHost *:80>\nServerName tides.test\nDocumentRoot /opt/homebrew/var/www/tides\n</VirtualHost>";
    Other {
        program: "/opt/homebrew/bin/httpd",
        main: "/opt/homebrew/etc/httpd/httpd.conf",
        files: vec![
            (
                "/opt/homebrew/etc/httpd/httpd.conf",
                shipped("/opt/homebrew/opt/httpd", "/opt/homebrew/var/www", "Listen 8080", "/opt/homebrew/etc/httpd/"),
            ),
            ("/opt/homebrew/etc/httpd/extra/httpd-vhosts.conf", hosts.into()),
            ("/opt/homebrew/var/www/htdocs/index.html", "<h1>It works!</h1>\n".into()),
            ("/opt/homebrew/var/www/tides/index.html", "<h1>Tides</h1>\n".into()),
            ("/opt/homebrew/opt/httpd/logs/error_log", String::new()),
        ],
        own: "http://localhost:8080/",
    }
}

fn arch() -> Other {
    Other {
        program: "/usr/sbin/httpd",
        main: "/etc/httpd/conf/httpd.conf",
        files: vec![
            (
                "/etc/httpd/conf/httpd.conf",
                shipped("/etc/httpd", "/etc/httpd", "Listen 80", "conf/").replace('\n', "\r\n"),
            ),
            ("/etc/httpd/conf/extra/httpd-vhosts.conf", EXAMPLES.trim_end().replace('\n', "\r\n")),
            ("/etc/httpd/htdocs/index.html", "<h1>It works!</h1>\n".into()),
            ("/etc/httpd/logs/error_log", String::new()),
        ],
        own: "http://localhost/",
    }
}

fn red_hat() -> Other {
    let main = format!(
        "{}Listen 80\nInclude conf.modules.d/*.conf\n{}IncludeOptional conf.d/*.conf\n",
        head("/etc/httpd"),
        pages("/etc/httpd/htdocs")
    );
    Other {
        program: "/usr/sbin/httpd",
        main: "/etc/httpd/conf/httpd.conf",
        files: vec![
            ("/etc/httpd/conf/httpd.conf", main),
            (
                "/etc/httpd/conf.modules.d/00-base.conf",
                loads("", &[&LOADED[..], &["rewrite", "headers", "socache_shmcb"]].concat()),
            ),
            ("/etc/httpd/conf.modules.d/00-proxy.conf", loads("", &["proxy", "proxy_http", "proxy_fcgi"])),
            ("/etc/httpd/conf.modules.d/00-ssl.conf", loads("", &["ssl"])),
            ("/etc/httpd/conf.d/ssl.conf", "Listen 443 https\nSSLSessionCache shmcb:/run/sslcache(512000)\n".into()),
            (
                "/etc/httpd/conf.d/welcome.conf",
                "<LocationMatch \"^/+$\">\n    Options -Indexes\n</LocationMatch>\n".into(),
            ),
            ("/etc/httpd/htdocs/index.html", "<h1>Test page</h1>\n".into()),
            ("/etc/httpd/logs/error_log", String::new()),
        ],
        own: "http://localhost/",
    }
}

fn freebsd() -> Other {
    let main = format!(
        "{}Listen 80\n{}{}{}IncludeOptional etc/apache24/Includes/*.conf\n",
        head("/usr/local"),
        loads("", &LOADED).replace("modules/", "libexec/apache24/"),
        loads("#", &UNLOADED).replace("modules/", "libexec/apache24/"),
        pages("/usr/local/www/apache24/data"),
    );
    Other {
        program: "/usr/local/sbin/httpd",
        main: "/usr/local/etc/apache24/httpd.conf",
        files: vec![
            ("/usr/local/etc/apache24/httpd.conf", main),
            ("/usr/local/etc/apache24/Includes/no-accf.conf", "# nothing\n".into()),
            ("/usr/local/www/apache24/data/index.html", "<h1>It works!</h1>\n".into()),
            ("/usr/local/logs/error_log", String::new()),
        ],
        own: "http://localhost/",
    }
}

/// Only a main file in a folder: a bundle that the user adds.
fn bundle() -> Other {
    let main = format!("{}Listen 80\n{}{}", head("/opt/ferries"), loads("", &LOADED), pages("/opt/ferries/htdocs"));
    Other {
        program: "/opt/ferries/bin/httpd",
        main: "/opt/ferries/conf/httpd.conf",
        files: vec![
            ("/opt/ferries/conf/httpd.conf", main.trim_end().into()),
            ("/opt/ferries/htdocs/index.html", "<h1>Ferries</h1>\n".into()),
            ("/opt/ferries/logs/error_log", String::new()),
        ],
        own: "http://localhost/",
    }
}

/// In no place that is known: the program itself says where.
fn asked() -> Other {
    let main =
        format!("{}Listen 127.0.0.1:80\n{}{}", head("/etc/apache2"), loads("", &LOADED), pages("/etc/apache2/pages"));
    Other {
        program: "/usr/sbin/apache2",
        main: "/etc/apache2/apache2.conf",
        files: vec![
            ("/etc/apache2/apache2.conf", main),
            ("/etc/apache2/pages/index.html", "<h1>Ours</h1>\n".into()),
            ("/etc/apache2/logs/error_log", String::new()),
        ],
        own: "http://localhost/",
    }
}

/// Every file of the server's own by its path, logs left out.
fn contents(machine: &Namespace, other: &Other) -> BTreeMap<String, String> {
    let main = machine.inside(other.main);
    let mut found = BTreeMap::new();
    let main = main.parent().unwrap();
    let whole = if other.program == "/usr/sbin/apache2" { main } else { main.parent().unwrap() };
    let mut pending = vec![whole.to_owned()];
    while let Some(folder) = pending.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_str().unwrap();
            if ["logs", "modules", "apache24-modules", "bin", "sbin"].contains(&name) || path.is_symlink() {
            } else if path.is_dir() {
                pending.push(path);
            } else if path.extension().is_some_and(|ending| ending == "conf") {
                found.insert(path.display().to_string(), fs::read_to_string(&path).unwrap());
            }
        }
    }
    found
}

fn link_modules(machine: &Namespace, other: &Other) {
    let folder = match other.main {
        "/usr/local/etc/apache24/httpd.conf" => "/usr/local/libexec/apache24",
        "/opt/homebrew/etc/httpd/httpd.conf" => "/opt/homebrew/opt/httpd/modules",
        "/etc/apache2/apache2.conf" => "/etc/apache2/modules",
        main => &format!("{}/modules", Path::new(main).parent().unwrap().parent().unwrap().display()),
    };
    let folder = machine.inside(folder);
    fs::create_dir_all(folder.parent().unwrap()).unwrap();
    std::os::unix::fs::symlink(MODULES, folder).unwrap();
}

/// The machine's Apache httpd as its makers ship it, and as images have it.
pub fn as_shipped(machine: &Namespace) {
    let other = upstream();
    machine.other_apache(other.program, &other.files);
    link_modules(machine, &other);
}

fn maps_and_unmaps(other: &Other, is_named: bool) {
    let Some(machine) = Namespace::new(&[]) else { return };
    machine.other_apache(other.program, &other.files);
    link_modules(&machine, other);
    let control = [other.program, "-f", other.main];
    if is_named {
        machine.yandro(&["servers", "add", "ferries", "--config", other.main]).succeeds();
    }
    machine.run(other.program, &["-f", other.main, "-k", "start"]).succeeds();
    let page = |url: &str| {
        let resolve = |port: &str| format!("nobody.test:{port}:127.0.0.1");
        let (plain, secure, usual) = (resolve("80"), resolve("443"), resolve("8080"));
        machine.run(
            "curl",
            &[
                "--silent",
                "--insecure",
                "--max-time",
                "10",
                "--resolve",
                &plain,
                "--resolve",
                &secure,
                "--resolve",
                &usual,
                url,
            ],
        )
    };
    eventually("it answers", || page(other.own).status == 0);
    let own_page = page(other.own).stdout;
    let before = contents(&machine, other);

    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]).succeeds();
    assert!(ran.stdout.contains("https://saltmarsh.test/ answers from there, over HTTPS"), "{ran}");
    // The user's virtual hosts that become active with their file are reported, and nothing else is.
    let comes_to_life = other.files.iter().any(|(_, text)| text.contains("ServerName tides.test"));
    let told = "is included now, and with it your own virtual hosts answer: tides.test";
    assert_eq!(ran.stderr.contains(told), comes_to_life, "{ran}");
    assert_eq!(ran.stderr.contains("is included now"), comes_to_life, "{ran}");
    assert_eq!(page(other.own).stdout, own_page);
    for url in ["http://nobody.test/", "https://nobody.test/", "https://localhost/"] {
        let other_name = page(url).stdout;
        assert!(!other_name.contains("Saltmarsh"), "{url}: {other_name}");
    }
    agrees_with(&machine, &control);
    let again = machine.yandro(&["map", "saltmarsh.test"]).succeeds();
    assert!(again.stdout.contains("nothing had to be changed"), "{again}");

    // Taken back and done again, with the server told each time.
    machine.yandro(&["undo"]).succeeds();
    assert_eq!(contents(&machine, other), before);
    eventually("it is gone", || page("https://nobody.test/").status != 0);
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]).succeeds();

    let ports = ["--http-port", "8081", "--https-port", "8443"];
    machine.yandro(&[&["map", "depot.saltmarsh.test", "./saltmarsh"], &ports[..]].concat()).succeeds();
    assert_eq!(machine.curl(&["https://depot.saltmarsh.test:8443/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let head = machine.curl(&["--head", "http://depot.saltmarsh.test:8081/tides?high=1"]).stdout;
    assert!(head.contains("Location: https://depot.saltmarsh.test:8443/tides?high=1\r\n"), "{head}");
    agrees_with(&machine, &control);
    machine.yandro(&["check"]).succeeds();
    assert!(machine.yandro(&["settle"]).succeeds().stdout.contains("nothing was changed"));
    assert_eq!(page(other.own).stdout, own_page);

    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(page(other.own).stdout, own_page);
    machine.yandro(&["unmap", "depot.saltmarsh.test"]).succeeds();
    assert_eq!(contents(&machine, other), before);
    eventually("it answers as before", || page(other.own).stdout == own_page);
}

#[test]
fn as_its_makers_ship_it() {
    maps_and_unmaps(&upstream(), false);
}

#[test]
fn as_on_arch_with_other_line_ends() {
    maps_and_unmaps(&arch(), false);
}

#[test]
fn as_on_red_hat() {
    maps_and_unmaps(&red_hat(), false);
}

#[test]
fn as_on_freebsd() {
    maps_and_unmaps(&freebsd(), false);
}

#[test]
fn as_from_a_package_manager_on_macos() {
    maps_and_unmaps(&homebrew(), false);
}

#[test]
fn as_the_program_itself_says() {
    maps_and_unmaps(&asked(), false);
}

#[test]
fn as_a_bundle_that_a_person_names() {
    maps_and_unmaps(&bundle(), true);
}
