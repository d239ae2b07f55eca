//! The real browser: it shows the page when it trusts the authority, and refuses it when not.

use super::namespace::Namespace;

const PAGE: &str = "Saltmarsh Ferries";

#[test]
fn a_browser_that_trusts_the_root_shows_the_page_and_one_that_does_not_refuses() {
    let Some(machine) = Namespace::new(&["chromium", "certutil"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let browse = |profile: &str| {
        let profile = format!("--user-data-dir={}", machine.path(profile).display());
        let flags = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-dev-shm-usage",
        ];
        let quiet = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--dump-dom"];
        machine.run("chromium", &[&flags[..], &quiet, &[&profile, "https://saltmarsh.test/"]].concat())
    };
    let refused = browse("without");
    assert!(!refused.stdout.contains(PAGE) && refused.stderr.contains("ERR_CERT_AUTHORITY_INVALID"), "{refused}");

    std::fs::create_dir_all(machine.path("home/.pki/nssdb")).unwrap();
    let store = format!("sql:{}", machine.path("home/.pki/nssdb").display());
    machine.run("certutil", &["-d", &store, "-N", "--empty-password"]).succeeds();
    let root = machine.root_certificate();
    machine
        .run("certutil", &["-d", &store, "-A", "-n", "ferries", "-t", "C,,", "-i", root.to_str().unwrap()])
        .succeeds();
    let shown = browse("with");
    assert!(shown.stdout.contains(PAGE), "{shown}");
}
