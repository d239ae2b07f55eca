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
    // It runs in the background from now on, and is started and stopped by a word.
    assert!(ran.stdout.contains("answers from there, over HTTPS"), "{ran}");
    machine.yandro(&["servers"]).succeeds().says("runs (process");
    machine.yandro(&["servers", "stop", "built-in"]).succeeds();
    machine.yandro(&["check"]).says("yandro servers start built-in");
    machine.yandro(&["servers", "start", "built-in"]).succeeds();
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

/// Wine keeps tasks and never runs one: the test runs what the task says.
#[test]
fn the_built_in_server_is_a_task_at_logon() {
    let Some(machine) = Machine::take() else { return };
    machine.yandro(&["map", "saltmarsh.test", "saltmarsh", "--server", "built-in"]).succeeds();
    machine.yandro(&["serve", "--install"]).succeeds().says("as a service of the Task Scheduler");
    let task = machine.run("schtasks.exe", &["/Query", "/TN", "yandro-serve"]);
    let kept = std::path::Path::new(r"C:\windows\system32\tasks\yandro-serve");
    assert!(task.stdout.contains("yandro-serve") || kept.exists(), "{task}");
    let definition = std::fs::read(machine.own_folders()[1].join("yandro-serve.xml")).unwrap();
    let units: Vec<u16> = definition.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let text = String::from_utf16(&units).unwrap();
    let part = |tag: &str| text.split(&format!("<{tag}>")).nth(1).unwrap().split("</").next().unwrap().to_owned();
    assert!(text.starts_with("\u{feff}<?xml") && part("LogonTrigger><UserId").starts_with("S-1-5-"), "{text}");
    let arguments = part("Arguments");
    let serving = machine.start(part("Command"), &arguments.split(' ').collect::<Vec<_>>(), 443);
    machine.yandro(&["check"]).succeeds().says("1 site, 1 name: all proven");
    assert!(read(machine.own_folders()[1].join("serve.log")).contains("Z serving 1 site on ports 80"));
    drop(serving);
    machine.yandro(&["cert", "renew", "--install-timer"]).succeeds().says("task yandro-renew");
    machine.yandro(&["cert", "renew", "--remove-timer"]).succeeds();
    machine.yandro(&["serve", "--remove"]).succeeds().says("has stopped");
    assert!(!kept.exists() && !kept.with_file_name("yandro-renew").exists());
    machine.yandro(&["uninstall", "--yes"]).succeeds();
}
