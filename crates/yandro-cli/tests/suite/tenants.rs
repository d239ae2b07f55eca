//! Names below sites: answered by each server, resolved by the resolvers of real programs, for each kind of user.

use std::fs;

use super::harbour::{Harbour, Server};
use super::kit::{Background, Ran, eventually};
use super::namespace::Namespace;

/// A list of name servers of somebody's own; nothing answers there.
const NAME_SERVERS: &str = "# by hand\nsearch harbour.example\nnameserver 127.0.0.99\noptions timeout:1 attempts:1\n";

fn page(machine: &Namespace, folder: &str) {
    fs::create_dir_all(machine.path(folder)).unwrap();
    fs::write(machine.path(folder).join("index.html"), format!("<h1>{folder}</h1>\n")).unwrap();
}

/// The codes that a check reports.
fn codes(ran: &Ran) -> Vec<String> {
    let told: serde_json::Value = serde_json::from_str(&ran.stdout).unwrap_or_else(|_| panic!("no JSON: {ran}"));
    let findings = told["sites"].as_array().unwrap().iter().flat_map(|site| site["findings"].as_array().unwrap());
    findings.map(|finding| finding["code"].as_str().unwrap().to_owned()).collect()
}

fn responders(machine: &Namespace) -> usize {
    machine.run("pgrep", &["-fc", "serve --names"]).stdout.trim().parse().unwrap()
}

#[test]
fn each_server_answers_all_names_below_a_site_and_each_resolver_finds_them() {
    let Some(machine) = Namespace::new(&["nginx", "dig", "drill", "chromium", "certutil"]) else { return };
    let resolv_conf = machine.path("etc/resolv.conf");
    _ = fs::remove_file(&resolv_conf);
    fs::write(&resolv_conf, NAME_SERVERS).unwrap();
    for folder in ["depot", "tides"] {
        page(&machine, folder);
    }
    let map = ["map", "saltmarsh.test", "./saltmarsh", "--tenants", "--server"];
    for server in ["nginx", "apache", "built-in"] {
        if server == "nginx" {
            let ran = machine.yandro(&[&map[..], &[server]].concat());
            assert!(
                ran.status == 2 && ran.stderr.contains("if you agree, add to `yandro map`: --name-servers"),
                "{ran}"
            );
            assert_eq!((fs::read_to_string(&resolv_conf).unwrap(), responders(&machine)), (NAME_SERVERS.into(), 0));
            // A refused command is no agreement.
            assert_eq!(machine.yandro(&["map", "test", "./saltmarsh", "--tenants", "--name-servers"]).status, 3);
            assert_eq!(machine.yandro(&[&map[..], &[server]].concat()).status, 2);
        }
        // Agreed to once, it counts from then on.
        let agrees = if server == "nginx" { &["--name-servers"][..] } else { &[] };
        let ran = machine.yandro(&[&map[..], &[server], agrees].concat()).succeeds();
        assert!(ran.stdout.contains("certificate") && ran.stdout.contains("*.saltmarsh.test"), "{ran}");
        let ran = machine.yandro(&["check"]).succeeds();
        assert!(ran.stdout.contains("1 site, 2 names: all proven"), "{ran}");
        // glibc, two programs that ask by themselves, and one that loads the page.
        let ran = machine.run("getent", &["ahosts", "any.saltmarsh.test"]).succeeds();
        assert!(ran.stdout.contains("127.0.0.1 "), "{ran}");
        assert_eq!(machine.run("dig", &["+short", "ANY.Saltmarsh.test"]).stdout, "127.0.0.1\n");
        assert_eq!(machine.run("dig", &["+short", "+tcp", "+noedns", "any.saltmarsh.test"]).stdout, "127.0.0.1\n");
        assert!(machine.run("dig", &["a.b.saltmarsh.test"]).stdout.contains("status: NXDOMAIN"));
        assert!(
            machine.run("dig", &["harbour.example"]).stdout.contains("status: REFUSED"),
            "the next server is asked"
        );
        let ran = machine.run("drill", &["any.saltmarsh.test", "AAAA"]).succeeds();
        assert!(ran.stdout.contains("NOERROR"), "{ran}");
        let shown = |url: &str| machine.curl(&["--location", url]).succeeds().stdout;
        assert!(shown("http://any.saltmarsh.test/").contains("Saltmarsh Ferries"));
        let ran = machine.yandro(&["check", "https://any.saltmarsh.test/"]).succeeds();
        assert!(ran.stdout.contains("  site saltmarsh.test, ") && ran.stdout.contains("It answers."), "{ran}");
        // A site of its own below has its own folder.
        machine.yandro(&["map", "depot.saltmarsh.test", "./depot", "--server", server]).succeeds();
        assert!(shown("https://depot.saltmarsh.test/").contains("depot"), "{server}");
        assert!(shown("https://other.saltmarsh.test/").contains("Saltmarsh Ferries"));
        let ran = machine.yandro(&["map", "tides.saltmarsh.test", "./tides", "--server", server]);
        if server == "apache" {
            assert!(ran.status == 3 && ran.stderr.contains("would answer `tides.saltmarsh.test`"), "{ran}");
        } else {
            ran.succeeds();
            assert!(shown("https://tides.saltmarsh.test/").contains("tides"), "{server}");
            machine.yandro(&["unmap", "tides.saltmarsh.test"]).succeeds();
        }
        machine.yandro(&["unmap", "depot.saltmarsh.test"]).succeeds();
        if server == "nginx" {
            machine.yandro(&["authority", "trust"]).succeeds();
            let profile = format!("--user-data-dir={}", machine.path("profile").display());
            let flags = ["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-dev-shm-usage"];
            let page = ["--disable-background-networking", "--dump-dom", "https://browser.saltmarsh.test/"];
            let ran = machine.run("chromium", &[&flags[..], &[profile.as_str()], &page].concat());
            assert!(ran.stdout.contains("Saltmarsh Ferries"), "{ran}");
        }
        machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
        assert_eq!((fs::read_to_string(&resolv_conf).unwrap(), responders(&machine)), (NAME_SERVERS.into(), 0));
        // The next one needs its ports.
        machine.yandro(&["servers", "stop", server]).succeeds();
    }
}

#[test]
fn what_keeps_names_below_a_site_from_resolving_is_found_and_fixed() {
    let Some(machine) = Namespace::new(&["nginx", "dig"]) else { return };
    let resolv_conf = machine.path("etc/resolv.conf");
    _ = fs::remove_file(&resolv_conf);
    fs::write(&resolv_conf, NAME_SERVERS).unwrap();
    let map = ["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx", "--tenants", "--name-servers"];
    machine.yandro(&map).succeeds();
    // Its second start is no failure.
    let ran = machine.yandro(&["serve", "--names"]).succeeds();
    assert!(ran.stdout.contains("it runs in the background already, at 127.53."), "{ran}");
    let check = || codes(&machine.yandro(&["check", "--json"]));
    assert_eq!(check(), [""; 0]);
    // The program ends unasked: it is started again.
    machine.run("pkill", &["-9", "-f", "serve --names --kept"]).succeeds();
    eventually("it is back", || check().is_empty());
    // It and its keeper are gone.
    machine.run("pkill", &["-9", "-f", "serve --names"]).succeeds();
    eventually("it is gone", || check() == ["responder-down"]);
    machine.yandro(&["settle"]).succeeds();
    assert_eq!(check(), [""; 0]);
    // The system writes the list anew.
    fs::write(&resolv_conf, NAME_SERVERS).unwrap();
    assert_eq!(check(), ["tenants-unresolved"]);
    machine.yandro(&["check", "--fix"]).succeeds();
    assert_eq!(check(), [""; 0]);
    // Out of use and back, with another name and back, without and with them.
    for (there, back) in [
        (&["disable", "saltmarsh.test"][..], &["enable", "saltmarsh.test"][..]),
        (&["rename", "saltmarsh.test", "tides.test"], &["rename", "tides.test", "saltmarsh.test"]),
        (&["map", "saltmarsh.test", "--tenants=off"], &["undo"]),
    ] {
        machine.yandro(there).succeeds();
        assert_ne!(
            machine.run("dig", &["+short", "+tries=1", "any.saltmarsh.test"]).stdout,
            "127.0.0.1\n",
            "{there:?}"
        );
        machine.yandro(back).succeeds();
        assert_eq!(check(), [""; 0], "{back:?}");
        assert_eq!(machine.run("dig", &["+short", "any.saltmarsh.test"]).stdout, "127.0.0.1\n", "{back:?}");
    }
    machine.yandro(&["uninstall", "--yes"]).succeeds();
    assert_eq!((fs::read_to_string(&resolv_conf).unwrap(), responders(&machine)), (NAME_SERVERS.into(), 0));
}

#[test]
fn users_have_a_responder_each_and_only_for_names_that_nobody_can_own() {
    let Some(harbour) = Harbour::new(Server::Nginx, &["ada", "ben", "eve"]) else { return };
    let machine = &harbour.machine;
    fs::remove_file(machine.path("etc/sudoers.d/eve")).unwrap();
    let resolv_conf = machine.path("etc/resolv.conf");
    _ = fs::remove_file(&resolv_conf);
    fs::write(&resolv_conf, NAME_SERVERS).unwrap();
    let map = |user, name: &str| {
        let words = ["map", name, "./saltmarsh", "--server", "nginx", "--tenants", "--name-servers", "--hide-real"];
        harbour.yandro_as(Some(user), &words)
    };
    // Its port is below 1024.
    let ran = map("ada", "saltmarsh.test");
    assert!(ran.status == 1 && ran.stdout.contains("nothing answers at 127.53."), "{ran}");
    assert!(ran.stderr.contains("fix: let yandro listen on low ports, once and for good: yandro setup ports"), "{ran}");
    machine.run("sysctl", &["-qw", "net.ipv4.ip_unprivileged_port_start=53"]).succeeds();
    map("ada", "saltmarsh.test").succeeds();
    map("ben", "tides.test").succeeds();
    for user in ["ada", "ben"] {
        let ran = harbour.yandro_as(Some(user), &["check"]).succeeds();
        assert!(ran.stdout.contains("1 site, 2 names: all proven"), "{ran}");
    }
    let found = |name: &str| machine.run("getent", &["ahosts", name]).status == 0;
    assert!(found("any.saltmarsh.test") && found("any.tides.test"));
    // Somebody's own program would answer for names of others.
    let before = (fs::read_to_string(&resolv_conf).unwrap(), machine.hosts());
    let words =
        ["map", "harbour.example.com", "./saltmarsh", "--server", "nginx", "--tenants", "--plain", "--hide-real"];
    let ran = harbour.yandro(&words);
    assert!(ran.status == 3 && ran.stderr.contains("names below `harbour.example.com` can be real sites"), "{ran}");
    let ran = map("eve", "depot.test");
    assert!(ran.status == 3 && ran.stderr.contains("write /etc/resolv.conf"), "{ran}");
    assert_eq!((fs::read_to_string(&resolv_conf).unwrap(), machine.hosts()), before);
    harbour.yandro_as(Some("ada"), &["unmap", "saltmarsh.test"]).succeeds();
    assert!(!found("any.saltmarsh.test") && found("any.tides.test"));
    harbour.yandro_as(Some("ben"), &["uninstall", "--yes"]).succeeds();
    assert_eq!((fs::read_to_string(&resolv_conf).unwrap(), responders(machine)), (NAME_SERVERS.into(), 0));
    harbour.is_alive("after the sites are gone");
}

#[test]
fn the_dnsmasq_of_networkmanager_is_told_in_its_folder() {
    let Some(machine) = Namespace::new(&["nginx", "dnsmasq", "dig"]) else { return };
    let resolv_conf = machine.path("etc/resolv.conf");
    _ = fs::remove_file(&resolv_conf);
    fs::write(&resolv_conf, "nameserver 127.0.0.1\n").unwrap();
    let folder = machine.path("etc/NetworkManager/dnsmasq.d");
    fs::create_dir_all(&folder).unwrap();
    fs::write(machine.path("etc/NetworkManager/NetworkManager.conf"), "[main]\nplugins=keyfile\ndns=dnsmasq\n")
        .unwrap();
    let map = ["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx", "--tenants"];
    let ran = machine.yandro(&map);
    assert!(ran.status == 1 && ran.stdout.contains("the dnsmasq of NetworkManager should ask"), "{ran}");
    assert!(ran.stdout.contains("fix: sudo nmcli general reload dns-full"), "{ran}");
    // As NetworkManager runs it.
    let dnsmasq =
        ["--keep-in-foreground", "--no-resolv", "--no-hosts", "--listen-address=127.0.0.1", "--bind-interfaces"];
    let read = format!("--conf-dir={}", folder.display());
    let _dnsmasq = Background::start(machine.command("dnsmasq").args(dnsmasq).arg("--user=root").arg(read));
    eventually("it answers", || codes(&machine.yandro(&["check", "--json"])).is_empty());
    assert_eq!(machine.run("dig", &["+short", "any.saltmarsh.test"]).stdout, "127.0.0.1\n");
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(fs::read_dir(folder).unwrap().count(), 0);
}
