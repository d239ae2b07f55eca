//! The habits of Windows's hosts file.

use std::fs;
use std::os::windows::fs::OpenOptionsExt as _;

use super::machine::{BY_HAND, HOSTS, Machine, read, write};

#[test]
fn a_read_only_file_stays_one() {
    let Some(machine) = Machine::take() else { return };
    let set = |is_read_only| {
        let mut permissions = fs::metadata(HOSTS).unwrap().permissions();
        permissions.set_readonly(is_read_only);
        fs::set_permissions(HOSTS, permissions).unwrap();
    };
    set(true);
    let is_read_only = || fs::metadata(HOSTS).unwrap().permissions().readonly();
    machine.yandro(&["hosts", "point", "reeds.test", "10.0.0.9"]).succeeds();
    let text = read(HOSTS);
    assert!(text.contains("10.0.0.9\treeds.test\r\n") && is_read_only(), "{text}");
    machine.yandro(&["undo"]).succeeds();
    assert!(is_read_only());
    assert_eq!(read(HOSTS), BY_HAND);
    set(false);
}

#[test]
fn a_file_that_another_program_keeps_to_itself_is_told_and_nothing_is_changed() {
    let Some(machine) = Machine::take() else { return };
    let held = fs::OpenOptions::new().read(true).share_mode(1).open(HOSTS).unwrap();
    let ran = machine.yandro(&["map", "saltmarsh.test", "saltmarsh", "--server", "built-in"]);
    assert_eq!(ran.status, 3, "{ran}");
    let said = ran.stderr.to_lowercase();
    assert!(said.contains(r"c:\windows\system32\drivers\etc\hosts: "), "{ran}");
    assert!(said.contains("has it open and keeps others from writing it: close that first"), "{ran}");
    drop(held);
    assert_eq!(read(HOSTS), BY_HAND);
    machine.yandro(&["sites"]).succeeds().says("No site is mapped yet");
    machine.yandro(&["map", "saltmarsh.test", "saltmarsh", "--server", "built-in"]).succeeds();
}

#[test]
fn a_text_file_beside_it_is_told_and_lines_are_judged() {
    let Some(machine) = Machine::take() else { return };
    let beside = format!("{HOSTS}.txt");
    write(&beside, BY_HAND);
    machine.yandro(&["hosts", "lint"]).says("hosts.txt");
    fs::remove_file(beside).unwrap();
    machine.yandro(&["hosts", "list"]).succeeds().says("printer.test");
}

#[test]
fn the_original_is_kept_and_restored() {
    let Some(machine) = Machine::take() else { return };
    machine.yandro(&["map", "saltmarsh.test", "saltmarsh", "--server", "built-in"]).succeeds();
    machine.yandro(&["history", "originals"]).succeeds().says(HOSTS);
    write(HOSTS, "127.0.0.1 localhost\r\n10.0.0.9 reeds.test\r\n");
    machine.yandro(&["history", "restore", HOSTS]).succeeds();
    assert_eq!(read(HOSTS), BY_HAND);
}
