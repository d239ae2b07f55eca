//! Bad input: one sentence, the cure, the right status, and nothing changed.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, chown};
use std::process::Command;

use super::kit::{Ran, Sysroot, YANDRO, has, steady};

#[test]
fn bad_input_gets_a_clear_error_and_changes_nothing() {
    let sysroot = Sysroot::with_apache();
    let long = format!("{}.test", "a".repeat(64));
    sysroot.write("tides.txt", "");
    let before = sysroot.tree();
    for (arguments, status, words) in [
        (&["map", "http://saltmarsh.test", "./saltmarsh"][..], 2, "did you mean `saltmarsh.test`?"),
        (&["map", "saltmarsh.test:443", "./saltmarsh"], 2, "names a port, and a host name has none"),
        (&["map", "salt marsh.test", "./saltmarsh"], 2, "did you mean `salt-marsh.test`?"),
        (&["map", "salt marsh.test", "./saltmarsh"], 2, "it can't contain a space"),
        (&["map", &long, "./saltmarsh"], 2, "has 64 bytes, and 63 is the most"),
        (&["map", "127.0.0.1", "./saltmarsh"], 2, "is an IP address"),
        (&["map", "./saltmarsh", "--plain"], 2, " map saltmarsh.test ./saltmarsh --plain\n"),
        (&["map", "./saltmarsh", "tides.test"], 2, " map tides.test ./saltmarsh\n"),
        (&["map", "saltmarsh.test", "./nowhere"], 2, "no such folder: `$ROOT/nowhere`"),
        (
            &["map", "saltmarsh.test", "./saltmarsh", "--php", "127.0.0.1:9000"],
            2,
            "write it with `=`: --php=127.0.0.1:9000",
        ),
        (&["map", "saltmarsh.test", "./tides.txt"], 2, "is a file, and a site needs a folder"),
        (&["map", "saltmarsh.test", "./depot", "--document-root", "../saltmarsh"], 2, "is not below the folder"),
        (
            &["map", "saltmarsh.test", "./depot", "--document-root", "web"],
            2,
            "no such document root: `$ROOT/depot/web`",
        ),
        (&["map", "saltmarsh.test", "https://127.0.0.1:3000", "--plain"], 2, "no other server answers for it"),
        (&["map", "saltmarsh.test", "./depot", "--alias", "SALTMARSH.test"], 2, "is given twice"),
        (&["map", "saltmarsh.org", "./saltmarsh"], 2, "choose a name below one of these suffixes"),
        (&["map", "saltmarsh.org", "./saltmarsh", "--plain"], 2, "the real one can't be reached from this machine"),
        (&["map", "saltmarsh.dev", "./saltmarsh", "--plain"], 2, "only over HTTPS, whatever is typed"),
        (&["map", "*.saltmarsh.test", "./saltmarsh"], 2, "yandro map NAME --tenants"),
        (&["hosts", "point", "saltmarsh.test", "127.0.0.0.1"], 2, "invalid value '127.0.0.0.1'"),
        (&["hosts", "point", "http://tides.test", "127.0.0.1"], 2, "did you mean `tides.test`?"),
        (&["hosts", "drop", "tides.test"], 2, "see which names there are: yandro hosts list"),
        (&["hosts", "export"], 2, "no site is mapped yet"),
        (&["hosts", "import", "tides.txt"], 2, "tides.txt points no name anywhere"),
        (&["hosts", "import", "moon.txt"], 2, "no such file: `moon.txt`"),
        (&["check", "saltmarsh.test"], 2, "map it: yandro map saltmarsh.test FOLDER"),
        (&["unmap", "saltmarsh.test"], 2, "see which sites there are: yandro sites"),
        (&["authority", "show"], 3, "the first `yandro map NAME FOLDER` makes it"),
    ] {
        let ran = sysroot.yandro(arguments);
        assert_eq!((ran.status, ran.stdout.as_str()), (status, ""), "{arguments:?}: {ran}");
        assert!(ran.stderr.contains(words), "{arguments:?}: {ran}");
    }
    // The folder of yandro's own lock is all that may have come.
    let own = |line: &&str| !line.starts_with("home/");
    assert_eq!(sysroot.tree().lines().filter(own).collect::<Vec<_>>(), before.lines().filter(own).collect::<Vec<_>>());
}

#[test]
fn map_reports_a_displaced_default_virtual_host() {
    let sysroot = Sysroot::with_apache();
    sysroot.write("etc/apache2/apache2.conf", "Include ports.conf\nIncludeOptional sites-enabled/*.conf\n");
    sysroot.write(
        "etc/apache2/sites-enabled/zz-tides.conf",
        "<VirtualHost *:80>\nServerName tides.test\n</VirtualHost>\n",
    );
    let ran = sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made /home/ada/.config/yandro/sites.toml
      modules  enabled socache_shmcb, ssl, rewrite
      server  Apache httpd: not tested and not reloaded, since this is a sysroot
      proof  not proven: within a sysroot no server is asked

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    note: /etc/apache2/sites-enabled/zz-tides.conf:1 was the default virtual host on *:80; the first yandro site is now. To keep yours first, rename its file so that it sorts before `yandro-`
    [status 0]
    ");
    let ran = sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot", "--preview"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @r#"
    folder +$ROOT/home/ada/.local/share/yandro/certificates/depot.saltmarsh.test
    --- /dev/null
    +++ $ROOT/home/ada/.local/share/yandro/certificates/depot.saltmarsh.test/key.pem
    (a key: not shown)
    --- /dev/null
    +++ $ROOT/home/ada/.local/share/yandro/certificates/depot.saltmarsh.test/fullchain.pem
    (2 certificates in PEM)
    --- $ROOT/etc/apache2/ports.conf
    +++ $ROOT/etc/apache2/ports.conf
    @@ -1,4 +1,5 @@
     Listen 80
    +Listen 443

     <IfModule ssl_module>
     	Listen 443
    --- /dev/null
    +++ $ROOT/etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf
    @@ -0,0 +1,30 @@
    +# depot.saltmarsh.test: a site of root, in /home/ada/.config/yandro/sites.toml; lines that you add here stay
    +<VirtualHost *:80>
    +	ServerName depot.saltmarsh.test
    +	RewriteEngine on
    +	RewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI} [R=307,L]
    +	ErrorLog ${APACHE_LOG_DIR}/depot.saltmarsh.test-error.log
    +	CustomLog ${APACHE_LOG_DIR}/depot.saltmarsh.test-access.log "%h %l %u %t \"%r\" %>s %b \"%{Referer}i\" \"%{User-Agent}i\""
    +</VirtualHost>
    +
    +<VirtualHost *:443>
    +	ServerName depot.saltmarsh.test
    +	DocumentRoot "/depot/public"
    +	<Directory "/depot/public">
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
    +	SSLCertificateFile "/home/ada/.local/share/yandro/certificates/depot.saltmarsh.test/fullchain.pem"
    +	SSLCertificateKeyFile "/home/ada/.local/share/yandro/certificates/depot.saltmarsh.test/key.pem"
    +	ErrorLog ${APACHE_LOG_DIR}/depot.saltmarsh.test-error.log
    +	CustomLog ${APACHE_LOG_DIR}/depot.saltmarsh.test-access.log "%h %l %u %t \"%r\" %>s %b \"%{Referer}i\" \"%{User-Agent}i\""
    +</VirtualHost>
    link +$ROOT/etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf -> ../sites-available/yandro-depot.saltmarsh.test.conf
    --- $ROOT/etc/apache2/sites-available/yandro-0.invalid.conf
    +++ $ROOT/etc/apache2/sites-available/yandro-0.invalid.conf
    @@ -1,5 +1,8 @@
     # Default virtual hosts for unknown host names, shared by all site lists; kept by `yandro map`
     # Modules that yandro enabled: socache_shmcb ssl rewrite
    +# Lines that yandro changed in other files, to be changed back with the last site:
    +# --- /etc/apache2/ports.conf
    +# +Listen 443.
     <VirtualHost *:443>
     	ServerName localhost
     	SSLEngine on
    --- $ROOT/etc/hosts
    +++ $ROOT/etc/hosts
    @@ -3,4 +3,6 @@
     # yandro sites of root, in /home/ada/.config/yandro/sites.toml: change them with yandro
     127.0.0.1	saltmarsh.test
     ::1	saltmarsh.test
    +127.0.0.1	depot.saltmarsh.test
    +::1	depot.saltmarsh.test
     # end of yandro sites
    --- $ROOT/home/ada/.config/yandro/sites.toml
    +++ $ROOT/home/ada/.config/yandro/sites.toml
    @@ -5,3 +5,10 @@
     folder = "$ROOT/saltmarsh"
     server = "apache"
     only-here = true
    +
    +[[site]]
    +name = "depot.saltmarsh.test"
    +folder = "$ROOT/depot"
    +document-root = "public"
    +server = "apache"
    +only-here = true
    then Apache httpd tests its configuration and is reloaded (or started)
    Nothing was changed: this was a preview.
    [status 0]
    "#);
}

#[test]
fn conflicts_are_shown_with_their_line() {
    let sysroot = Sysroot::new();
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]), @"
    error: no web server was found
    fix: install Apache httpd (`apt install apache2`) or nginx (`apt install nginx-light`), or use the built-in server: add `--server built-in`
    [status 3]
    ");
    sysroot.write("etc/hosts", "127.0.0.1 localhost\n10.0.0.5 depot.test SALTMARSH.test\n");
    let before = sysroot.tree();
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]), @"
    error: $ROOT/etc/hosts:2: `saltmarsh.test` points to 10.0.0.5 here already, not to 127.0.0.1
      10.0.0.5 depot.test SALTMARSH.test
    fix: have that line commented out while the site is mapped: add `--take-over`; or map the site to where it points: `--address 10.0.0.5`
    [status 3]
    ");
    sysroot.write("home/ada/.config/yandro/sites.toml", "# mine\n[[site]]\nname = \"depot.test\"\nfolder = 'depot'\n");
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]), @r"
    error: $ROOT/home/ada/.config/yandro/sites.toml:4: `depot` is not an absolute path: begin it with `/` or `~/`
      4 | folder = 'depot'
        |          ^^^^^^^
    fix: correct that line of the site list and try again
    [status 2]
    ");
    std::fs::remove_file(sysroot.path("home/ada/.config/yandro/sites.toml")).unwrap();
    std::fs::remove_dir(sysroot.path("home/ada/.config/yandro")).unwrap();
    std::fs::remove_dir(sysroot.path("home/ada/.config")).unwrap();
    assert_eq!(sysroot.tree(), before);
}

#[test]
fn somebody_elses_virtual_host_is_not_covered_up() {
    let sysroot = Sysroot::with_apache();
    sysroot.write(
        "etc/apache2/sites-enabled/ferries.conf",
        "# mine\n<VirtualHost *:80>\nServerName Saltmarsh.test:80\n</VirtualHost>\n",
    );
    insta::assert_snapshot!(sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]), @"
    error: $ROOT/etc/apache2/sites-enabled/ferries.conf:2: a virtual host that yandro did not write already answers to `saltmarsh.test`
    fix: take that virtual host over, with its lines kept: yandro adopt saltmarsh.test
    fix: or take its file out of use: $ROOT/etc/apache2/sites-enabled/ferries.conf
    [status 3]
    ");
}

#[test]
fn without_the_right_to_write_nothing_is_changed_and_all_of_it_is_named() {
    if !has(&["setpriv"], true) {
        return;
    }
    let sysroot = Sysroot::with_apache();
    let nobody = 65534;
    fs::set_permissions(sysroot.root(), fs::Permissions::from_mode(0o755)).unwrap();
    fs::create_dir_all(sysroot.path("home/ada")).unwrap();
    chown(sysroot.path("home/ada"), Some(nobody), Some(nobody)).unwrap();
    let before = sysroot.tree();
    let mut command = Command::new("setpriv");
    command.args(["--reuid=65534", "--regid=65534", "--clear-groups", YANDRO, "--sysroot"]).arg(sysroot.root());
    command
        .args(["map", "saltmarsh.test", "./saltmarsh"])
        .env_clear()
        .env("HOME", "/home/ada")
        .env("PATH", "/usr/bin:/bin");
    let ran = Ran::of(command.current_dir(sysroot.root()).output().unwrap(), sysroot.root());
    insta::assert_snapshot!(ran.to_string().replace(YANDRO, "$YANDRO"), @"
    error: you may not do this, and nothing was changed:
      write $ROOT/etc/apache2/mods-enabled/socache_shmcb.load
      write $ROOT/etc/apache2/mods-enabled/ssl.load
      write $ROOT/etc/apache2/mods-enabled/ssl.conf
      write $ROOT/etc/apache2/mods-enabled/rewrite.load
      write $ROOT/etc/apache2/sites-available/yandro-saltmarsh.test.conf
      write $ROOT/etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      write $ROOT/etc/apache2/sites-available/yandro-0.invalid.conf
      write $ROOT/etc/apache2/sites-enabled/yandro-0.invalid.conf
      write $ROOT/etc/hosts
    fix: run the command as root, or as a user who may use sudo: sudo $YANDRO --sysroot $ROOT map saltmarsh.test ./saltmarsh
    [status 3]
    ");
    let own = |line: &&str| !line.contains("/.local");
    assert_eq!(sysroot.tree().lines().filter(own).collect::<Vec<_>>(), before.lines().collect::<Vec<_>>());
    assert!(!sysroot.tree().contains("BEGIN"), "no certificate and no key");
}

#[test]
fn folders_that_hold_more_than_a_project_are_served_only_when_meant() {
    let sysroot = Sysroot::with_apache();
    let outside = sysroot.path("cloned/public");
    fs::create_dir_all(sysroot.path("cloned/web")).unwrap();
    std::os::unix::fs::symlink("/etc", &outside).unwrap();
    std::os::unix::fs::symlink("web", sysroot.path("cloned/current")).unwrap();
    std::os::unix::fs::symlink("../depot", sysroot.path("cloned/depot")).unwrap();
    fs::create_dir_all(sysroot.path("depot")).unwrap();
    let before = sysroot.tree();
    for (arguments, words) in [
        (
            &["./cloned", "--document-root", "public"][..],
            "`$ROOT/cloned/public` leads to `/etc`, which is a folder of the system",
        ),
        (
            &["./cloned", "--document-root", "depot"],
            "leads to `$ROOT/depot`, which is outside the project `$ROOT/cloned`",
        ),
        (&["./home/ada"], "`$ROOT/home/ada` holds your own settings and keys"),
        (&["./home/ada/.local/share/yandro", "--create"], "holds your own settings and keys"),
        (&["."], "`$ROOT` holds your own settings and keys"),
        (&[], "`$ROOT` holds your own settings and keys"),
        (&["/"], "`/` is a folder of the system"),
        (&["/etc/ssl"], "`/etc/ssl` is a folder of the system"),
    ] {
        let ran = sysroot.yandro(&[&["map", "tides.test"], arguments].concat());
        assert!(ran.status == 2 && ran.stderr.contains(words), "{arguments:?}: {ran}");
        assert!(ran.stderr.contains("add `--any-folder`"), "{ran}");
    }
    let own = |line: &&str| !line.starts_with("home/");
    assert_eq!(sysroot.tree().lines().filter(own).collect::<Vec<_>>(), before.lines().filter(own).collect::<Vec<_>>());
    sysroot.yandro(&["map", "tides.test", "./cloned", "--document-root", "current"]).succeeds();
    let map = ["map", "tides.test", "./cloned", "--document-root", "depot"];
    sysroot.yandro(&[&map[..], &["--any-folder"]].concat()).succeeds();
    sysroot.yandro(&map).succeeds();
}

/// Sets the title, clears the screen, colours, turns the direction, goes back to the line's begin.
const HOSTILE: &str = "\u{1b}]0;owned\u{7}\u{1b}[2J\u{9b}1m\u{202e}moc\r";

/// The characters of a text that a terminal obeys instead of showing them.
fn obeyed(text: &str) -> Vec<char> {
    let is_direction = |c: char| matches!(u32::from(c), 0x061c | 0x200e..=0x200f | 0x202a..=0x202e | 0x2066..=0x2069);
    text.chars().filter(|c| c.is_control() && *c != '\n' || is_direction(*c)).collect()
}

#[test]
fn nothing_that_others_wrote_is_obeyed_by_the_terminal() {
    if !has(&["openssl"], false) {
        return;
    }
    let sysroot = Sysroot::with_apache();
    let folder = format!("depot {HOSTILE}");
    fs::create_dir(sysroot.path(&folder)).unwrap();
    let hosts = format!("127.0.0.1 localhost\n127.0.0.1 {HOSTILE} # {HOSTILE}\n127.0.0.1 tides{HOSTILE}.test\n");
    sysroot.write("etc/hosts", &hosts);
    sysroot.write(
        "etc/apache2/sites-enabled/tides.conf",
        &format!("<VirtualHost *:80>\n ServerName tides.test\n DocumentRoot \"/srv/{HOSTILE}\"\n {HOSTILE} on\n</VirtualHost>\n"),
    );
    let subject = format!("/CN=tides{}", HOSTILE.replace('\r', ""));
    let made = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-utf8"])
        .args(["-keyout", "key.pem", "-out", "cert.pem", "-subj", &subject])
        .current_dir(sysroot.root())
        .output()
        .unwrap();
    assert!(made.status.success(), "{made:?}");
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let mut escaped = 0;
    for arguments in [
        &["map", HOSTILE, "./saltmarsh"][..],
        &["map", "depot.test", &folder, "--preview"],
        &["map", "depot.test", HOSTILE],
        &["map", "tides.test", "./saltmarsh", "--preview"],
        &["unmap", HOSTILE],
        &["hosts", "check"],
        &["hosts", "list"],
        &["hosts", "import", HOSTILE],
        &["hosts", "point", HOSTILE, "127.0.0.1"],
        &["cert", "show", "cert.pem"],
        &["cert", "show", HOSTILE],
        &["check", HOSTILE],
        &["servers"],
        &["sites"],
        &["settle", "--preview"],
        &[HOSTILE],
    ] {
        for format in [&[][..], &["--json"], &["--color", "never"]] {
            let ran = sysroot.yandro(&[arguments, format].concat());
            for text in [&ran.stdout, &ran.stderr] {
                assert_eq!(obeyed(text), [] as [char; 0], "{arguments:?} {format:?}: {text:?}");
                escaped += usize::from(text.contains("\\x1b") || text.contains("\\u001b"));
            }
        }
    }
    assert!(escaped > 16, "what is hostile is shown, escaped, not left out: {escaped}");
}
