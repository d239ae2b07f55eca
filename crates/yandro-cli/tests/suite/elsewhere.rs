//! Servers on other machines: a separate root file system and network, with the project
//! and the configuration by bind mount under other paths.

use std::fs;
use std::path::PathBuf;

use super::kit::{Background, Sysroot, eventually, steady, without_user};
use super::namespace::{CABLE, Namespace};

const ADDRESS: &str = "10.77.0.2";

/// A root file system with Debian's servers, whose configuration, project and certificates are this
/// machine's folders, on the other end of a [cable](CABLE).
const SET_UP: &str = r"
set -e
root=$1/harbour
mkdir -p $root/usr $root/etc $root/var/log/nginx $root/var/log/apache2 $root/var/lib/nginx $root/var/www $root/run/apache2 $root/run/lock $root/tmp $root/dev $root/shared/www $root/shared/tls
for folder in bin sbin lib lib64; do ln -s usr/$folder $root/$folder; done
chmod 755 $root $root/shared && chmod 1777 $root/tmp
ln -s ../run/lock $root/var/lock
mount --bind /usr $root/usr
mount --bind /dev $root/dev
cp -a /etc/passwd /etc/group /etc/mime.types /etc/ssl $root/etc
mkdir -p $root/etc/nginx $root/etc/apache2 $1/home/.local/share/yandro/certificates
chmod 700 $1/home/.local/share/yandro $1/home/.local/share/yandro/certificates
cp -a /etc/nginx $1/vm-nginx
cp -a /etc/apache2 $1/vm-apache
mount --bind $1/vm-nginx $root/etc/nginx
mount --bind $1/vm-apache $root/etc/apache2
mount --bind $1/saltmarsh $root/shared/www
mount --bind $1/home/.local/share/yandro/certificates $root/shared/tls
";

/// A relay for two published ports of this machine.
const RELAY: &str = r"
import socket, threading
def pump(a, b):
    try:
        while data := a.recv(65536): b.sendall(data)
    except OSError: pass
    try: b.shutdown(socket.SHUT_WR)
    except OSError: pass
def serve(here, there):
    own = socket.create_server(('127.0.0.1', here))
    while True:
        a, _ = own.accept()
        try: b = socket.create_connection(('10.77.0.2', there))
        except OSError: a.close(); continue
        for pair in ((a, b), (b, a)): threading.Thread(target=pump, args=pair, daemon=True).start()
threading.Thread(target=serve, args=(8080, 80), daemon=True).start()
serve(8443, 443)
";

struct Harbour {
    machine: Namespace,
    holder: String,
}

impl Harbour {
    fn new() -> Option<Self> {
        let machine = Namespace::new(&["nginx", "chroot", "python3"])?;
        let root = machine.root().to_str().unwrap().to_owned();
        let holder =
            machine.run("sh", &["-c", &format!("{SET_UP}{CABLE}"), "sh", &root]).succeeds().stdout.trim().to_owned();
        Some(Self { machine, holder })
    }

    /// A command within the other root file system and network.
    fn command(&self, words: &str) -> String {
        let root = self.machine.path("harbour").display().to_string();
        format!("nsenter --target={} --net chroot {root} {words}", self.holder)
    }

    fn run(&self, words: &str) {
        self.machine.run("sh", &["-c", &self.command(words)]).succeeds();
    }

    fn pair(&self, here: &str, there: &str) -> String {
        format!("{}={there}", self.machine.path(here).display())
    }

    fn path(&self, below: &str) -> PathBuf {
        self.machine.path(below)
    }
}

#[test]
fn a_virtual_machine_serves_at_its_own_address_from_shared_folders() {
    let Some(harbour) = Harbour::new() else { return };
    let machine = &harbour.machine;
    harbour.run("nginx");
    let before = super::kit::tree(&harbour.path("vm-nginx"));
    let (etc, www) = (harbour.pair("vm-nginx", "/etc/nginx"), harbour.pair("saltmarsh", "/shared/www"));
    let tls = harbour.pair("home/.local/share/yandro/certificates", "/shared/tls");
    let (test, reload) = (harbour.command("nginx -t -q"), harbour.command("nginx -s reload"));
    let add =
        ["servers", "add", "harbour", "--config", "vm-nginx", "--path", &etc, "--path", &www, "--address", ADDRESS];
    let commands = ["--test", &test, "--reload", &reload];
    machine.yandro(&[&add[..], &commands].concat()).succeeds();
    // A folder that the server doesn't see is reported before anything is written.
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "harbour"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the server `harbour` doesn't see $ROOT/home/.local/share/yandro/certificates: no path mapping contains it
    fix: have the folder mounted there, and say where it is: yandro servers add harbour --path $ROOT/home/.local/share/yandro/certificates=WHERE; of a container that you started again with it: yandro servers add harbour --container CONTAINER
    [status 3]
    ");
    assert_eq!(super::kit::tree(&harbour.path("vm-nginx")), before);

    machine.yandro(&["servers", "add", "harbour", "--path", &tls]).succeeds();
    let ran = machine
        .yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test", "--server", "harbour"])
        .succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, www.saltmarsh.test, until $DATE
      virtual host  made $ROOT/vm-nginx/sites-available/yandro-saltmarsh.test.conf
      enabled  linked $ROOT/vm-nginx/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made $ROOT/vm-nginx/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      server  harbour: configuration tested, reloaded
      proof  https://saltmarsh.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    assert!(
        machine.hosts().contains("10.77.0.2\tsaltmarsh.test") || machine.hosts().contains("10.77.0.2 saltmarsh.test"),
        "{}",
        machine.hosts()
    );
    let file = fs::read_to_string(harbour.path("vm-nginx/sites-available/yandro-saltmarsh.test.conf")).unwrap();
    for line in [
        "root /shared/www;",
        "ssl_certificate /shared/tls/saltmarsh.test/fullchain.pem;",
        "ssl_certificate_key /shared/tls/saltmarsh.test/key.pem;",
    ] {
        assert!(file.contains(line), "{file}");
    }
    let (head, rest) = file.split_once('\n').unwrap();
    assert!(head.starts_with('#') && !rest.contains(machine.root().to_str().unwrap()), "{file}");
    assert_eq!(machine.curl(&["https://www.saltmarsh.test/"]).succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
    machine.yandro(&["check"]).succeeds();
    let listed = machine.yandro(&["vhosts"]).succeeds().stdout;
    assert!(
        listed.contains("saltmarsh.test") && listed.contains("/etc/nginx/sites-enabled/yandro-saltmarsh.test.conf"),
        "{listed}"
    );

    // A configuration that it refuses is rolled back, with its message.
    fs::write(harbour.path("vm-nginx/conf.d/tides.conf"), "tides on;\n").unwrap();
    let whole = super::kit::tree(&harbour.path("vm-nginx"));
    let ran = machine.yandro(&["map", "saltmarsh.test", "--alias", "tides.saltmarsh.test"]);
    insta::assert_snapshot!(steady(&ran), @r#"
    error: the server refuses its configuration as it was before yandro changed anything:
      /usr/bin/nsenter --target=PID --net chroot $ROOT/harbour nginx -t -q: NOW [emerg] PID: unknown directive "tides" in /etc/nginx/conf.d/tides.conf:1
      nginx: configuration file /etc/nginx/nginx.conf test failed
    everything was rolled back
    fix: correct the file and line that it names, then run the command again
    [status 3]
    "#);
    assert_eq!(super::kit::tree(&harbour.path("vm-nginx")), whole);
    fs::remove_file(harbour.path("vm-nginx/conf.d/tides.conf")).unwrap();

    // Facts that can't be seen from here are not claimed, and missing settings are asked for.
    let ran = machine.yandro(&["servers", "reload", "harbour", "--preview"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    Nothing was done: this was a preview. harbour is on another machine: yandro can't see whether it runs
    [status 0]
    ");
    let ran = machine.yandro(&["servers", "stop", "harbour"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the server could not be controlled:
    no command was named for it
    fix: name it: yandro servers add harbour --reload COMMAND; --start and --stop alike
    [status 3]
    ");
    let told = machine.yandro(&["servers", "reload", "harbour", "--json"]).succeeds().stdout;
    assert!(told.contains("\"running\":null"), "{told}");

    // To this machine's own server, and back: one command each.
    machine.yandro(&["map", "saltmarsh.test", "--server", "apache"]).succeeds();
    assert!(machine.hosts().contains("127.0.0.1") && !machine.hosts().contains(ADDRESS), "{}", machine.hosts());
    assert_eq!(super::kit::tree(&harbour.path("vm-nginx")), before);
    machine.yandro(&["undo"]).succeeds();
    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(super::kit::tree(&harbour.path("vm-nginx")), before);
    assert!(!machine.hosts().contains("saltmarsh"), "{}", machine.hosts());
}

#[test]
fn a_container_serves_by_published_ports_and_a_folder_of_virtual_hosts() {
    let Some(harbour) = Harbour::new() else { return };
    let machine = &harbour.machine;
    // As an image has it: TLS on, and a folder of which every file is included.
    for module in ["ssl.load", "ssl.conf", "socache_shmcb.load", "rewrite.load"] {
        let link = harbour.path("vm-apache/mods-enabled").join(module);
        _ = std::os::unix::fs::symlink(format!("../mods-available/{module}"), link);
    }
    fs::create_dir(harbour.path("vm-apache/vhosts")).unwrap();
    let mut main = fs::read_to_string(harbour.path("vm-apache/apache2.conf")).unwrap();
    main += "IncludeOptional vhosts/*.conf\n";
    fs::write(harbour.path("vm-apache/apache2.conf"), main).unwrap();
    harbour.run("apache2ctl start");
    let mut relay = machine.command("python3");
    let _relay = Background::start(relay.args(["-c", RELAY]));
    eventually("the ports are published", || machine.curl(&["http://127.0.0.1:8080/"]).status == 0);

    let (conf, www) =
        (harbour.pair("vm-apache/vhosts", "/etc/apache2/vhosts"), harbour.pair("saltmarsh", "/shared/www"));
    let tls = harbour.pair("home/.local/share/yandro/certificates", "/shared/tls");
    let (test, reload) = (harbour.command("apache2ctl configtest"), harbour.command("apache2ctl graceful"));
    let add = [
        "servers",
        "add",
        "ferries",
        "--kind",
        "apache",
        "--config",
        "vm-apache/vhosts",
        "--path",
        &conf,
        "--path",
        &www,
        "--path",
        &tls,
    ];
    machine.yandro(&[&add[..], &["--port", "8080:80", "--test", &test, "--reload", &reload]].concat()).succeeds();
    let map = ["map", "saltmarsh.test", "./saltmarsh", "--server", "ferries"];
    let ran = machine.yandro(&map);
    insta::assert_snapshot!(steady(&ran), @"
    error: `ferries` has not published its port 443: the site would be out of reach
    fix: publish it, and say under which port of this machine: yandro servers add ferries --port HERE:443
    fix: or choose other ports: --http-port, --https-port
    [status 2]
    ");
    machine.yandro(&["servers", "add", "ferries", "--port", "8443:443"]).succeeds();
    let ran = machine.yandro(&map).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
      virtual host  made $ROOT/vm-apache/vhosts/yandro-saltmarsh.test.conf
      unknown names  made $ROOT/vm-apache/vhosts/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      server  ferries: configuration tested, reloaded
      proof  https://saltmarsh.test:8443/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    assert!(machine.hosts().contains("127.0.0.1"), "{}", machine.hosts());
    // Plain HTTP leads to the port that browsers reach.
    let led =
        machine.curl(&["--location", "--write-out", "%{url_effective}", "http://saltmarsh.test:8080/index.html?a=b"]);
    assert_eq!(led.succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\nhttps://saltmarsh.test:8443/index.html?a=b");
    machine.yandro(&["check"]).succeeds();
    let file = fs::read_to_string(harbour.path("vm-apache/vhosts/yandro-saltmarsh.test.conf")).unwrap();
    assert!(file.contains("DocumentRoot \"/shared/www\"") && !file.contains("Log"), "{file}");
    // A file that isn't there any more is found by its cause, as on a server of this machine.
    fs::rename(harbour.path("saltmarsh/index.html"), harbour.path("index.html")).unwrap();
    fs::write(harbour.path("saltmarsh/.htaccess"), "Require all denied\n").unwrap();
    let ran = machine.yandro(&["check"]);
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test  $ROOT/saltmarsh, ferries
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  127.0.0.1  TIME
      ✓ resolver  127.0.0.1  TIME
      ✓ address  the one that was declared
      ✓ connection  ports 8080, 8443  TIME
      – virtual host  not looked at from here
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
      ✗ HTTPS  403  TIME
      – application  no page of the site's own
      ✗ proof  forbidden  TIME

    ✗ saltmarsh.test: the server may not read $ROOT/saltmarsh, or a rule there forbids it
        seen: the proof file was answered with 403
        fix: yandro map saltmarsh.test --fix-permissions

    1 site, 1 name: 0 proven, 1 not (TIME)
    [status 1]
    ");
    fs::remove_file(harbour.path("saltmarsh/.htaccess")).unwrap();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert!(fs::read_dir(harbour.path("vm-apache/vhosts")).unwrap().next().is_none());
    assert!(!machine.yandro(&["servers", "drop", "ferries"]).succeeds().stdout.is_empty());
}

#[test]
fn wrong_server_settings_are_reported_and_not_kept() {
    let sysroot = Sysroot::new();
    sysroot.write("srv/harbour/conf.d/default.conf", "server { listen 80; }\n");
    let add = |arguments: &[&str]| sysroot.yandro(&[&["servers", "add", "harbour"], arguments].concat());
    let folder = ["--kind", "nginx", "--config", "/srv/harbour/conf.d"];
    insta::assert_snapshot!(add(&["--config", "/srv/harbour/conf.d"]), @"
    error: $ROOT/srv/harbour/conf.d doesn't tell what kind of server it is for
    fix: say it: --kind apache, --kind nginx
    [status 2]
    ");
    insta::assert_snapshot!(add(&[&folder[..], &["--path", "/srv/harbour"]].concat()), @"
    error: `/srv/harbour=` is not a pair of folders: both folders are given by their absolute paths
    fix: write it as HERE=THERE, as in `--path ./saltmarsh=/srv/saltmarsh`
    [status 2]
    ");
    insta::assert_snapshot!(add(&[&folder[..], &["--path", "/srv/none=/etc/nginx"]].concat()), @"
    error: no such folder: `/srv/none`
    fix: look for a slip in the path
    [status 2]
    ");
    insta::assert_snapshot!(add(&[&folder[..], &["--path", "/saltmarsh=/srv/www"]].concat()), @"
    error: none of the pairs of folders has $ROOT/srv/harbour/conf.d in it
    fix: say where the server has it: --path $ROOT/srv/harbour/conf.d=WHERE
    [status 2]
    ");
    insta::assert_snapshot!(add(&[&folder[..], &["--port", "443"], &["--port", "8443:443"]].concat()), @"
    error: the port `8443:443` is given twice
    [status 2]
    ");
    insta::assert_snapshot!(add(&[&folder[..], &["--reload", "no-such-engine exec harbour"]].concat()), @"
    error: `no-such-engine exec harbour` begins with no program that is there
    fix: give the program by its absolute path; it is run without a shell
    [status 2]
    ");
    assert!(!sysroot.path("home/ada/.config/yandro/settings.toml").exists());
}

#[test]
fn files_of_a_remote_server_have_its_own_paths() {
    let sysroot = Sysroot::new();
    sysroot.write("srv/harbour/conf.d/default.conf", "server { listen 80; }\n");
    let add = |arguments: &[&str]| sysroot.yandro(&[&["servers", "add", "harbour"], arguments].concat());
    let folder = ["--kind", "nginx", "--config", "/srv/harbour/conf.d"];
    let pairs = ["--path", "/srv/harbour=/etc/nginx", "--path", "/saltmarsh=/srv/www"];
    let tls = ["--path", "/home/ada/.local/share/yandro/certificates=/srv/tls", "--address", "192.168.56.10"];
    insta::assert_snapshot!(add(&[&folder[..], &pairs, &tls].concat()), @r#"
    harbour is known now: nginx with /srv/harbour/conf.d

    Map a site on it: yandro map NAME FOLDER --server harbour
    note: no reload command is set. Reload the server yourself after each change, or set one: yandro servers add harbour --reload "COMMAND"
    [status 0]
    "#);
    insta::assert_snapshot!(sysroot.yandro(&["servers"]), @"
    SERVER   KIND   LAYOUT  CONFIGURATION        LISTENS ON     STATUS
    harbour  nginx  folder  /srv/harbour/conf.d  192.168.56.10  on another machine
    [status 0]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot", "--server", "harbour"]), @"
    error: the server `harbour` doesn't see $ROOT/depot/public: no path mapping contains it
    fix: have the folder mounted there, and say where it is: yandro servers add harbour --path $ROOT/depot/public=WHERE; of a container that you started again with it: yandro servers add harbour --container CONTAINER
    [status 3]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "ferries"]), @"
    error: server `ferries` doesn't exist
    fix: see which there are: yandro servers; or name one: yandro servers add --help
    [status 2]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "harbour", "--php"]), @"
    error: where PHP is on `harbour` can't be seen from here
    fix: name its socket or address as the server sees it: --php=SOCKET, --php=HOST:PORT
    [status 2]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "harbour"]), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority      made, until $DATE
      certificate    made for saltmarsh.test, until $DATE
      virtual host   made /srv/harbour/conf.d/yandro-saltmarsh.test.conf
      unknown names  made /srv/harbour/conf.d/yandro-0.invalid.conf
      hosts file     changed /etc/hosts
      site list      made /home/ada/.config/yandro/sites.toml
      server         harbour: not tested and not reloaded, since this is a sysroot
      proof          not proven: within a sysroot no server is asked

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    insta::assert_snapshot!(without_user(&sysroot.read("srv/harbour/conf.d/yandro-saltmarsh.test.conf")), @"
    # saltmarsh.test: a site of $USER, in /home/ada/.config/yandro/sites.toml; lines that you add here stay
    server {
    	listen 80;
    	server_name saltmarsh.test;
    	return 307 https://$host$request_uri;
    }

    server {
    	listen 443 ssl http2;
    	server_name saltmarsh.test;
    	ssl_certificate /srv/tls/saltmarsh.test/fullchain.pem;
    	ssl_certificate_key /srv/tls/saltmarsh.test/key.pem;
    	ssl_protocols TLSv1.2 TLSv1.3;
    	ssl_ciphers ECDHE+AESGCM:ECDHE+CHACHA20;
    	client_max_body_size 256m;
    	root /srv/www;
    	index index.html index.htm;
    	autoindex on;
    	location / {
    		try_files $uri $uri/ =404;
    	}
    	location ~ /[.]ht {
    		deny all;
    	}
    }
    ");
    insta::assert_snapshot!(sysroot.read("home/ada/.config/yandro/settings.toml"), @r#"
    # Settings of yandro. Edit this file as you like.

    [[server]]
    name = "harbour"
    kind = "nginx"
    config = "/srv/harbour/conf.d"
    paths = ["/srv/harbour=/etc/nginx", "/saltmarsh=/srv/www", "/home/ada/.local/share/yandro/certificates=/srv/tls"]
    address = "192.168.56.10"
    "#);
    insta::assert_snapshot!(sysroot.yandro(&["servers", "drop", "harbour"]), @"
    error: sites are on harbour, and they would be left on a server that yandro knows no more: saltmarsh.test
    fix: take them away first, and map them again afterwards: yandro unmap saltmarsh.test
    fix: or move each to another server: yandro map NAME --server WHICH
    [status 3]
    ");
}
