//! `map`, `unmap` and `sites` on the files of a sysroot.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use super::kit::{HOSTS, Sysroot, steady, without_user};

#[test]
fn a_map_writes_everything_and_an_unmap_takes_it_away() {
    let sysroot = Sysroot::with_apache();
    let before = sysroot.tree();
    insta::assert_snapshot!(sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot", "--document-root", "public", "--alias", "handbook.saltmarsh.test"]), @"
    depot.saltmarsh.test -> $ROOT/depot/public
      authority      made, until $DATE
      certificate    made for depot.saltmarsh.test, handbook.saltmarsh.test, until $DATE
      virtual host   made /etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf
      enabled        linked /etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file     changed /etc/hosts
      site list      made /home/ada/.config/yandro/sites.toml
      modules        enabled socache_shmcb, ssl, rewrite
      server         Apache httpd: not tested and not reloaded, since this is a sysroot
      proof          not proven: within a sysroot no server is asked

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    insta::assert_snapshot!(without_user(&sysroot.read("etc/hosts")), @"
    127.0.0.1	localhost
    ::1 localhost ip6-localhost
    # yandro sites of $USER, in /home/ada/.config/yandro/sites.toml: change them with yandro
    127.0.0.1	depot.saltmarsh.test handbook.saltmarsh.test
    ::1	depot.saltmarsh.test handbook.saltmarsh.test
    # end of yandro sites
    ");
    insta::assert_snapshot!(sysroot.read("home/ada/.config/yandro/sites.toml").replace(sysroot.root().to_str().unwrap(), "$ROOT"), @r#"
    # Sites that yandro keeps. Edit this file as you like.

    [[site]]
    name = "depot.saltmarsh.test"
    aliases = ["handbook.saltmarsh.test"]
    folder = "$ROOT/depot"
    document-root = "public"
    server = "apache"
    only-here = true
    "#);
    let file = sysroot.read("etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf");
    // As the server within the sysroot sees it.
    assert!(file.contains("DocumentRoot \"/depot/public\"\n"), "{file}");
    assert!(
        file.contains(
            "SSLCertificateFile \"/home/ada/.local/share/yandro/certificates/depot.saltmarsh.test/fullchain.pem\"\n"
        ),
        "{file}"
    );
    let link = sysroot.path("etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf");
    assert_eq!(fs::read_to_string(link).unwrap(), file);
    for module in ["ssl.load", "ssl.conf", "socache_shmcb.load", "rewrite.load"] {
        let link = fs::read_link(sysroot.path(&format!("etc/apache2/mods-enabled/{module}"))).unwrap();
        assert_eq!(link.to_str(), Some(format!("../mods-available/{module}").as_str()));
    }
    // The width of a column depends on the length of the temporary folder's path.
    let mut sites = sysroot.yandro(&["sites"]).to_string();
    while sites.contains("   ") {
        sites = sites.replace("   ", "  ");
    }
    insta::assert_snapshot!(sites, @"
    SITE  SERVER  ROOT OR UPSTREAM  STATUS
    https://depot.saltmarsh.test/  apache  $ROOT/depot/public  mapped
      https://handbook.saltmarsh.test/

    1 site; prove that they answer: yandro check
    [status 0]
    ");

    let again = sysroot.tree();
    let ran = sysroot.yandro(&["map", "depot.saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    depot.saltmarsh.test -> $ROOT/depot/public (nothing had to be changed)
      proof  not proven: within a sysroot no server is asked
    [status 0]
    ");
    assert_eq!(sysroot.tree(), again);

    insta::assert_snapshot!(sysroot.yandro(&["unmap", "depot.saltmarsh.test"]), @"
    depot.saltmarsh.test is taken away; $ROOT/depot/public stays as it is
      hosts file     changed /etc/hosts
      enabled        unlinked /etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf
      virtual host   removed /etc/apache2/sites-available/yandro-depot.saltmarsh.test.conf
      unknown names  removed /etc/apache2/sites-available/yandro-0.invalid.conf
      site list      removed /home/ada/.config/yandro/sites.toml
      certificate    removed
      modules        disabled rewrite, ssl, socache_shmcb
      server         Apache httpd: not tested and not reloaded, since this is a sysroot
    [status 0]
    ");
    // The rest: the authority, the modules, the (now empty) site list.
    let own = |line: &&str| !line.starts_with("home") && !line.starts_with("etc/apache2/mods-enabled");
    assert_eq!(sysroot.tree().lines().filter(own).collect::<Vec<_>>(), before.lines().filter(own).collect::<Vec<_>>());
}

#[test]
fn only_owners_can_read_keys_and_the_root_key_is_not_stored() {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let data = sysroot.path("home/ada/.local/share/yandro");
    let mode = |below: &str| fs::metadata(data.join(below)).unwrap().permissions().mode() & 0o7777;
    for folder in ["", "authority", "certificates", "certificates/saltmarsh.test", "history"] {
        assert_eq!(mode(folder), 0o700, "{folder}");
    }
    for key in ["authority/issuing.key", "certificates/saltmarsh.test/key.pem", "history/000001.done"] {
        assert_eq!(mode(key), 0o600, "{key}");
    }
    let keys = sysroot.tree().matches("BEGIN PRIVATE KEY").count();
    assert_eq!(keys, 3, "the issuing key, the site's, and that of names that are no sites");
    assert!(!fs::read_to_string(data.join("history/000001.done")).unwrap().contains("PRIVATE KEY"));
}

#[test]
fn a_preview_shows_all_and_changes_nothing() {
    let sysroot = Sysroot::with_apache();
    let before = sysroot.tree();
    let ran = sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--preview"]).succeeds();
    for words in [
        "+127.0.0.1\tsaltmarsh.test\n",
        "(a key: not shown)",
        "+\tServerName saltmarsh.test",
        "mods-enabled/ssl.load",
        "+[[site]]",
    ] {
        assert!(ran.stdout.contains(words), "{words}: {ran}");
    }
    assert!(!ran.stdout.contains("PRIVATE KEY"));
    assert_eq!(sysroot.tree(), before);
    assert!(!sysroot.path("home/ada/.local").exists(), "not even the lock");
}

#[test]
fn a_persons_own_lines_and_comments_stay() {
    let sysroot = Sysroot::with_apache();
    let list = "home/ada/.config/yandro/sites.toml";
    sysroot.write("etc/hosts", "# ours\r\n127.0.0.1 localhost\r\n127.0.0.1\tsaltmarsh.test # by hand");
    let hosts = sysroot.read("etc/hosts");
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), hosts, "it says so already");
    let written = sysroot.read(list).replace("[[site]]\n", "[[site]]  # the timetable\n");
    sysroot.write(list, &written);
    let file = "etc/apache2/sites-available/yandro-saltmarsh.test.conf";
    let by_hand = sysroot.read(file).replace("\tSSLEngine on\n", "\tHeader set X-Tide high\n\tSSLEngine on\n");
    sysroot.write(file, &by_hand);

    sysroot
        .yandro(&["map", "saltmarsh.test", "./depot", "--document-root", "public", "--alias", "www.saltmarsh.test"])
        .succeeds();
    assert!(sysroot.read(list).contains("[[site]]  # the timetable\n"));
    assert!(sysroot.read(file).contains("\tHeader set X-Tide high\n\tSSLEngine on\n"));
    assert!(sysroot.read(file).contains("DocumentRoot \"/depot/public\""));
    assert!(sysroot.read("etc/hosts").starts_with(&hosts));

    sysroot.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), hosts);
}

#[test]
fn a_hosts_file_that_is_a_link_stays_one() {
    let sysroot = Sysroot::with_apache();
    fs::remove_file(sysroot.path("etc/hosts")).unwrap();
    sysroot.write("etc/hosts.real", HOSTS);
    fs::set_permissions(sysroot.path("etc/hosts.real"), fs::Permissions::from_mode(0o640)).unwrap();
    std::os::unix::fs::symlink("hosts.real", sysroot.path("etc/hosts")).unwrap();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    assert_eq!(fs::read_link(sysroot.path("etc/hosts")).unwrap().to_str(), Some("hosts.real"));
    assert!(sysroot.read("etc/hosts.real").contains("saltmarsh.test"));
    assert_eq!(fs::metadata(sysroot.path("etc/hosts.real")).unwrap().permissions().mode() & 0o777, 0o640);
}

#[test]
fn programs_get_json() {
    let sysroot = Sysroot::with_apache();
    let json =
        |arguments: &[&str]| -> serde_json::Value { serde_json::from_str(&sysroot.yandro(arguments).stdout).unwrap() };
    let mapped = json(&["--json", "map", "saltmarsh.test", "./saltmarsh"]);
    assert_eq!((mapped["site"].as_str(), mapped["proven"].as_bool()), (Some("saltmarsh.test"), Some(false)));
    let sites = json(&["--json", "sites"]);
    assert_eq!(sites["sites"][0]["name"], "saltmarsh.test");
    assert_eq!(sites["sites"][0]["missing"].as_array().map(Vec::len), Some(0));
    sysroot.write("etc/hosts", HOSTS);
    let check = json(&["--json", "check"]);
    let finding = &check["sites"][0]["findings"][0];
    assert_eq!(
        (finding["code"].as_str(), finding["remedy"].as_str()),
        (Some("hosts-missing"), Some("yandro map saltmarsh.test"))
    );
    assert_eq!(check["sites"][0]["names"][0]["steps"].as_array().map(Vec::len), Some(19));
}
