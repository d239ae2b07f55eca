//! Reach of a site: this computer only, or the whole network.

use std::fs;

use super::harbour::{Harbour, Server};
use super::kit::steady;

const HERE: &str = "10.9.0.1";
const NEIGHBOUR: &str = "10.9.0.2";

/// The status of a site's page for a neighbour in the network, who knows its name and where it is.
fn for_a_neighbour(harbour: &Harbour, name: &str, port: u16) -> String {
    let (scheme, resolve) = (if port == 80 { "http" } else { "https" }, format!("{name}:{port}:{HERE}"));
    let from = [
        "-ks",
        "--max-time",
        "10",
        "--interface",
        NEIGHBOUR,
        "--resolve",
        &resolve,
        "-o",
        "/dev/null",
        "-w",
        "%{http_code}",
    ];
    harbour.machine.run("curl", &[&from[..], &[&format!("{scheme}://{name}/")]].concat()).stdout
}

fn from_here(harbour: &Harbour, name: &str) -> String {
    let url = format!("https://{name}/");
    harbour.machine.run("curl", &["-ks", "--max-time", "10", "-o", "/dev/null", "-w", "%{http_code}", &url]).stdout
}

#[test]
fn a_new_site_answers_this_computer_only_unless_it_is_opened() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(harbour) = Harbour::new(server, &["ada"]) else { return };
        let word = server.word();
        // Both families: httpd listens only on those for which the machine has another address than loopback.
        for address in [&format!("{HERE}/32"), &format!("{NEIGHBOUR}/32"), "fd00::1/128"] {
            harbour.machine.run("ip", &["address", "add", address, "dev", "lo"]).succeeds();
        }
        let ran = harbour.yandro(&["map", "depot.test", "./saltmarsh", "--server", word]).succeeds();
        assert!(!ran.stderr.contains("other computers"), "{ran}");
        assert_eq!(
            (from_here(&harbour, "depot.test"), for_a_neighbour(&harbour, "depot.test", 443)),
            ("200".into(), "403".into())
        );
        let ran = harbour.yandro(&["check", "-v", "depot.test"]).succeeds();
        assert!(ran.stdout.contains("depot.test: reached from this computer only"), "{ran}");
        let ran = harbour.yandro(&["ports"]).succeeds();
        assert!(ran.stdout.contains("the network") && !ran.stderr.contains("can open depot.test"), "{ran}");
        // The server's process is root's, and known all the same.
        assert!(!ran.stdout.contains("not visible to you") && !ran.stdout.contains("another program"), "{ran}");

        // The project's own rules can't open the site, and still close it.
        if server == Server::Apache {
            let written = |text: &str| fs::write(harbour.machine.path("saltmarsh/.htaccess"), text).unwrap();
            written("Require all granted\n");
            assert_eq!(for_a_neighbour(&harbour, "depot.test", 443), "403");
            written("<Files index.html>\nRequire all denied\n</Files>\n");
            assert_eq!(from_here(&harbour, "depot.test"), "403");
            written("");
        }

        // Opened by a choice: told once, and seen by the other commands.
        let told = "other computers of your network can open this site";
        let ran = harbour.yandro(&["map", "depot.test", "--only-here", "off"]).succeeds();
        assert!(ran.stderr.contains(told), "{ran}");
        assert_eq!(for_a_neighbour(&harbour, "depot.test", 443), "200");
        let ran =
            harbour.yandro(&["map", "tides.test", "./saltmarsh", "--server", word, "--only-here", "off"]).succeeds();
        assert!(!ran.stderr.contains(told), "once for each server: {ran}");
        let ran = harbour.yandro(&["check", "-v", "depot.test"]).succeeds();
        assert!(ran.stdout.contains("reached from this computer and its network"), "{ran}");
        let ran = harbour.yandro(&["ports"]).succeeds();
        assert!(ran.stderr.contains("can open depot.test, tides.test"), "{ran}");
        let fix = "yandro map depot.test --only-here on";
        assert!(ran.stderr.contains(fix), "{ran}");
        harbour.yandro(&["map", "depot.test", "--only-here", "on"]).succeeds();
        assert_eq!(for_a_neighbour(&harbour, "depot.test", 443), "403");

        // At an address of the network the network is meant; an upstream is kept to this computer as well.
        let ran = harbour.yandro(&["map", "depot.test", "--address", HERE]).succeeds();
        assert!(!ran.stderr.contains(told), "{ran}");
        assert_eq!(for_a_neighbour(&harbour, "depot.test", 443), "200");
        _ = harbour.yandro(&["map", "crew.test", "http://127.0.0.1:9", "--server", word, "--no-wait"]);
        let ran = harbour.yandro(&["map", "plain.test", "./saltmarsh", "--server", word, "--plain"]).succeeds();
        assert!(!ran.stderr.contains(told), "{ran}");
        assert_eq!(for_a_neighbour(&harbour, "plain.test", 80), "403");
        harbour.is_alive("after all that");
    }
}

#[test]
fn remote_servers_have_no_option_for_reach() {
    let Some(harbour) = Harbour::new(Server::Nginx, &["ada"]) else { return };
    let map = ["map", "crew.test", "./saltmarsh", "--server", "elsewhere", "--address", "127.0.0.7"];
    harbour.yandro(&map);
    let ran = harbour.yandro(&[&map[..], &["--only-here", "on"]].concat());
    insta::assert_snapshot!(steady(&ran), @"
    error: the server there has no `--only-here`
    fix: set it up there
    [status 2]
    ");
    let ran = harbour.yandro(&["map", "tides.test", "./saltmarsh", "--server", "built-in", "--only-here", "on"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the built-in server has no `--only-here`
    fix: leave `--only-here` out, or map the site on Apache httpd or nginx: --server apache, --server nginx
    [status 2]
    ");
}
