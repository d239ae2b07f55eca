//! A computer whose address in the network changes, and whose hosts file the system writes again.

use std::fs;

use super::harbour::{Harbour, Server};

const OLD: &str = "10.9.0.1";
const NEW: &str = "10.9.4.7";

impl Harbour {
    fn address(&self, verb: &str, address: &str) {
        self.machine.run("ip", &["address", verb, &format!("{address}/24"), "dev", "lo"]).succeeds();
    }
}

#[test]
fn sites_at_this_computers_address_follow_it() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(harbour) = Harbour::new(server, &["ada"]) else { return };
        let word = server.word();
        // Both families: httpd listens only on those for which the machine has another address than loopback.
        harbour.machine.run("ip", &["address", "add", "fd00::1/128", "dev", "lo"]).succeeds();
        harbour.address("add", OLD);
        harbour.yandro(&["map", "crew.test", "./saltmarsh", "--server", word]).succeeds();
        let mapped = [
            &["map", "depot.test", "./saltmarsh", "--server", word, "--address", OLD][..],
            &["map", "tides.test", "./saltmarsh", "--server", word, "--address", OLD],
        ];
        for words in mapped {
            harbour.yandro(words).succeeds();
        }
        harbour.yandro(&["check"]).succeeds();
        // Another network.
        harbour.address("del", OLD);
        let ran = harbour.yandro(&["check", "depot.test"]);
        assert!(ran.stdout.contains("has the address 10.9.0.1 any more") && !ran.stdout.contains("--follow"), "{ran}");
        let ran = harbour.yandro(&["settle"]).succeeds();
        assert!(ran.stdout.contains("nothing was changed") && !ran.stdout.contains("--follow"), "{ran}");
        harbour.address("add", NEW);
        let ran = harbour.yandro(&["check"]);
        assert!(ran.status == 1 && ran.stdout.contains("fix: yandro settle --follow\n"), "{ran}");
        // It takes a word: the old address may come back.
        let (list, hosts) = (harbour.machine.path("ada/.config/yandro/sites.toml"), harbour.machine.hosts());
        let before = fs::read_to_string(&list).unwrap();
        let ran = harbour.yandro(&["settle"]).succeeds();
        assert!(
            ran.stdout.contains("depot.test, tides.test") && ran.stdout.contains("yandro settle --follow"),
            "{ran}"
        );
        assert_eq!((fs::read_to_string(&list).unwrap(), harbour.machine.hosts()), (before.clone(), hosts.clone()));
        let ran = harbour.yandro(&["settle", "--follow", "--preview"]).succeeds();
        assert!(ran.stdout.contains(&format!("+{NEW}\tdepot.test")), "{ran}");
        assert_eq!(fs::read_to_string(&list).unwrap(), before);
        let ran = harbour.yandro(&["settle", "--follow"]).succeeds();
        assert!(ran.stdout.contains(&format!("depot.test is at {NEW} now instead of {OLD}")), "{ran}");
        harbour.yandro(&["check"]).succeeds();
        let after = fs::read_to_string(&list).unwrap();
        assert_eq!((after.matches(NEW).count(), after.matches(OLD).count()), (2, 0), "{after}");
        assert!(harbour.yandro(&["settle", "--follow"]).succeeds().stdout.contains("nothing was changed"));
        // And all of it back.
        harbour.yandro(&["undo"]).succeeds();
        assert_eq!((fs::read_to_string(&list).unwrap(), harbour.machine.hosts()), (before, hosts));
        harbour.is_alive("after the network changed");
    }
}

#[test]
fn a_hosts_file_that_is_made_anew_gets_its_lines_back() {
    let Some(harbour) = Harbour::new(Server::Nginx, &["ada"]) else { return };
    for name in ["depot.test", "tides.test"] {
        harbour.yandro(&["map", name, "./saltmarsh", "--server", "nginx"]).succeeds();
    }
    let fresh = "127.0.0.1\tlocalhost\n# made by cloud-init: manage_etc_hosts is True\n10.0.0.9\tquay\n";
    fs::write(harbour.machine.path("hosts"), fresh).unwrap();
    let ran = harbour.yandro(&["check"]);
    assert!(ran.stdout.contains("seen: cloud-init writes this file again at each boot"), "{ran}");
    assert!(ran.stdout.contains("fix: yandro settle\n"), "{ran}");
    harbour.yandro(&["settle"]).succeeds();
    assert!(harbour.machine.hosts().starts_with(fresh) && harbour.machine.hosts().contains("127.0.0.1\ttides.test"));
    harbour.yandro(&["check"]).succeeds();
    // As an engine of containers does it: the file is a mount, which can't be replaced, only written.
    fs::write(harbour.machine.path("hosts"), "127.0.0.1\tlocalhost\n").unwrap();
    let ran = harbour.yandro(&["check"]);
    assert!(ran.stdout.contains("the container engine writes this file again"), "{ran}");
    harbour.yandro(&["settle"]).succeeds();
    harbour.yandro(&["check"]).succeeds();
}
