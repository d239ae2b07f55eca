//! A program that is ended in the middle of a change, at each of its file operations in turn.

use std::path::Path;

use super::machine::{BY_HAND, HOSTS, Machine, read, tree};

/// The variable that names the operation, in a build with the feature `interruption-points`.
const AT: &str = "YANDRO_END_AT";
const MAP: [&str; 3] = ["map", "saltmarsh.test", "saltmarsh"];

#[test]
fn nothing_is_half_or_lost_wherever_a_change_ends() {
    let Some(machine) = Machine::take() else { return };
    let Some(_nginx) = machine.nginx(r"C:\nginx") else { return };
    machine.yandro(&["servers", "start", "nginx"]).succeeds();
    let conf = || tree(Path::new(r"C:\nginx\conf"));
    let before = conf();
    // The files after a complete change, for comparison.
    machine.yandro(&MAP).succeeds();
    let mapped = (read(HOSTS), read(r"C:\nginx\conf\nginx.conf"));
    machine.yandro(&["uninstall", "--yes"]).succeeds();
    let unmapped = (read(HOSTS), read(r"C:\nginx\conf\nginx.conf"));
    assert_eq!(unmapped.0, BY_HAND);
    let mut points = 0;
    loop {
        let ran = machine.with(&MAP, &[(AT, &(points + 1).to_string())]);
        let now = (read(HOSTS), read(r"C:\nginx\conf\nginx.conf"));
        assert!([&mapped.0, &unmapped.0].contains(&&now.0), "at {points}: {}", now.0);
        assert!([&mapped.1, &unmapped.1].contains(&&now.1), "at {points}: {}", now.1);
        if ran.status == 0 {
            break;
        }
        points += 1;
        // The next command brings everything back, or finishes it.
        let next = machine.yandro(&["unmap", "saltmarsh.test"]);
        assert!(next.status == 0 || next.says("no such site").status == 2, "at {points}");
        assert_eq!((read(HOSTS), conf()), (BY_HAND.to_owned(), before.clone()), "at {points}");
        let list = machine.own_folders()[0].join("sites.toml");
        assert!(!list.exists(), "at {points}");
    }
    assert!(points > 20, "this build has no such points: {points}");
    println!("{points} points of interruption");
    machine.yandro(&["uninstall", "--yes"]).succeeds();
    machine.yandro(&["servers", "stop", "nginx"]).succeeds();
    assert_eq!((read(HOSTS), conf()), (BY_HAND.to_owned(), before));
}
