//! The built-in server, and the trust of the system's own clients.

use super::machine::{BY_HAND, HOSTS, Machine, read};

#[test]
fn a_site_is_mapped_proven_trusted_and_taken_away() {
    let Some(machine) = Machine::take() else { return };
    let ran = machine.yandro(&["map", "saltmarsh.test", "saltmarsh", "--server", "built-in"]).succeeds();
    assert!(ran.stdout.contains(r"saltmarsh.test -> C:\sites\saltmarsh\public"), "{ran}");
    let mapped = read(HOSTS);
    let block = mapped.strip_prefix(BY_HAND).expect("the lines by hand are as they were");
    assert_eq!(block.matches("\r\n").count(), block.matches('\n').count(), "{block:?}");
    assert!(block.contains("127.0.0.1\tsaltmarsh.test\r\n::1\tsaltmarsh.test\r\n"), "{block}");
    let list = read(machine.own_folders()[0].join("sites.toml"));
    assert!(list.contains("folder = \"C:/sites/saltmarsh\"\n"), "{list}");
    machine.yandro(&["check"]).says("yandro serve");
    let yandro = env!("CARGO_BIN_EXE_yandro");
    let _serving =
        machine.start(if yandro.starts_with('/') { format!("Z:{yandro}") } else { yandro.into() }, &["serve"], 443);
    machine.yandro(&["check"]).succeeds().says("1 site, 1 name: all proven");
    let not_trusted = "error 12157";
    let fetched = machine.fetch("saltmarsh.test");
    assert!(fetched.as_deref().is_none_or(|said| said == not_trusted), "{fetched:?}");
    machine.yandro(&["authority", "trust"]).succeeds().says(r"goes into your root store: CurrentUser\Root");
    let trusted = machine.fetch("saltmarsh.test");
    assert!(trusted.as_deref().is_none_or(|said| said == "status 200: <h1>Saltmarsh Ferries</h1>"), "{trusted:?}");
    machine.yandro(&["authority", "show"]).succeeds().says("your root store             trusts it");
    machine.yandro(&["undo"]).succeeds();
    assert_eq!(machine.fetch("saltmarsh.test"), fetched);
    machine.yandro(&["authority", "trust"]).succeeds();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(read(HOSTS), BY_HAND);
    machine.yandro(&["undo"]).succeeds();
    assert_eq!(read(HOSTS), mapped);
    machine.yandro(&["uninstall", "--yes"]).succeeds().says("no trust store and no folder has anything of yours");
    assert_eq!(read(HOSTS), BY_HAND);
    assert!(machine.own_folders().iter().all(|folder| !folder.exists()));
}

#[test]
fn the_demo_and_the_certificates_work() {
    let Some(machine) = Machine::take() else { return };
    let ran = machine.yandro(&["demo"]).succeeds();
    assert!(ran.stdout.contains("3 sites, 4 names: all proven"), "{ran}");
    assert!(machine.own_folders().iter().all(|folder| !folder.exists()), "it has its own list: {ran}");
    assert_eq!(read(HOSTS), BY_HAND);
    machine.yandro(&["map", "saltmarsh.test", "saltmarsh", "--server", "built-in"]).succeeds();
    machine.yandro(&["cert", "issue", "quay.test", "--out", r"C:\sites\quay"]).succeeds();
    assert!(read(r"C:\sites\quay\fullchain.pem").contains("BEGIN CERTIFICATE"));
    machine.yandro(&["cert", "renew"]).succeeds();
    machine.yandro(&["pack", "saltmarsh.test", "--out", r"C:\sites\packed"]).succeeds();
    assert!(read(r"C:\sites\packed\site\index.html").contains("Saltmarsh"));
}
