//! History, undo, originals, settle; others at work at the same time.

use std::fs;
use std::io::{Read as _, Write as _};
use std::process::{Command, Stdio};

use super::harbour::{Harbour, Server};
use super::kit::{HOSTS, Sysroot, has, steady};

const LIST: &str = "home/ada/.config/yandro/sites.toml";
const SITE: &str = "etc/apache2/sites-available/yandro-saltmarsh.test.conf";

/// The tree without what is random (certificates and keys) or yandro's own bookkeeping.
fn state(sysroot: &Sysroot) -> String {
    let is_own = |line: &&str| !line.contains(".local") && !line.starts_with("home/") || line.contains("sites.toml");
    sysroot.tree().lines().filter(is_own).collect::<Vec<_>>().join("\n")
}

fn append(sysroot: &Sysroot, path: &str, text: &str) {
    fs::OpenOptions::new().append(true).open(sysroot.path(path)).unwrap().write_all(text.as_bytes()).unwrap();
}

#[test]
fn each_change_is_taken_back_to_the_byte() {
    let sysroot = Sysroot::with_apache();
    let commands: &[&[&str]] = &[
        &["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"],
        &["map", "depot.saltmarsh.test", "./depot"],
        &["map", "saltmarsh.test", "./depot", "--document-root", "public", "--no-alias"],
        &["map", "saltmarsh.test", "http://127.0.0.1:3000"],
        &["unmap", "depot.saltmarsh.test"],
    ];
    let mut states = vec![state(&sysroot)];
    for command in commands {
        sysroot.yandro(command).succeeds();
        states.push(state(&sysroot));
    }
    let shown = sysroot.yandro(&["undo", "--preview"]).succeeds().stdout;
    assert!(shown.contains("+127.0.0.1\tdepot.saltmarsh.test"), "{shown}");
    assert_eq!(state(&sysroot), states[5], "a preview changes nothing");
    for before in states.iter().rev().skip(1) {
        sysroot.yandro(&["undo"]).succeeds();
        assert_eq!(&state(&sysroot), before);
    }
    assert!(!sysroot.path("home/ada/.local/share/yandro/authority").exists(), "the authority came with the first");
    assert_eq!(sysroot.yandro(&["undo"]).status, 2);
    // An undo can be undone, too: keys are new, everything else is as it was.
    sysroot.yandro(&["undo", "10"]).succeeds();
    assert_eq!(
        state(&sysroot).replace("etc/apache2/mods-enabled", ""),
        states[1].replace("etc/apache2/mods-enabled", "")
    );
    let ran = sysroot.yandro(&["settle"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    1 site: the machine is as the site list says; nothing was changed
    [status 0]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["undo", "99"]), @"
    error: change 99 doesn't exist
    fix: see which there are: yandro history
    [status 2]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["undo", "1"]), @"
    change 1 is undone: `yandro --sysroot $ROOT map saltmarsh.test ./saltmarsh --alias www.saltmarsh.test`
      unknown names  removed /etc/apache2/sites-available/yandro-0.invalid.conf
      site list      removed /home/ada/.config/yandro/sites.toml
      hosts file     changed /etc/hosts
      enabled        unlinked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      virtual host   removed /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      authority      removed /home/ada/.local/share/yandro/authority/root.pem
      certificate    removed
      modules        disabled rewrite, ssl, socache_shmcb
      server         Apache httpd: not tested and not reloaded, since this is a sysroot
    [status 0]
    ");
}

#[test]
fn an_undo_keeps_what_was_edited_since() {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot"]).succeeds();
    append(&sysroot, "etc/hosts", "10.0.0.9 crew.test\n");
    append(&sysroot, LIST, "# by hand\n");
    // The first of two: the second, and the edits, stay.
    sysroot.yandro(&["undo", "1"]).succeeds();
    let hosts = sysroot.read("etc/hosts");
    assert!(hosts.contains("depot.saltmarsh.test") && hosts.ends_with("10.0.0.9 crew.test\n"), "{hosts}");
    assert!(!hosts.contains("\tsaltmarsh.test"), "{hosts}");
    assert!(sysroot.read(LIST).ends_with("# by hand\n") && !sysroot.path(SITE).exists());
    assert!(sysroot.path("etc/apache2/mods-enabled/ssl.load").exists(), "the other site needs it");
    sysroot.yandro(&["undo"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), format!("{HOSTS}10.0.0.9 crew.test\n"));
}

#[test]
fn an_undo_that_would_lose_an_edit_stops_and_shows_it() {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    append(&sysroot, SITE, "# tide tables by hand\n");
    let before = sysroot.tree();
    let ran = sysroot.yandro(&["undo"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @r#"
    error: change 1 can't be undone: $ROOT/etc/apache2/sites-available/yandro-saltmarsh.test.conf was edited since, and that would be lost:
    --- $ROOT/etc/apache2/sites-available/yandro-saltmarsh.test.conf
    +++ $ROOT/etc/apache2/sites-available/yandro-saltmarsh.test.conf
    @@ -28,3 +28,4 @@
     	ErrorLog ${APACHE_LOG_DIR}/saltmarsh.test-error.log
     	CustomLog ${APACHE_LOG_DIR}/saltmarsh.test-access.log "%h %l %u %t \"%r\" %>s %b \"%{Referer}i\" \"%{User-Agent}i\""
     </VirtualHost>
    +# tide tables by hand

    fix: move those lines to another file, then run the command again
    [status 3]
    "#);
    assert_eq!(sysroot.tree(), before);

    sysroot.yandro(&["map", "saltmarsh.test", "./depot"]).succeeds();
    let ran = sysroot.yandro(&["undo", "1"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: change 1 can't be undone: the site `saltmarsh.test` was changed again since
    fix: undo the later change first: yandro undo 2
    [status 3]
    ");
    // Only the command's own value goes back: the hand-written line is still there.
    sysroot.yandro(&["undo"]).succeeds();
    let text = sysroot.read(SITE);
    assert!(text.contains("DocumentRoot \"/saltmarsh\"") && text.ends_with("# tide tables by hand\n"), "{text}");
}

#[test]
fn the_very_first_files_are_kept_for_good() {
    let sysroot = Sysroot::with_apache();
    let settings = "[history]\nnumber = 2\n";
    sysroot.write("home/ada/.config/yandro/settings.toml", settings);
    for name in ["saltmarsh.test", "depot.test", "crew.test", "tides.test"] {
        sysroot.yandro(&["map", name, "./saltmarsh"]).succeeds();
    }
    let history: serde_json::Value = serde_json::from_str(&sysroot.yandro(&["--json", "history"]).stdout).unwrap();
    assert_eq!(history["changes"].as_array().unwrap().len(), 2, "older ones are pruned");
    insta::assert_snapshot!(sysroot.yandro(&["history", "originals"]), @"
    $ROOT/etc/hosts

    Bring one back as it was: yandro history restore FILE (with --preview first)
    [status 0]
    ");
    sysroot.yandro(&["hosts", "restore"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), HOSTS);
    let ran = sysroot.yandro(&["settle"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    4 sites: the machine is now as the site list says
      hosts file  changed /etc/hosts

    prove it: yandro check
    [status 0]
    ");
    sysroot.yandro(&["undo"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), HOSTS);
}

#[test]
fn settle_brings_everything_back_and_tells_what_was_edited_by_hand() {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot"]).succeeds();
    let whole = state(&sysroot);
    sysroot.write("etc/hosts", HOSTS);
    fs::remove_file(sysroot.path("etc/apache2/sites-enabled/yandro-saltmarsh.test.conf")).unwrap();
    fs::remove_file(sysroot.path("etc/apache2/mods-enabled/ssl.load")).unwrap();
    fs::remove_dir_all(sysroot.path("home/ada/.local/share/yandro/certificates/depot.saltmarsh.test")).unwrap();
    let broken = sysroot.tree();
    sysroot.yandro(&["settle", "--preview"]).succeeds();
    assert_eq!(sysroot.tree(), broken);
    sysroot.yandro(&["settle"]).succeeds();
    assert_eq!(state(&sysroot), whole);

    // A hand edit stays and is reported; a site that is gone from the list is removed.
    let edited =
        sysroot.read(SITE).replace("Options Indexes FollowSymLinks", "Options None").replace("RewriteEngine on\n", "");
    sysroot.write(SITE, &edited);
    sysroot.write(LIST, sysroot.read(LIST).split("\n[[site]]\nname = \"depot").next().unwrap());
    let cut = sysroot.tree();
    insta::assert_snapshot!(sysroot.yandro(&["settle"]), @"
    error: this name is on this machine and no longer in $ROOT/home/ada/.config/yandro/sites.toml: depot.saltmarsh.test; what yandro wrote for it would be removed
    fix: if that is what you want, add `--yes`; if the list was cut short by accident, restore it first
    [status 2]
    ");
    assert_eq!(sysroot.tree(), cut);
    insta::assert_snapshot!(sysroot.yandro(&["settle", "--yes"]), @"
    1 site: the machine is now as the site list says
      hosts file    changed /etc/hosts
      enabled       unlinked /etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf
      virtual host  removed /etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf
      certificate   removed
      server        Apache httpd: not tested and not reloaded, since this is a sysroot

    ! depot.saltmarsh.test was written by yandro and belongs to no site of the list: it is taken away
    ! saltmarsh.test: a line was taken out by hand of the section at line 2, and stays out
        yandro would write: RewriteEngine on
    ! saltmarsh.test: line 13 was edited by hand and stays: `Options None`
        yandro would write: Options Indexes FollowSymLinks

    to overwrite your edits of saltmarsh.test: yandro settle --put-back saltmarsh.test

    prove it: yandro check
    [status 0]
    ");
    // Whatever else is mapped or changed: the edits stay.
    sysroot.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]).succeeds();
    sysroot.yandro(&["map", "saltmarsh.test", "--no-alias"]).succeeds();
    assert_eq!(sysroot.read(SITE), edited);
    assert!(!sysroot.tree().contains("depot.saltmarsh.test"));
    // Put back on demand, but for what was added; the edits can be had again.
    sysroot.write(SITE, &edited.replace("DocumentRoot", "Protocols h2 http/1.1\n\tDocumentRoot"));
    let added = sysroot.read(SITE);
    let ran = sysroot.yandro(&["settle", "--put-back", "saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    1 site: the machine is now as the site list says
      virtual host  changed /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      server  Apache httpd: not tested and not reloaded, since this is a sysroot

    prove it: yandro check
    [status 0]
    ");
    let back = sysroot.read(SITE);
    assert!(
        back.contains("Options Indexes FollowSymLinks")
            && back.contains("RewriteEngine on")
            && back.contains("Protocols h2")
    );
    sysroot.yandro(&["undo"]).succeeds();
    assert_eq!(sysroot.read(SITE), added);
    sysroot.write(SITE, &edited);
    assert_eq!(sysroot.yandro(&["settle", "--put-back", "tides.test"]).status, 2);
    let again = sysroot.tree();
    assert!(sysroot.yandro(&["settle"]).succeeds().stdout.contains("nothing was changed"));
    assert_eq!(sysroot.tree(), again);
}

#[test]
fn sixteen_at_once_are_all_there_afterwards() {
    let sysroot = Sysroot::with_apache();
    let names: Vec<String> = (1..=16).map(|boat| format!("boat{boat}.saltmarsh.test")).collect();
    let running: Vec<_> =
        names.iter().map(|name| sysroot.command(&["-q", "map", name, "./saltmarsh"]).spawn().unwrap()).collect();
    for mut child in running {
        assert!(child.wait().unwrap().success());
    }
    let (hosts, list) = (sysroot.read("etc/hosts"), sysroot.read(LIST));
    for name in &names {
        assert_eq!(hosts.matches(&format!("\t{name}\n")).count(), 2, "one line for each family: {hosts}");
        assert_eq!(hosts.matches(&format!("127.0.0.1\t{name}\n")).count(), 1, "{hosts}");
        assert_eq!(list.matches(&format!("\"{name}\"")).count(), 1, "{list}");
        assert!(sysroot.path(&format!("etc/apache2/sites-enabled/yandro-{name}.conf")).exists());
    }
    assert!(sysroot.yandro(&["settle"]).succeeds().stdout.contains("nothing was changed"));
}

#[test]
fn a_concurrent_edit_makes_the_change_plan_again() {
    if !has(&["strace"], false) {
        return;
    }
    let sysroot = Sysroot::with_apache();
    // Slowed down by strace between observing and writing, while someone edits the hosts file.
    let mut strace = Command::new("strace");
    strace.args(["-f", "-o", "/dev/null", "-e", "inject=flock:delay_exit=1", "-e", "inject=mkdir:delay_enter=400000"]);
    let inner = sysroot.command(&["map", "saltmarsh.test", "./saltmarsh"]);
    strace
        .arg(inner.get_program())
        .args(inner.get_args())
        .env_clear()
        .env("HOME", "/home/ada")
        .current_dir(sysroot.root());
    let mut child = strace.stdout(std::process::Stdio::null()).spawn().unwrap();
    for crew in 0..20 {
        append(&sysroot, "etc/hosts", &format!("10.0.0.{crew} crew{crew}.test\n"));
        std::thread::sleep(std::time::Duration::from_millis(60));
    }
    let status = child.wait().unwrap();
    let hosts = sysroot.read("etc/hosts");
    for crew in 0..20 {
        assert!(hosts.contains(&format!("crew{crew}.test\n")), "{hosts}");
    }
    assert_eq!(hosts.contains("saltmarsh.test"), status.success(), "{status} {hosts}");
}

#[test]
fn a_second_command_fails_at_once_when_it_shall_not_wait() {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let lock = fs::File::open(sysroot.path("home/ada/.local/share/yandro/lock")).unwrap();
    lock.lock().unwrap();
    let ran = sysroot.yandro(&["--no-wait", "unmap", "saltmarsh.test"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: another yandro is changing this machine (its lock is $ROOT/home/ada/.local/share/yandro/lock)
    fix: wait until it has ended, and try again
    [status 3]
    ");
}

#[test]
fn a_fake_machine_lock_neither_hangs_nor_locks() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada", "bob"]) else { return };
    let run = |line: &str| harbour.machine.run("sh", &["-c", line]).succeeds();
    run("chmod 1777 /run/lock; echo secret > /run/precious");
    let as_ada = "setpriv --reuid ada --regid ada --clear-groups";
    let map = ["map", "tides.test", "./saltmarsh"];
    for made in ["mkfifo /run/lock/yandro", "ln -s /run/precious /run/lock/yandro", "mkdir /run/lock/yandro"] {
        run(&format!("{as_ada} {made}"));
        for user in [None, Some("bob")] {
            let ran = harbour.yandro_as(user, &[&["--no-wait"][..], &map].concat()).succeeds();
            let told = "other users' yandro can change this machine at the same time, because its lock can't be used: /run/lock/yandro: ";
            assert!(ran.stderr.contains(told), "{made} {user:?}: {ran}");
            harbour.yandro_as(user, &["unmap", "tides.test"]).succeeds();
        }
        run("rm -r /run/lock/yandro; [ \"$(stat -c %U:%a /run/precious)\" = root:644 ]");
    }
    // A file of another user's is a lock, and root's from the moment on when root takes it.
    run(&format!("{as_ada} touch /run/lock/yandro"));
    let hold = format!("exec {as_ada} flock /run/lock/yandro sh -c 'echo held; exec sleep 1000'");
    let mut held = harbour.machine.command("sh").args(["-c", &hold]).stdout(Stdio::piped()).spawn().unwrap();
    let mut word = [0; 5];
    held.stdout.take().unwrap().read_exact(&mut word).unwrap();
    for user in [None, Some("bob")] {
        let ran = harbour.yandro_as(user, &[&["--no-wait"][..], &map].concat());
        assert!(ran.status == 3 && ran.stderr.contains("its lock is /run/lock/yandro"), "{user:?}: {ran}");
    }
    run("[ \"$(stat -c %U:%a /run/lock/yandro)\" = root:644 ]");
    run("pkill -x sleep -u ada");
    held.wait().unwrap();
    // The helper makes the lock where the user may not.
    run("rm /run/lock/yandro; chmod 755 /run/lock");
    let ran = harbour.yandro_as(Some("bob"), &map).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    tides.test -> $ROOT/saltmarsh
      certificate  made for tides.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-tides.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-tides.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/bob/.config/yandro/sites.toml
      modules  enabled socache_shmcb, ssl, rewrite
      server  Apache httpd: configuration tested, reloaded
      proof  https://tides.test/ answers from there, over HTTPS
    note: other users' yandro can change this machine at the same time, because its lock can't be used: /run/lock/yandro: permission denied
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/hosts
      write 4 files in /etc/apache2/mods-enabled
      write 2 files in /etc/apache2/sites-available
      write 2 files in /etc/apache2/sites-enabled
      test, reload, start or stop the web server
    [status 0]
    ");
    let ran = harbour.yandro_as(Some("bob"), &["unmap", "tides.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    tides.test is taken away; $ROOT/saltmarsh stays as it is
      hosts file  changed /etc/hosts
      enabled  unlinked /etc/apache2/sites-enabled/yandro-tides.test.conf
      virtual host  removed /etc/apache2/sites-available/yandro-tides.test.conf
      unknown names  removed /etc/apache2/sites-available/yandro-0.invalid.conf
      site list  removed $ROOT/bob/.config/yandro/sites.toml
      certificate  removed
      modules  disabled rewrite, ssl, socache_shmcb
      server  Apache httpd: configuration tested, reloaded
    note: these steps need root. yandro asks sudo for them, and for nothing else:
      write /etc/hosts
      write 4 files in /etc/apache2/mods-enabled
      write 2 files in /etc/apache2/sites-available
      write 2 files in /etc/apache2/sites-enabled
      test, reload, start or stop the web server
    [status 0]
    ");
}
