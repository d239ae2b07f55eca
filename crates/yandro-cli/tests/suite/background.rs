//! The built-in server of an ordinary user without root: names below `localhost`, the background, low ports.

use std::fs;

use super::harbour::{Harbour, Server};
use super::kit::{YANDRO, eventually};

const PAGE: &str = "<h1>Ferries</h1>\n";

/// A machine on which Ada may not become root, and has a project and these settings.
pub fn machine(settings: &str) -> Option<Harbour> {
    let harbour = Harbour::new(Server::Nginx, &["ada"])?;
    let home = harbour.machine.path("ada");
    for (file, text) in [("shop/index.html", PAGE), (".config/yandro/settings.toml", settings)] {
        let path = home.join(file);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    harbour.machine.run("chown", &["-R", "ada", &harbour.home(Some("ada"))]).succeeds();
    Some(harbour)
}

pub fn without_sudo(harbour: &Harbour) {
    fs::remove_file(harbour.machine.path("etc/sudoers.d/ada")).unwrap();
}

impl Harbour {
    /// What curl, which knows names below `localhost` by itself, gets.
    pub fn local(&self, url: &str) -> String {
        self.machine.run("curl", &["-sk", "--max-time", "20", url]).stdout
    }

    pub fn servers_of_ada(&self) -> String {
        self.machine.run("pgrep", &["-u", "ada", "-f", "serve --ke"]).stdout
    }
}

#[test]
fn a_site_below_localhost_needs_no_root_and_its_server_stays_up() {
    let Some(harbour) = machine("[built-in]\nhttp-port = 8080\nhttps-port = 8443\n") else { return };
    without_sudo(&harbour);
    let (shop, hosts) = (format!("{}/shop", harbour.home(Some("ada"))), harbour.machine.hosts());
    let url = "https://shop.localhost:8443/";
    let map = ["map", "shop.localhost", &shop, "--server", "built-in"];
    let ran = harbour.yandro(&map).succeeds();
    assert!(ran.stdout.contains(&format!("{url} answers from there, over HTTPS")), "{ran}");
    assert!(!ran.stderr.contains("sudo for them") && ran.stderr.contains("in the background"), "{ran}");
    assert_eq!((harbour.machine.hosts(), harbour.local(url)), (hosts, PAGE.to_owned()));
    harbour.yandro(&["check"]).succeeds();
    assert!(!harbour.yandro(&["sites"]).succeeds().stdout.contains("incomplete"));
    assert!(harbour.yandro(&["settle"]).succeeds().stdout.contains("nothing was changed"));
    // A killed server comes back; the list is followed, and a broken one changes nothing.
    let pid = |harbour: &Harbour| {
        fs::read_to_string(harbour.machine.path("ada/.local/share/yandro/serve.pid")).unwrap_or_default()
    };
    let first = pid(&harbour);
    harbour.machine.run("kill", &["-9", &first]).succeeds();
    eventually("another server answers", || pid(&harbour) != first && harbour.local(url) == PAGE);
    harbour.yandro(&["map", "crew.localhost", &shop, "--server", "built-in"]).succeeds();
    assert_eq!(harbour.local("https://crew.localhost:8443/"), PAGE);
    let list = harbour.machine.path("ada/.config/yandro/sites.toml");
    let text = fs::read_to_string(&list).unwrap();
    fs::write(&list, "[[site]]\nname = 1\n").unwrap();
    let log = harbour.machine.path("ada/.local/share/yandro/serve.log");
    eventually("the log names the fault", || fs::read_to_string(&log).unwrap().contains("error:"));
    assert_eq!(harbour.local(url), PAGE);
    fs::write(&list, text).unwrap();
    // Started, stopped, asked for.
    assert!(harbour.yandro(&["servers", "start", "built-in"]).succeeds().stdout.contains("runs already"));
    assert!(harbour.yandro(&["servers", "reload", "built-in"]).succeeds().stdout.contains("by itself"));
    assert!(harbour.yandro(&["servers"]).succeeds().stdout.contains("runs (process"));
    harbour.yandro(&["servers", "stop", "built-in"]).succeeds();
    assert_eq!(harbour.servers_of_ada(), "");
    let ran = harbour.yandro(&["check", "shop.localhost"]);
    assert!(ran.status == 1 && ran.stdout.contains("fix: yandro servers start built-in\n"), "{ran}");
    assert!(harbour.yandro(&["servers", "stop", "built-in"]).succeeds().stdout.contains("doesn't run"));
    // A new site of the list starts it, too.
    let quay = format!("\n[[site]]\nname = \"quay.localhost\"\nfolder = \"{shop}\"\nserver = \"built-in\"\n");
    fs::write(&list, fs::read_to_string(&list).unwrap() + &quay).unwrap();
    let ran = harbour.yandro(&["settle"]).succeeds();
    assert!(ran.stderr.contains("the built-in server was started in the background"), "{ran}");
    assert_eq!(harbour.local("https://quay.localhost:8443/"), PAGE);
    // A site of the list that isn't settled yet has one finding: its certificate is missing.
    fs::write(&list, fs::read_to_string(&list).unwrap() + &quay.replace("quay", "crane")).unwrap();
    let ran = harbour.yandro(&["check", "crane.localhost"]);
    assert_eq!((ran.status, ran.stdout.matches("fix: ").count()), (1, 1), "{ran}");
    assert!(ran.stdout.contains("fix: yandro map crane.localhost\n"), "{ran}");
    harbour.yandro(&["map", "crane.localhost"]).succeeds();
    harbour.yandro(&["servers", "restart", "built-in"]).succeeds();
    assert_eq!(harbour.local(url), PAGE);
    // Without what keeps it, it ends, and another can be started.
    harbour.machine.run("pkill", &["-9", "-u", "ada", "-f", "serve --keep"]).succeeds();
    eventually("the server ends", || harbour.servers_of_ada().is_empty());
    harbour.yandro(&["servers", "start", "built-in"]).succeeds();
    harbour.yandro(&["uninstall", "--yes"]).succeeds();
    eventually("nothing of it is left", || harbour.servers_of_ada().is_empty());
    assert!(!harbour.machine.path("ada/.local/share/yandro").exists());
    harbour.is_alive("after the built-in server came and went");
}

#[test]
fn low_ports_are_had_by_a_right_that_sudo_gives_once() {
    let Some(harbour) = machine("") else { return };
    harbour.machine.run("sysctl", &["-qw", "net.ipv4.ip_unprivileged_port_start=1024"]).succeeds();
    let (home, own) = (harbour.home(Some("ada")), harbour.machine.path("ada/yandro").display().to_string());
    harbour.machine.run("install", &["-o", "ada", "-m", "755", YANDRO, &own]).succeeds();
    let ada = |words: &str| harbour.machine.run("su", &["ada", "-c", &format!("HOME={home} {own} {words}")]);
    let map = format!("map shop.localhost {home}/shop --server built-in");
    // The web server of the machine, which is root's, has port 80, and is not taken for the built-in one.
    let ran = ada("servers start built-in");
    let is_taken = "can't listen on port 80: nginx (user root) does\n";
    assert!(ran.status == 3 && ran.stderr.contains(is_taken) && !ran.stderr.contains("setup ports"), "{ran}");
    let ran = ada(&map);
    assert!(ran.status == 3 && ran.stderr.contains(is_taken) && ran.stderr.contains("  http-port = 8080\n"), "{ran}");
    assert!(ada("servers reload built-in").stderr.contains("doesn't run"));
    harbour.machine.run("nginx", &["-s", "stop"]).succeeds();
    eventually("nginx is gone", || harbour.local("http://127.0.0.1/").is_empty());
    let ran = ada(&map).succeeds();
    assert!(ran.stdout.contains("not proven") && ran.stderr.contains("fix: let yandro listen on low ports"), "{ran}");
    // The printed fix, as it is.
    let ran = ada("setup ports").succeeds();
    assert!(ran.stdout.contains("may listen on ports below 1024 now"), "{ran}");
    let ran = ada(&map).succeeds();
    assert!(ran.stdout.contains("https://shop.localhost/ answers from there, over HTTPS"), "{ran}");
    assert!(!ran.stderr.contains("sudo for them"), "{ran}");
    // The running server takes another address, too.
    let ran = ada(&format!("map quay.test {home}/shop --server built-in --address 127.0.0.9")).succeeds();
    assert!(ran.stdout.contains("https://quay.test/ answers from there, over HTTPS"), "{ran}");
    without_sudo(&harbour);
    ada(&map).succeeds();
    assert_eq!(harbour.local("https://shop.localhost/"), PAGE);
    let rights = format!("grep CapEff /proc/$(cat {home}/.local/share/yandro/serve.pid)/status");
    let rights = harbour.machine.run("sh", &["-c", &rights]).stdout;
    assert!(rights.trim_end().ends_with("\t0000000000000400"), "{rights}");
    ada("servers stop built-in").succeeds();
    // Taking it away takes root's rights, too.
    let ran = ada("setup ports --remove");
    assert!(ran.status == 3 && ran.stderr.contains("was not changed"), "{ran}");
    harbour.machine.run("sh", &["-c", "echo 'ada ALL=(root) NOPASSWD: ALL' > /etc/sudoers.d/ada"]);
    ada("uninstall --yes").succeeds();
    assert!(ada("setup ports --remove").succeeds().stdout.contains("had no such right"));
}
