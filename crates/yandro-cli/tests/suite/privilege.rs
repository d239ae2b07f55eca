//! A real unprivileged user, the real sudo, on a private machine.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, chown};

use super::harbour::{Harbour, Server};
use super::kit::{Background, Ran, YANDRO, eventually, has, steady};
use super::namespace::{HOSTS, Namespace};

/// `nobody`, whom every Debian has.
const NOBODY: u32 = 65534;

struct User {
    machine: Namespace,
}

impl User {
    /// A machine whose `nobody` may use sudo, or may not.
    fn new(sudo: bool) -> Option<Self> {
        let machine = Namespace::new(&["sudo", "setpriv", "mount"])?;
        chown(machine.path("home"), Some(NOBODY), Some(NOBODY)).unwrap();
        chown(machine.path("saltmarsh"), Some(NOBODY), Some(NOBODY)).unwrap();
        fs::create_dir(machine.path("sudoers")).unwrap();
        let rule = if sudo { "nobody ALL=(root) NOPASSWD: ALL\n" } else { "" };
        fs::write(machine.path("sudoers/nobody"), rule).unwrap();
        fs::set_permissions(machine.path("sudoers/nobody"), fs::Permissions::from_mode(0o440)).unwrap();
        machine.run("mount", &["--bind", machine.path("sudoers").to_str().unwrap(), "/etc/sudoers.d"]).succeeds();
        Some(Self { machine })
    }

    /// With a separate folder for further root certificates.
    fn with_anchors(&self) -> std::path::PathBuf {
        let anchors = self.machine.path("anchors");
        fs::create_dir(&anchors).unwrap();
        let bind = ["--bind", anchors.to_str().unwrap(), "/usr/local/share/ca-certificates"];
        self.machine.run("mount", &bind).succeeds();
        anchors
    }

    fn yandro(&self, arguments: &[&str]) -> Ran {
        self.run(&[&[YANDRO], arguments].concat())
    }

    fn run(&self, line: &[&str]) -> Ran {
        let ids = ["--reuid=65534", "--regid=65534", "--clear-groups"];
        self.machine.run("setpriv", &[&ids[..], line].concat())
    }

    /// Everything that root owns of the machine.
    fn system(&self) -> String {
        self.machine
            .run("sh", &["-c", "cat hosts; cd apache2; find . -printf '%p %l %u %m\\n' | sort; cat sites-available/*"])
            .stdout
    }
}

#[test]
fn a_user_maps_with_sudo_for_the_steps_that_need_root_and_keeps_all_else() {
    let Some(user) = User::new(true) else { return };
    let before = user.system();
    let ran = user.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    // Sudo's own messages about this machine's name don't matter.
    let said: Vec<&str> = ran.stderr.lines().filter(|line| !line.starts_with("sudo:")).collect();
    insta::assert_snapshot!(said.join("\n"), @"
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/hosts
      write 4 files in /etc/apache2/mods-enabled
      write 2 files in /etc/apache2/sites-available
      write 2 files in /etc/apache2/sites-enabled
      test, reload, start or stop the web server
    ");
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
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
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/hosts
      write 4 files in /etc/apache2/mods-enabled
      write 2 files in /etc/apache2/sites-available
      write 2 files in /etc/apache2/sites-enabled
      test, reload, start or stop the web server
    [status 0]
    ");
    assert_eq!(user.machine.curl(&["https://saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    // The user's files belong to the user, and only the user can read the key.
    let data = user.machine.path("home/.local/share/yandro");
    for below in [
        "authority/issuing.key",
        "certificates/saltmarsh.test/key.pem",
        "history",
        "lock",
        "../../../.config/yandro/sites.toml",
    ] {
        let meta = fs::metadata(data.join(below)).unwrap();
        assert_eq!((meta.uid(), meta.mode() & 0o077), (NOBODY, 0), "{below}");
    }
    // The system's files belong to root.
    let meta = fs::metadata(user.machine.path("apache2/sites-available/yandro-saltmarsh.test.conf")).unwrap();
    assert_eq!((meta.uid(), meta.mode() & 0o777), (0, 0o644));
    user.yandro(&["check"]).succeeds();
    let again = user.yandro(&["map", "saltmarsh.test"]).succeeds();
    assert_eq!(again.stderr, "", "nothing to do needs no root: {again}");

    user.yandro(&["undo"]).succeeds();
    assert_eq!(user.system(), before);
    assert_eq!(user.machine.hosts(), HOSTS);
}

#[test]
fn a_failure_after_the_privileged_steps_puts_them_back() {
    let Some(user) = User::new(true) else { return };
    user.yandro(&["map", "depot.saltmarsh.test", "./saltmarsh"]).succeeds();
    fs::create_dir(user.machine.path("home/crew")).unwrap();
    chown(user.machine.path("home/crew"), Some(NOBODY), Some(NOBODY)).unwrap();
    fs::write(user.machine.path("home/crew/.htaccess"), "Require all denied\n").unwrap();
    chown(user.machine.path("home/crew/.htaccess"), Some(NOBODY), Some(NOBODY)).unwrap();
    let before = user.system();
    let ran = user.yandro(&["map", "crew.saltmarsh.test", "./home/crew"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/apache2/sites-available/yandro-crew.saltmarsh.test.conf
      write /etc/apache2/sites-enabled/yandro-crew.saltmarsh.test.conf
      write /etc/hosts
      test, reload, start or stop the web server
    error: `crew.saltmarsh.test` could not be proven:
    ✗ crew.saltmarsh.test: a line of the configuration forbids $ROOT/home/crew
        seen: $ROOT/home/crew/.htaccess:1
              /var/log/apache2/crew.saltmarsh.test-error.log:N: [NOW] [authz_core:error] [PID] [CLIENT] AH01630: client denied by server configuration: $ROOT/home/crew/
        fix: ${EDITOR:-vi} +1 $ROOT/home/crew/.htaccess

    everything was rolled back
    fix: correct what was found, then map the site again
    [status 3]
    ");
    assert_eq!(user.system(), before);
    // The person's own folder is theirs to open, and needs no root for that.
    fs::remove_file(user.machine.path("home/crew/.htaccess")).unwrap();
    fs::set_permissions(user.machine.path("home/crew"), fs::Permissions::from_mode(0o700)).unwrap();
    let ran = user.yandro(&["map", "crew.saltmarsh.test", "./home/crew", "--fix-permissions"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    crew.saltmarsh.test -> $ROOT/home/crew
      permissions  $ROOT/home/crew: www-data:rx on its access control list
      certificate  made for crew.saltmarsh.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-crew.saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-crew.saltmarsh.test.conf
      hosts file  changed /etc/hosts
      site list  changed $ROOT/home/.config/yandro/sites.toml
      server  Apache httpd: configuration tested, reloaded
      proof  https://crew.saltmarsh.test/ answers from there, over HTTPS
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/apache2/sites-available/yandro-crew.saltmarsh.test.conf
      write /etc/apache2/sites-enabled/yandro-crew.saltmarsh.test.conf
      write /etc/hosts
      test, reload, start or stop the web server
    [status 0]
    ");
}

#[test]
fn without_sudo_the_exact_steps_are_named_and_nothing_is_changed() {
    let Some(user) = User::new(false) else { return };
    let before = user.system();
    let ran = user.yandro(&["map", "saltmarsh.test", "./saltmarsh"]);
    assert_eq!(ran.status, 3, "{ran}");
    let asked = format!(
        "  write /etc/hosts\n  test, reload, start or stop the web server\nfix: run the command as root, or as a user who may use sudo: sudo {YANDRO} map saltmarsh.test ./saltmarsh\n"
    );
    assert!(ran.stderr.contains(&asked), "{ran}");
    assert_eq!(user.system(), before);
    assert!(!user.machine.path("home/.local/share/yandro/authority").exists());
}

#[test]
fn under_sudo_the_callers_own_things_are_the_callers() {
    let Some(user) = User::new(true) else { return };
    // sudo gives the home of the password file; nobody's is made to be this one.
    let passwd = user.machine.path("passwd");
    let home = user.machine.path("home");
    let text = fs::read_to_string("/etc/passwd").unwrap();
    let text: String = text
        .lines()
        .map(|line| {
            if line.starts_with("nobody:") {
                format!("nobody:x:65534:65534::{}:/bin/sh\n", home.display())
            } else {
                format!("{line}\n")
            }
        })
        .collect();
    fs::write(&passwd, text).unwrap();
    user.machine.run("mount", &["--bind", passwd.to_str().unwrap(), "/etc/passwd"]).succeeds();
    user.run(&["sudo", YANDRO, "map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    for below in ["", "/authority/issuing.key", "/certificates/saltmarsh.test", "/history", "/lock"] {
        let meta = fs::metadata(format!("{}/.local/share/yandro{below}", home.display())).unwrap();
        assert_eq!(meta.uid(), NOBODY, "{below}");
    }
    assert_eq!(fs::metadata(home.join(".config/yandro/sites.toml")).unwrap().uid(), NOBODY);
    // And the user goes on without sudo where none is needed.
    user.yandro(&["check"]).succeeds();
    let history = user.yandro(&["history"]).succeeds();
    insta::assert_snapshot!(steady(&history), @"
    CHANGE  WHEN  COMMAND  TOUCHED
    1  $DATE TIME  yandro map saltmarsh.test ./saltmarsh  23 paths

    Take the last one back: yandro undo; another: yandro undo CHANGE. Times are UTC.
    [status 0]
    ");
}

#[test]
fn a_server_under_sudo_has_no_rights_of_roots_when_it_answers() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada"]) else { return };
    let home = harbour.home(Some("ada"));
    let settings = "mkdir -p $1/.config/yandro; printf '[built-in]\\nhttp-port = 81\\nhttps-port = 444\\n' > $1/.config/yandro/settings.toml; chown -R ada $1/.config";
    harbour.machine.run("sh", &["-c", settings, "sh", &home]).succeeds();
    let ran = harbour.yandro(&["serve"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the built-in server can't listen: port 81 of 127.0.0.1: Permission denied (os error 13)
    fix: let yandro listen on low ports, once and for good: yandro setup ports
    fix: or choose ports above 1023 in $ROOT/ada/.config/yandro/settings.toml:

      [built-in]
      http-port = 8080
      https-port = 8443

    fix: or start it as root; it gives up root's rights once it has the ports: sudo yandro serve
    [status 3]
    ");
    harbour.yandro(&["map", "depot.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let line = ["--reuid", "ada", "--regid", "ada", "--init-groups", "sudo", YANDRO, "serve"];
    let _serving = Background::start(harbour.machine.command("setpriv").args(line).env("HOME", &home));
    let answers = ["--cacert", "/dev/null", "-ks", "https://depot.test:444/"];
    eventually("it answers", || harbour.machine.run("curl", &answers).status == 0);
    let script = "for task in /proc/$(pgrep -xn yandro -u ada)/task/*; do grep -E '^(Uid|Gid|Groups|CapEff)' $task/status; done | sort -u; id -u ada; id -g ada; id -G ada";
    let ran = harbour.machine.run("sh", &["-c", script]).succeeds();
    let lines: Vec<&str> = ran.stdout.lines().map(str::trim_end).collect();
    let [capabilities, gids, groups, uids, uid, gid, own] = lines[..] else { panic!("one of each: {ran}") };
    assert_eq!(capabilities, "CapEff:\t0000000000000000", "{ran}");
    assert_eq!(
        (uids, gids),
        (&*format!("Uid:{}", format!("\t{uid}").repeat(4)), &*format!("Gid:{}", format!("\t{gid}").repeat(4)))
    );
    assert_eq!(groups, format!("Groups:\t{own}"), "{ran}");
}

#[test]
fn the_helper_does_nothing_beyond_its_list() {
    let Some(user) = User::new(true) else { return };
    let before = user.system();
    let ask = |line: &str| {
        let script = format!("printf '%s\\n' '{line}' | sudo {YANDRO} privileged");
        user.run(&["sh", "-c", &script])
    };
    let change = |path: &str, to: &str, tag: &str| {
        format!(r#"{{"step":"change","path":"{path}","to":{to},"tag":"{tag}","in_place":true}}"#)
    };
    let absent = r#"{"is":"absent"}"#;
    let file = format!(r#"{{"is":"file","sha256":"{}"}}"#, "0".repeat(64));
    for line in [
        change("/etc/hosts", absent, "0000000f"),
        change("/etc/hosts", &file, "0000000f"),
        change("/etc/hosts", &file, "../x"),
        change("/etc/passwd", &file, "0000000f"),
        change("/etc/apache2/apache2.conf", absent, "0000000f"),
        change("/etc/apache2/sites-available/../apache2.conf", absent, "0000000f"),
        change("/etc/apache2/mods-enabled/evil.load", r#"{"is":"link","target":"/tmp/evil.so"}"#, "0000000f"),
        change(
            "/etc/apache2/mods-enabled/ssl.load",
            r#"{"is":"link","target":"../mods-available/ssl.load"}"#,
            "0000000f",
        ),
        r#"{"step":"clean","path":"/etc/hosts","tag":"0000000f"}"#.to_owned(),
        r#"{"step":"write","path":"/etc/passwd","before":null,"tag":"0000000f","length":0,"in_place":true}"#.to_owned(),
        "x".to_owned(),
    ] {
        let ran = ask(&line);
        assert!(ran.stdout.contains("\"answer\":\"refused\""), "{line}: {ran}");
    }
    assert_eq!(user.system(), before);
    assert_eq!(user.run(&[YANDRO, "privileged"]).status, 3, "it is of no use without root");
}

/// The program that the user starts as `yandro`, with `wrapper` instead of it for the helper: it is
/// laid over the program's file after that was opened, and sudo starts what lies there.
const WITH_WRAPPED_HELPER: &str = r#"
    exec 9<"$1/yandro"
    mount --bind "$1/wrapper" "$1/yandro"
    shift
    exec setpriv --reuid=65534 --regid=65534 --clear-groups /proc/self/fd/9 "$@"
"#;

/// Kills the helper of `command` at each of its changing calls in turn: the user's next command
/// recovers. `site` is on the list if and only if all is as afterwards.
fn killed_anywhere(user: &User, command: &[&str], state: &dyn Fn() -> String, site: Option<&str>, at_least: usize) {
    fs::copy(YANDRO, user.machine.path("yandro")).unwrap();
    fs::write(user.machine.path("wrapper"), "").unwrap();
    fs::set_permissions(user.machine.path("wrapper"), fs::Permissions::from_mode(0o755)).unwrap();
    // The helper runs below strace with these options.
    let wrapped = |strace: &str| {
        let line = format!("#!/bin/sh\nexec strace {strace} {YANDRO} \"$@\"\n");
        fs::write(user.machine.path("wrapper"), line).unwrap();
        let root = user.machine.root().to_str().unwrap();
        let line = [&["--mount", "sh", "-c", WITH_WRAPPED_HELPER, "sh", root], command].concat();
        user.machine.run("unshare", &line)
    };
    let list = || fs::read_to_string(user.machine.path("home/.config/yandro/sites.toml")).unwrap_or_default();
    let before = state();
    let log = user.machine.path("log/helper");
    let calls = "write,fsync,fchmod,fchown,rename,symlink,unlink,kill";
    wrapped(&format!("-o {} -e trace={calls}", log.display())).succeeds();
    let text = fs::read_to_string(&log).unwrap();
    let after = state();
    user.yandro(&["undo"]).succeeds();
    assert_eq!(state(), before);
    let mut killed = 0;
    for call in calls.split(',') {
        for when in 1..=text.lines().filter(|line| line.starts_with(&format!("{call}("))).count() {
            let ran = wrapped(&format!("-o /dev/null -e inject={call}:signal=SIGKILL:when={when}"));
            let place = format!("{command:?}: {call} number {when}: {ran}");
            killed += usize::from(ran.status != 0);
            user.yandro(&["sites"]).succeeds();
            let now = state();
            assert!(now == before || now == after, "{place}\n{now}");
            if let Some(site) = site {
                assert_eq!(list().contains(site), now == after, "{place}");
            }
            if now == after {
                user.yandro(&["undo"]).succeeds();
            }
            assert_eq!(state(), before, "{place}");
        }
    }
    eprintln!("{command:?}: the helper was killed at {killed} places, lost nothing");
    assert!(killed >= at_least, "only {killed} places were found");
}

#[test]
fn a_helper_killed_anywhere_loses_nothing_and_the_user_recovers_with_another() {
    if !super::kit::has(&["strace"], true) {
        return;
    }
    let Some(user) = User::new(true) else { return };
    let state = || user.system() + &user.machine.hosts();
    killed_anywhere(&user, &["map", "saltmarsh.test", "./saltmarsh"], &state, Some("saltmarsh.test"), 20);
}

#[test]
fn a_helper_killed_while_it_keeps_the_trust_store_leaves_it_as_it_was() {
    if !super::kit::has(&["strace", "update-ca-certificates"], true) {
        return;
    }
    let Some(user) = User::new(true) else { return };
    let anchors = user.with_anchors();
    user.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    // Content of the folder, and the list built from it.
    let state = || {
        let bundle = user.machine.run("sh", &["-c", "sha256sum /etc/ssl/certs/ca-certificates.crt"]).stdout;
        format!("{} {bundle}", fs::read_dir(&anchors).unwrap().count())
    };
    // The store builds its bundle again, in another order.
    user.machine.run("update-ca-certificates", &["--fresh"]).succeeds();
    killed_anywhere(&user, &["authority", "trust"], &state, None, 3);
}

#[test]
fn the_system_trusts_the_authority_when_asked() {
    if !super::kit::has(&["update-ca-certificates", "openssl"], true) {
        return;
    }
    let Some(user) = User::new(true) else { return };
    let anchors = user.with_anchors();
    let ran = user.yandro(&["authority", "trust"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: no local authority exists yet
    fix: the first `yandro map NAME FOLDER` makes it
    [status 3]
    ");
    user.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let fetch = || user.run(&["curl", "--silent", "--show-error", "https://saltmarsh.test/"]);
    assert_eq!(fetch().status, 60, "not trusted yet");
    let ran = user.yandro(&["authority", "trust"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    Yandro root for USER, DATE is trusted by this system and your browsers now
      trust store  made /usr/local/share/ca-certificates/yandro-HEX.crt
      trust  yandro-HEX goes into the store of Chromium: $ROOT/home/.pki/nssdb
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /usr/local/share/ca-certificates/yandro-HEX.crt
    note: programs that were started before go by their old list until they are started again
    [status 0]
    ");
    assert_eq!(fetch().succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let again = user.yandro(&["authority", "trust"]).succeeds();
    assert!(again.stdout.contains("already") && !again.stderr.contains("sudo"), "no root is needed: {again}");
    user.yandro(&["undo"]).succeeds();
    assert_eq!(fetch().status, 60, "taken back");
    user.yandro(&["authority", "trust"]).succeeds();
    fetch().succeeds();
    user.yandro(&["authority", "distrust"]).succeeds();
    assert_eq!(fetch().status, 60, "taken out");
    assert_eq!(fs::read_dir(&anchors).unwrap().count(), 0);
}

#[test]
fn nginx_takes_the_same_way() {
    let Some(user) = User::new(true) else { return };
    if !has(&["nginx"], true) {
        return;
    }
    let system =
        || user.machine.run("sh", &["-c", "cat hosts; cd etc/nginx; find . -printf '%p %l %u %m\\n' | sort"]).stdout;
    let before = system();
    let ran = user.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
      virtual host  made /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/nginx/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/nginx/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      server  nginx: configuration tested, started
      proof  https://saltmarsh.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      write /etc/nginx/sites-enabled/yandro-saltmarsh.test.conf
      write /etc/nginx/sites-available/yandro-0.invalid.conf
      write /etc/nginx/sites-enabled/yandro-0.invalid.conf
      write /etc/hosts
      test, reload, start or stop the web server
    [status 0]
    ");
    assert_eq!(user.machine.curl(&["https://saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let ran = user.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      certificate  changed for saltmarsh.test, www.saltmarsh.test, until $DATE
      virtual host  changed /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      hosts file  changed /etc/hosts
      site list  changed $ROOT/home/.config/yandro/sites.toml
      server  nginx: configuration tested, reloaded
      proof  https://saltmarsh.test/ answers from there, over HTTPS
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      write /etc/hosts
      test, reload, start or stop the web server
    [status 0]
    ");
    user.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(system(), before);
}
