//! A real nginx for Windows.

use std::path::Path;

use super::machine::{BY_HAND, HOSTS, Machine, read, tree, write};

const MAIN: &str = r"C:\nginx\conf\nginx.conf";

#[test]
fn sites_come_and_go_on_a_running_nginx() {
    let Some(machine) = Machine::take() else { return };
    let Some(_nginx) = machine.nginx(r"C:\nginx") else { return };
    let conf = || tree(Path::new(r"C:\nginx\conf"));
    let before = conf();
    machine.yandro(&["servers"]).succeeds().says(r"C:\nginx\conf\nginx.conf  80          doesn't run");
    machine.yandro(&["servers", "start", "nginx"]).succeeds();
    let ran = machine.yandro(&["map", "saltmarsh.test", "saltmarsh"]).succeeds();
    assert!(ran.stdout.contains("https://saltmarsh.test/ answers from there, over HTTPS"), "{ran}");
    assert!(read(MAIN).contains("include C:/nginx/conf/yandro-*.conf;\r\n"));
    machine.yandro(&["check"]).succeeds().says("all proven");
    machine.yandro(&["rename", "saltmarsh.test", "tides.test"]).succeeds().says("https://tides.test/ answers");
    machine.yandro(&["disable", "tides.test"]).succeeds();
    machine.yandro(&["enable", "tides.test"]).succeeds().says("https://tides.test/ answers");
    let list = machine.own_folders()[0].join("sites.toml");
    write(&list, &(read(&list) + "\n[[site]]\nname = \"depot.test\"\nfolder = \"C:/sites/depot\"\n"));
    machine.yandro(&["settle"]).succeeds();
    machine.yandro(&["settle"]).succeeds().says("nothing was changed");
    machine.yandro(&["check", "depot.test"]).succeeds().says("all proven");
    machine.yandro(&["logs", "depot.test", "--once", "-v"]).succeeds().says("yandro-proof");
    write(r"C:\sites\depot\.env", "URL=http://old.test\r\nFOLDER=C:\\sites\\old.test\r\n");
    machine.yandro(&["readdress", "depot.test", "--from", "old.test", "--yes"]).succeeds();
    assert_eq!(read(r"C:\sites\depot\.env"), "URL=https://depot.test\r\nFOLDER=C:\\sites\\old.test\r\n");
    machine.yandro(&["undo"]).succeeds();
    machine.yandro(&["undo"]).succeeds();
    machine.yandro(&["unmap", "tides.test"]).succeeds();
    assert_eq!(conf(), before);
    assert_eq!(read(HOSTS), BY_HAND);
    machine.yandro(&["servers", "stop", "nginx"]).succeeds();
    machine.yandro(&["servers"]).succeeds().says("doesn't run");
}

#[test]
fn a_site_by_hand_is_taken_over_and_given_back() {
    let Some(machine) = Machine::take() else { return };
    let Some(_nginx) = machine.nginx(r"C:\nginx") else { return };
    write(HOSTS, &format!("{BY_HAND}127.0.0.1 pier.test\r\n"));
    let (hosts, main) = (read(HOSTS), read(MAIN));
    machine.yandro(&["servers", "start", "nginx"]).succeeds();
    machine.yandro(&["map", "saltmarsh.test", "saltmarsh"]).succeeds();
    let ran = machine.yandro(&["adopt", "pier.test"]).succeeds();
    assert!(ran.stdout.contains("https://pier.test/ answers from there, over HTTPS"), "{ran}");
    assert!(!read(MAIN).contains("pier.test"));
    machine.yandro(&["uninstall", "--yes"]).succeeds();
    assert_eq!((read(HOSTS), read(MAIN)), (hosts, main));
    machine.yandro(&["servers", "stop", "nginx"]).succeeds();
}

#[test]
fn one_in_another_folder_is_found_by_its_process() {
    let Some(machine) = Machine::take() else { return };
    let Some(nginx) = machine.nginx(r"C:\web tools\nginx") else { return };
    let arguments = ["-p", "C:/web tools/nginx", "-c", "C:/web tools/nginx/conf/nginx.conf"];
    let _running = machine.start(&nginx, &arguments, 80);
    let ran = machine.yandro(&["servers"]).succeeds();
    let line = ran
        .stderr
        .lines()
        .find_map(|line| Some(line.split_once("have yandro know it: yandro servers add ")?.1.to_owned()));
    let line = line.unwrap_or_else(|| panic!("{ran}"));
    // As a PowerShell reads it.
    let words: Vec<String> = line
        .split('\'')
        .enumerate()
        .flat_map(|(turn, part)| {
            if turn % 2 == 1 { vec![part.to_owned()] } else { part.split_whitespace().map(str::to_owned).collect() }
        })
        .collect();
    let words: Vec<&str> = ["servers", "add"].into_iter().chain(words.iter().map(String::as_str)).collect();
    machine.yandro(&words).succeeds();
    machine.yandro(&["map", "saltmarsh.test", "saltmarsh"]).succeeds().says("https://saltmarsh.test/ answers");
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    machine.yandro(&["servers", "stop", words[2]]).succeeds();
}
