//! The real browser: it shows the page when it trusts the authority, and refuses it when not.

use std::fs;

use super::kit::{Ran, Sysroot, eventually, has, steady};
use super::namespace::Namespace;

const PAGE: &str = "Saltmarsh Ferries";

fn browse(machine: &Namespace, profile: &str) -> Ran {
    let profile = format!("--user-data-dir={}", machine.path(profile).display());
    let flags =
        ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-dev-shm-usage"];
    let quiet = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--dump-dom"];
    let ran = machine.run("chromium", &[&flags[..], &quiet, &[&profile, "https://saltmarsh.test/"]].concat());
    eventually("it has ended", || machine.run("pgrep", &["chromium"]).status != 0);
    ran
}

#[test]
fn a_browser_that_trusts_the_root_shows_the_page_and_one_that_does_not_refuses() {
    let Some(machine) = Namespace::new(&["chromium", "certutil"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let refused = |profile: &str| {
        let ran = browse(&machine, profile);
        assert!(!ran.stdout.contains(PAGE) && ran.stderr.contains("ERR_CERT_AUTHORITY_INVALID"), "{ran}");
    };
    refused("without");
    let shown = machine.yandro(&["authority", "show"]).succeeds().stdout;
    assert!(shown.contains("Chromium") && shown.contains("doesn't know it"), "{shown}");
    // It has no store yet: one is made.
    let ran = machine.yandro(&["authority", "trust", "--store", "browsers"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    Yandro root for USER, DATE is trusted by your browsers now
      trust  yandro-HEX goes into the store of Chromium: $ROOT/home/.local/share/pki/nssdb
    note: programs that were started before go by their old list until they are started again
    [status 0]
    ");
    let page = browse(&machine, "with");
    assert!(page.stdout.contains(PAGE), "{page}");
    machine.yandro(&["undo"]).succeeds();
    refused("undone");
    machine.yandro(&["authority", "trust", "--store", "browsers"]).succeeds();
    assert!(browse(&machine, "again").stdout.contains(PAGE));
    let ran = machine.yandro(&["authority", "distrust", "--store", "browsers"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    Yandro root for USER, DATE is trusted by your browsers no more
      trust  yandro-HEX goes out of the store of Chromium: $ROOT/home/.local/share/pki/nssdb
    note: programs that were started before go by their old list until they are started again
    [status 0]
    ");
    refused("distrusted");
}

#[test]
fn every_profile_is_kept_and_what_else_is_in_it_stays() {
    if !has(&["certutil", "openssl"], false) {
        return;
    }
    let sysroot = Sysroot::new();
    let home = |below: &str| sysroot.path("home/ada").join(below);
    let profiles =
        [".mozilla/firefox/a1.default", ".mozilla/firefox/b2.work", "snap/firefox/common/.mozilla/firefox/c3"];
    let certutil = |profile: &str, arguments: &[&str]| {
        let mut command = std::process::Command::new("certutil");
        command.arg("-d").arg(format!("sql:{}", home(profile).display())).args(arguments);
        Ran::of(command.output().unwrap(), sysroot.root())
    };
    for profile in profiles {
        fs::create_dir_all(home(profile)).unwrap();
        certutil(profile, &["-N", "--empty-password"]).succeeds();
    }
    // The person's own root, and one of an authority that is no more.
    let own = sysroot.path("own.pem");
    let make = format!(
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout /dev/null -subj /CN=own -days 9 -out {}",
        own.display()
    );
    assert!(
        std::process::Command::new("openssl")
            .args(make.split(' '))
            .stderr(std::process::Stdio::null())
            .status()
            .unwrap()
            .success()
    );
    let add =
        |name: &str| certutil(profiles[0], &["-A", "-n", name, "-t", "C,,", "-i", own.to_str().unwrap()]).succeeds();
    add("mine");
    let before = certutil(profiles[0], &["-L"]).stdout;
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let names = |profile: &str| {
        let listed = certutil(profile, &["-L"]).succeeds().stdout;
        let lines = listed
            .lines()
            .map(str::trim_end)
            .filter(|line| line.ends_with("C,,"))
            .map(|line| line.split_whitespace().next().unwrap().to_owned());
        lines.collect::<Vec<_>>()
    };
    let preview = sysroot.yandro(&["authority", "trust", "--preview"]).succeeds();
    assert_eq!(preview.stdout.matches("goes into the store of Firefox").count(), 3, "{preview}");
    assert_eq!(certutil(profiles[0], &["-L"]).stdout, before);
    sysroot.yandro(&["authority", "trust"]).succeeds();
    for profile in profiles {
        assert!(names(profile).iter().any(|name| name.starts_with("yandro-")), "{profile}");
    }
    assert!(names(profiles[0]).contains(&"mine".to_owned()));
    let again = sysroot.yandro(&["authority", "trust"]).succeeds();
    insta::assert_snapshot!(steady(&again), @"
    Yandro root for USER, DATE is trusted by your browsers already
    [status 0]
    ");
    // A root that the user removed by hand is reported, and an orphan goes with the next change.
    let nickname = names(profiles[1]).pop().unwrap();
    certutil(profiles[1], &["-D", "-n", &nickname]).succeeds();
    certutil(profiles[2], &["-A", "-n", "yandro-00112233445566aa", "-t", "C,,", "-i", own.to_str().unwrap()])
        .succeeds();
    let shown = sysroot.yandro(&["authority", "show"]).succeeds();
    insta::assert_snapshot!(steady(&shown), @"
    Yandro root for USER, DATE
      root certificate  $ROOT/home/ada/.local/share/yandro/authority/root.pem
      sha-256  FINGERPRINT
      valid  until $DATE, N days
      can issue for  `.test`, `.localhost`, `.internal`, `.home.arpa`, `.example`, `.invalid` or `.local`
                        127.0.0.0/8 or ::1/128
      root key  none: it was never written
      issuing key  $ROOT/home/ada/.local/share/yandro/authority/issuing.key (not encrypted, readable only by you)

    TRUST STORE  STATUS  WHERE
    Firefox (a1.default)  trusts it  $ROOT/home/ada/.mozilla/firefox/a1.default
    Firefox (b2.work)  doesn't know it  $ROOT/home/ada/.mozilla/firefox/b2.work
    Firefox (snap) (c3)  trusts it  $ROOT/home/ada/snap/firefox/common/.mozilla/firefox/c3
    ! Firefox (snap) (c3) still has the root of an earlier authority: yandro-HEX
        fix: yandro authority trust

    Have all of them trust it: yandro authority trust. Whatever trusts it trusts every site that you map.
    note: no runtime was asked whether it trusts the authority (within a sysroot none is)
    [status 0]
    ");
    sysroot.yandro(&["authority", "trust"]).succeeds();
    assert_eq!(names(profiles[2]), std::slice::from_ref(&nickname));
    sysroot.yandro(&["undo"]).succeeds();
    assert!(names(profiles[2]).contains(&"yandro-00112233445566aa".to_owned()), "what was taken out comes back");
    sysroot.yandro(&["authority", "distrust"]).succeeds();
    assert_eq!((names(profiles[0]), names(profiles[1])), (vec!["mine".to_owned()], Vec::new()));
    assert_eq!(certutil(profiles[0], &["-L"]).stdout, before);
    // A root that is in a store without trust doesn't matter, before and after an undo.
    certutil(profiles[1], &["-A", "-n", "yandro-00112233445566aa", "-t", ",,", "-i", own.to_str().unwrap()]).succeeds();
    sysroot.yandro(&["authority", "trust"]).succeeds();
    sysroot.yandro(&["authority", "distrust"]).succeeds();
    sysroot.yandro(&["undo"]).succeeds();
    sysroot.yandro(&["authority", "distrust"]).succeeds();
    assert!(certutil(profiles[1], &["-L"]).stdout.contains("yandro-00112233445566aa"));
    // A database behind a primary password is left as it is, and so is everything else.
    fs::write(sysroot.path("password"), "tide\n").unwrap();
    let password = sysroot.path("password").display().to_string();
    fs::create_dir_all(home(".mozilla/firefox/d4")).unwrap();
    certutil(".mozilla/firefox/d4", &["-N", "-f", &password]).succeeds();
    let ran = sysroot.yandro(&["authority", "trust"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: $ROOT/home/ada/.mozilla/firefox/d4: a password guards this store: take it away for the moment, or import the root certificate by hand
    everything was rolled back
    [status 3]
    ");
    assert_eq!(certutil(profiles[0], &["-L"]).stdout, before);
}
