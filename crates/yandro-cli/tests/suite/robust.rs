//! Damaged records, wrong clocks, endless files, slow servers, links out of a sysroot: yandro reports
//! them, and nothing is lost.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::process::{Command, Stdio};

use super::kit::{Ran, Sysroot, YANDRO, eventually, has, steady};
use super::namespace::Namespace;

const HISTORY: &str = "home/ada/.local/share/yandro/history";

/// A machine with two sites on it, so with two records.
fn two_sites() -> Sysroot {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot"]).succeeds();
    sysroot
}

#[test]
fn a_damaged_record_stops_nothing_but_its_own_undo() {
    let sysroot = two_sites();
    let record = format!("{HISTORY}/000001.done");
    let whole = fs::read(sysroot.path(&record)).unwrap();
    for damage in [&whole[..whole.len() / 2], &whole[..whole.len() - 9], b"", b"\0\xff\n", b"{}\n"] {
        fs::write(sysroot.path(&record), damage).unwrap();
        let ran = sysroot.yandro(&["history"]).succeeds();
        assert!(ran.stdout.contains("depot.saltmarsh.test") && ran.stderr.contains("000001.done is damaged"), "{ran}");
        assert_eq!(sysroot.yandro(&["undo", "1", "--preview"]).status, 2);
        sysroot.yandro(&["undo", "2", "--preview"]).succeeds();
    }
    for (state, says) in [("begun", "may be half done"), ("tidying", "the change is complete")] {
        let path = format!("{HISTORY}/000003.{state}");
        sysroot.write(&path, "{\"version\": 2, \"id\": 3");
        let ran = sysroot.yandro(&["sites"]).succeeds();
        assert!(ran.stderr.contains(says) && ran.stderr.contains(&format!("000003.{state}.damaged")), "{ran}");
        assert!(!sysroot.path(&path).exists() && sysroot.path(&format!("{path}.damaged")).exists());
        assert_eq!(sysroot.yandro(&["sites"]).succeeds().stderr, "", "said once");
    }
}

#[test]
fn the_newest_changes_stay_whatever_the_clock_says_and_numbers_go_on() {
    let sysroot = two_sites();
    let old = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(86_400);
    for number in [1, 2] {
        let record = fs::File::options().write(true).open(sysroot.path(&format!("{HISTORY}/00000{number}.done")));
        record.unwrap().set_modified(old).unwrap();
    }
    sysroot.write(&format!("{HISTORY}/4294967295.done"), "not a record");
    sysroot.yandro(&["map", "tides.test", "./saltmarsh"]).succeeds();
    let ran = sysroot.yandro(&["history"]).succeeds();
    for number in ["\n1 ", "\n2 ", "\n4294967296 "] {
        assert!(ran.stdout.contains(number), "{number:?}: {ran}");
    }
    sysroot.yandro(&["undo"]).succeeds();
    assert!(!sysroot.read("etc/hosts").contains("tides.test"));
    // No number is left above this one, and none is used twice.
    sysroot.write(&format!("{HISTORY}/{}.done", u64::MAX), "not a record");
    let ran = sysroot.yandro(&["map", "tides.test", "./saltmarsh"]);
    assert_eq!(ran.status, 3, "{ran}");
    assert!(!sysroot.read("etc/hosts").contains("tides.test"));
}

#[test]
fn a_record_that_cannot_be_finished_is_rolled_back_and_not_listed() {
    if !has(&["strace"], true) {
        return;
    }
    let sysroot = two_sites();
    let before = sysroot.tree();
    let map = ["map", "tides.test", "./saltmarsh"];
    let traced = |injected: &[&str]| {
        let log = sysroot.path("strace.log");
        let mut command = Command::new("strace");
        command.args(["-o", log.to_str().unwrap()]).args(injected).arg(YANDRO);
        command.arg("--sysroot").arg(sysroot.root()).args(map).env_clear().env("HOME", "/home/ada");
        let ran = Ran::of(command.current_dir(sysroot.root()).output().unwrap(), sysroot.root());
        (ran, fs::read_to_string(&log).unwrap())
    };
    let (ran, log) = traced(&["-e", "trace=fsync,rename"]);
    ran.succeeds();
    sysroot.yandro(&["undo"]).succeeds();
    // The fsync after the record got its last name.
    let finish = log.lines().position(|line| line.contains("tidying")).unwrap();
    let last = log.lines().take(finish + 2).filter(|line| line.starts_with("fsync")).count();
    for error in ["EIO", "ENOSPC"] {
        let (ran, _) = traced(&["-e", &format!("inject=fsync:error={error}:when={last}")]);
        assert_eq!(ran.status, 3, "{ran}");
        let listed = sysroot.yandro(&["history"]).succeeds().stdout;
        assert_eq!(listed.matches("map tides.test").count(), 1, "the first, which was undone:\n{listed}");
        fs::remove_file(sysroot.path("strace.log")).unwrap();
        assert_eq!(sysroot.tree(), before, "{ran}");
    }
}

#[test]
fn output_that_is_lost_changes_the_status_and_nothing_else() {
    let sysroot = Sysroot::with_apache();
    let full = |words: &[&str]| {
        let mut command = sysroot.command(words);
        command.stdout(fs::File::options().write(true).open("/dev/full").unwrap()).stderr(Stdio::null());
        command.status().unwrap().code()
    };
    assert_eq!(full(&["map", "saltmarsh.test", "./saltmarsh"]), Some(5));
    assert!(sysroot.read("etc/hosts").contains("saltmarsh.test"), "the change itself is made");
    for words in [
        &["sites"][..],
        &["--help"],
        &["map", "--help"],
        &["--version"],
        &["hosts", "list", "--json"],
        &["hosts", "export"],
        &["history"],
        &["servers"],
        &["vhosts"],
        &["cert", "show", "saltmarsh.test"],
        &["authority", "show"],
        &["authority", "export"],
        &["authority", "env"],
        &["settle", "--preview"],
    ] {
        assert_eq!(full(words), Some(5), "{words:?}");
    }
    // A reader that closes the pipe early is fine.
    let mut command = sysroot.command(&["sites"]);
    let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn an_error_is_json_where_json_is_asked_for() {
    let sysroot = Sysroot::with_apache();
    let error = |words: &[&str]| {
        let ran = sysroot.yandro(words);
        let value: serde_json::Value = serde_json::from_str(&ran.stdout).unwrap_or_else(|_| panic!("{words:?}: {ran}"));
        assert!(ran.status >= 2 && !value["error"]["message"].as_str().unwrap().is_empty(), "{ran}");
        value["error"]["code"].as_str().unwrap().to_owned()
    };
    assert_eq!(error(&["map", "not a name", "./saltmarsh", "--json"]), "bad-input");
    assert_eq!(error(&["unmap", "tides.test", "--json"]), "bad-input");
    assert_eq!(error(&["unmap", "--json"]), "bad-arguments");
    assert_eq!(error(&["map", "bank.com", "./saltmarsh", "--https", "off", "--json"]), "consent-needed");
    assert_eq!(error(&["undo", "--json"]), "bad-input");
}

#[test]
fn files_that_never_end_are_refused_at_once() {
    let sysroot = two_sites();
    sysroot.write("new.csr", "");
    for (words, says) in [
        (&["sites", "--passphrase-file", "/dev/zero"][..], "larger than 64 kB"),
        (&["cert", "sign", "/dev/zero", "--out", "x.pem"], "larger than 1024 kB"),
        (&["check", "--report", "/dev/zero"], "not a regular file"),
        (&["check", "--report", "/dev/full"], "not a regular file"),
    ] {
        let ran = sysroot.yandro(words);
        assert!(ran.status >= 2 && ran.stderr.contains(says), "{words:?}: {ran}");
    }
    // A passphrase may come through a pipe.
    let mut command = sysroot.command(&["sites", "--passphrase-file", "/dev/stdin"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), b"high tide at noon\n").unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0));
    for path in ["etc/hosts", "depot/.htaccess", "etc/apache2/apache2.conf", LIST] {
        let kept = fs::read(sysroot.path(path)).ok();
        _ = fs::remove_file(sysroot.path(path));
        assert!(Command::new("mkfifo").arg(sysroot.path(path)).status().unwrap().success());
        let mut command = sysroot.command(&["check", "depot.saltmarsh.test"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let mut ended = None;
        eventually(&format!("it ends with a FIFO as {path}"), || {
            ended = child.try_wait().unwrap();
            ended.is_some()
        });
        fs::remove_file(sysroot.path(path)).unwrap();
        if let Some(kept) = kept {
            fs::write(sysroot.path(path), kept).unwrap();
        }
    }
}

const LIST: &str = "home/ada/.config/yandro/sites.toml";

#[test]
fn a_home_folder_that_is_of_no_use_is_refused() {
    let sysroot = Sysroot::with_apache();
    for (home, says) in
        [("home/ada".as_ref(), "not an absolute path"), (std::ffi::OsStr::from_bytes(b"/home/\xff"), "not UTF-8")]
    {
        let output = sysroot.command(&["sites"]).env("HOME", home).output().unwrap();
        let ran = Ran::of(output, sysroot.root());
        assert!(ran.status == 2 && ran.stderr.contains(says), "{ran}");
    }
    if has(&[], true) {
        // Under sudo by a user whom the system doesn't know, root's own files are not touched instead.
        let output = sysroot.command(&["sites"]).env("SUDO_UID", "4123456").output().unwrap();
        let ran = Ran::of(output, sysroot.root());
        assert!(ran.status == 2 && ran.stderr.contains("4123456"), "{ran}");
    }
}

#[test]
fn no_link_leads_a_command_out_of_a_sysroot() {
    let outside = tempfile::tempdir().unwrap();
    let real = outside.path().join("real");
    fs::create_dir(&real).unwrap();
    let sysroot = Sysroot::with_apache();
    let target = real.to_str().unwrap();
    for (from, to) in [("etc/apache2", "apache2"), ("home", "home")] {
        fs::create_dir_all(sysroot.path("moved")).unwrap();
        _ = fs::create_dir(sysroot.path(from));
        fs::rename(sysroot.path(from), sysroot.path(&format!("moved/{to}"))).unwrap();
        std::os::unix::fs::symlink(format!("/moved/{to}"), sysroot.path(from)).unwrap();
    }
    fs::remove_file(sysroot.path("etc/hosts")).unwrap();
    std::os::unix::fs::symlink(format!("{target}/hosts"), sysroot.path("etc/hosts")).unwrap();
    fs::write(real.join("hosts"), "127.0.0.1 localhost\n").unwrap();
    let ran = sysroot.yandro(&["hosts", "point", "quay.test", "10.0.0.7"]);
    assert!(ran.status >= 2, "there is no such file within: {ran}");
    let within = sysroot.root().join(target.trim_start_matches('/'));
    fs::create_dir_all(&within).unwrap();
    fs::write(within.join("hosts"), "127.0.0.1 localhost\n").unwrap();
    sysroot.yandro(&["hosts", "point", "quay.test", "10.0.0.7"]).succeeds();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot", "--https", "off"]).succeeds();
    assert!(fs::read_to_string(within.join("hosts")).unwrap().contains("saltmarsh.test"));
    assert!(sysroot.path("moved/apache2/sites-enabled/yandro-saltmarsh.test.conf").symlink_metadata().is_ok());
    assert!(sysroot.path("moved/home/ada/.config/yandro/sites.toml").exists());
    sysroot.yandro(&["settle"]).succeeds();
    sysroot.yandro(&["undo", "2"]).succeeds();
    sysroot.yandro(&["unmap", "depot.saltmarsh.test"]).succeeds();
    assert_eq!(fs::read_to_string(real.join("hosts")).unwrap(), "127.0.0.1 localhost\n", "the real one is untouched");
    assert_eq!(fs::read_dir(&real).unwrap().count(), 1);
}

#[test]
fn unwritable_files_are_reported_as_such() {
    let Some(machine) = Namespace::new(&["chattr"]) else { return };
    let map = |machine: &Namespace| machine.yandro(&["map", "tides.test", "./saltmarsh", "--server", "built-in"]);
    machine.run("mount", &["-o", "remount,ro,bind", "/etc/hosts"]).succeeds();
    let ran = map(&machine);
    insta::assert_snapshot!(steady(&ran), @"
    error: /etc/hosts: read-only file system
    everything was rolled back
    fix: mount the file system of /etc/hosts writable, then run the command again
    [status 3]
    ");
    machine.run("mount", &["-o", "remount,rw,bind", "/etc/hosts"]).succeeds();
    machine.run("umount", &["/etc/hosts"]).succeeds();
    if machine.run("chattr", &["+i", "/etc/hosts"]).status == 0 {
        let ran = map(&machine);
        machine.run("chattr", &["-i", "/etc/hosts"]).succeeds();
        assert!(ran.status == 3 && ran.stderr.contains("immutable attribute"), "{ran}");
        assert!(ran.stderr.contains("chattr -i /etc/hosts"), "{ran}");
    }
    let script = format!("ulimit -n 5; exec {YANDRO} map tides.test ./saltmarsh --server built-in");
    let ran = machine.run("sh", &["-c", &script]);
    insta::assert_snapshot!(steady(&ran), @"
    error: $ROOT/home/.config/yandro/sites.toml: too many open files
    fix: raise the limit of open files (ulimit -n), then run the command again
    [status 3]
    ");
    assert!(ran.status >= 2);
    map(&machine).succeeds();
}

#[test]
fn a_recovery_reloads_no_configuration_that_the_server_refuses() {
    let Some(machine) = Namespace::new(&["python3", "ss", "pkill"]) else { return };
    machine.run("apache2ctl", &["-k", "start"]).succeeds();
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let pid = machine.run("cat", &["/run/apache2/apache2.pid"]).stdout;
    // Killed in the proof, which waits for an upstream that never answers: all is written and loaded.
    let silent = "import socket, time; s = socket.socket(); s.bind((\"127.0.0.1\", 3000)); s.listen(); time.sleep(60)";
    let mut upstream = machine.command("python3");
    let _upstream = super::kit::Background::start(upstream.args(["-c", silent]));
    let mut map = machine.command(YANDRO);
    let mut map = super::kit::Background::start(map.args(["map", "tides.test", "http://127.0.0.1:3000"]));
    eventually("all is written", || machine.hosts().contains("tides.test"));
    eventually("the proof is under way", || {
        machine.run("ss", &["-tn", "state", "established", "dport", "=", ":3000"]).stdout.contains(":3000")
    });
    machine.run("pkill", &["-KILL", "-x", "yandro"]);
    map.0.wait().unwrap();
    assert!(machine.hosts().contains("tides.test"), "it was killed at the end");
    let main = machine.path("apache2/apache2.conf");
    let text = fs::read_to_string(&main).unwrap();
    fs::write(&main, format!("{text}<Directory /srv\n")).unwrap();
    let ran = machine.yandro(&["sites"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    SITE  SERVER  ROOT OR UPSTREAM  STATUS
    https://saltmarsh.test/  apache  $ROOT/saltmarsh  mapped

    1 site; prove that they answer: yandro check
    note: an earlier command was interrupted and is rolled back: `yandro map tides.test http://127.0.0.1:3000` of NOW
    note: Apache httpd refuses its files as they are now and was not reloaded; if it runs, it still uses the files that it read before. In its own words:
      Action '-t' failed.
      The Apache error log may have more information.
      apache2: Syntax error on line 226 of /etc/apache2/apache2.conf: /etc/apache2/apache2.conf:226: <Directory> was not closed.
    [status 0]
    ");
    assert!(!machine.hosts().contains("tides.test"), "rolled back");
    assert_eq!(machine.run("cat", &["/run/apache2/apache2.pid"]).stdout, pid, "the server was left alone");
    assert_eq!(machine.curl(&["https://saltmarsh.test/"]).succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
}

#[test]
fn a_map_that_fails_stops_the_server_that_it_started() {
    let Some(machine) = Namespace::new(&[]) else { return };
    fs::write(machine.path("saltmarsh/.htaccess"), "Nonsense\n").unwrap();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]);
    assert_eq!(ran.status, 3, "{ran}");
    assert!(!machine.path("apache2/sites-enabled/yandro-saltmarsh.test.conf").exists());
    let listens = machine.run("cat", &["/proc/net/tcp", "/proc/net/tcp6"]).stdout;
    assert!(!listens.contains(" 0A "), "nothing listens any more:\n{listens}");
}

#[test]
fn a_server_that_stays_in_the_foreground_or_says_much_is_started_all_the_same() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    let main = machine.inside("/etc/nginx/nginx.conf");
    let text = fs::read_to_string(&main).unwrap();
    fs::write(&main, format!("daemon off;\n{text}")).unwrap();
    let map = |machine: &Namespace| machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]);
    let ran = map(&machine).succeeds();
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
    [status 0]
    ");
    machine.yandro(&["servers", "stop", "nginx"]).succeeds();
    // A warning for each name that two server blocks have, to standard error: far more than a pipe holds.
    fs::write(&main, text).unwrap();
    let names: String = (0..1500).map(|boat| format!(" boat-with-a-long-name-{boat}.test")).collect();
    let block = format!("server {{ listen 8081; server_name{names}; return 204; }}\n");
    let sizes = "server_names_hash_max_size 65536;\nserver_names_hash_bucket_size 128;\n";
    fs::write(machine.inside("/etc/nginx/conf.d/boats.conf"), format!("{sizes}{block}{block}")).unwrap();
    machine.yandro(&["servers", "start", "nginx"]).succeeds();
    assert_eq!(machine.curl(&["https://saltmarsh.test/"]).succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
}

#[test]
fn a_site_moves_between_servers_on_the_same_ports_while_both_serve() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    fs::remove_file(machine.inside("/etc/nginx/sites-enabled/default")).unwrap();
    let ports = ["--http-port", "8080", "--https-port", "8443"];
    let map = |server: &str| {
        machine.yandro(&[&["map", "depot.test", "./saltmarsh", "--server", server][..], &ports].concat())
    };
    map("nginx").succeeds();
    let pid = |path: &str| machine.run("cat", &[path]).stdout;
    let before = (pid("/run/apache2/apache2.pid"), pid("/run/nginx.pid"));
    for server in ["apache", "nginx", "apache"] {
        let ran = map(server).succeeds();
        assert!(ran.stdout.contains("https://depot.test:8443/ answers from there"), "{server}: {ran}");
        let answer = machine.curl(&["--head", "https://depot.test:8443/"]).succeeds().stdout.to_lowercase();
        assert!(answer.contains(&format!("server: {server}")), "{answer}");
        machine.curl(&["https://saltmarsh.test/"]).succeeds();
    }
    machine.yandro(&["undo"]).succeeds();
    machine.yandro(&["check"]).succeeds();
    assert_eq!((pid("/run/apache2/apache2.pid"), pid("/run/nginx.pid")), before, "neither was started again");
}

#[test]
fn map_reports_a_port_of_another_program_before_the_server_fails() {
    let Some(machine) = Namespace::new(&["python3"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let mut other = machine.command("python3");
    let held = super::kit::Background::start(other.args(["-m", "http.server", "8081", "--bind", "127.0.0.1"]));
    eventually("the port is held", || machine.curl(&["http://127.0.0.1:8081/"]).status == 0);
    let hosts = machine.hosts();
    let ran = machine.yandro(&["map", "depot.test", "./saltmarsh", "--http-port", "8081"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: Apache httpd would have to listen on port 8081, which `python3` (process PID, user root) has; nothing was changed
    fix: stop that program, or choose other ports: --http-port, --https-port
    [status 3]
    ");
    assert_eq!(machine.hosts(), hosts);
    machine.curl(&["https://saltmarsh.test/"]).succeeds();
    drop(held);
}

#[test]
fn a_trusted_root_leaves_no_link_behind_when_it_goes() {
    let Some(machine) = Namespace::new(&["update-ca-certificates"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let links = || machine.run("sh", &["-c", "find /etc/ssl/certs -lname '*yandro*' -o -name 'yandro*'"]).stdout;
    let before = links();
    for back in [&["undo"][..], &["authority", "distrust", "--store", "system"]] {
        machine.yandro(&["authority", "trust", "--store", "system"]).succeeds();
        assert_ne!(links(), before);
        machine.yandro(back).succeeds();
        assert_eq!(links(), before, "{back:?}");
    }
}

#[test]
fn files_of_earlier_builds_go_only_to_the_list_that_has_the_site() {
    let sysroot = two_sites();
    let of_bob =
        |words: &[&str]| Ran::of(sysroot.command(words).env("HOME", "/home/bob").output().unwrap(), sysroot.root());
    let site = "etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf";
    let now = (sysroot.read("etc/hosts"), sysroot.read(site));
    let former = |text: &str, first: &str| {
        let is_head = |line: &str| line.starts_with("# yandro sites of ") || line.contains(": a site of ");
        let lines = text.lines().map(|line| if is_head(line) { first } else { line });
        lines.map(|line| format!("{line}\n")).collect::<String>()
    };
    let hosts = former(&now.0, "# yandro sites: these lines follow the site list, see `yandro sites`");
    let file = former(&now.1, "# depot.saltmarsh.test: kept by `yandro map`; lines that you add here stay");
    assert!(hosts != now.0 && file != now.1);
    sysroot.write("etc/hosts", &hosts);
    sysroot.write(site, &file);
    // Bob has no sites: nothing of this is his, and it is said.
    let before = sysroot.tree();
    let ran = of_bob(&["settle", "--yes"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    0 sites: the machine is as the site list says; nothing was changed

    ! depot.saltmarsh.test was written by an earlier yandro that didn't say for which site list, and it isn't in yours: it stays. If it is yours, map it again; otherwise the user whose site it is runs yandro settle
    ! saltmarsh.test was written by an earlier yandro that didn't say for which site list, and it isn't in yours: it stays. If it is yours, map it again; otherwise the user whose site it is runs yandro settle
    [status 0]
    ");
    let kept = |tree: String| tree.lines().filter(|line| !line.contains("home/bob")).collect::<Vec<_>>().join("\n");
    assert_eq!(kept(sysroot.tree()), before);
    // Ada has the sites: they are hers now, to the byte as this build writes them.
    sysroot.yandro(&["settle"]).succeeds();
    assert_eq!((sysroot.read("etc/hosts"), sysroot.read(site)), now);
    let ran = of_bob(&["map", "depot.saltmarsh.test", "./depot"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: `depot.saltmarsh.test` belongs to the site list of user `root` (/home/ada/.config/yandro/sites.toml): $ROOT/etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf
    fix: choose another name, or have user `root` take the site away: yandro unmap
    [status 3]
    ");
    assert!(ran.status >= 2);
    let ran = of_bob(&["settle", "--yes"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    0 sites: the machine is as the site list says; nothing was changed
    [status 0]
    ");
}
