//! Pools of php-fpm that sites have for themselves, and secrets, as ordinary users get them.

use std::fs;
use std::process::Stdio;

use super::harbour::{Harbour, Server};
use super::kit::{Background, eventually, has};

const PAGE: &str = r"<?php
file_put_contents(__DIR__ . '/visits', 'x', FILE_APPEND);
echo posix_getpwuid(posix_geteuid())['name'], '|', getenv('BOOKING_KEY'), '|', $_SERVER['BOOKING_KEY'] ?? '', '|', getenv('PORT_NAME');
";

/// The machine's own php-fpm.
pub fn start_php(harbour: &Harbour) -> Background {
    let mut command = harbour.machine.command("sh");
    command.args(["-c", "mkdir -p /run/php; exec $(ls /usr/sbin/php-fpm* | head -n 1) --nodaemonize"]);
    let php = Background::start(command.stdout(Stdio::null()).stderr(Stdio::null()));
    eventually("php-fpm listens", || !harbour.machine.run("sh", &["-c", "ls /run/php/*.sock"]).stdout.is_empty());
    php
}

/// A machine with a running php-fpm, on which each of these users has a project with PHP.
fn machine(server: Server, users: &'static [&'static str]) -> Option<(Harbour, Background)> {
    if !has(&["php"], true) {
        return None;
    }
    let harbour = Harbour::new(server, users)?;
    let php = start_php(&harbour);
    for user in users {
        let folder = harbour.machine.path(user).join("ferry");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("index.php"), PAGE).unwrap();
        fs::write(harbour.machine.path(user).join("key"), "high 'tide'\n").unwrap();
        harbour.machine.run("chown", &["-R", user, &harbour.home(Some(user))]).succeeds();
        harbour.machine.run("chmod", &["600", &format!("{}/key", harbour.home(Some(user)))]).succeeds();
    }
    Some((harbour, php))
}

impl Harbour {
    fn page(&self, name: &str) -> String {
        self.machine.run("curl", &["-sk", &format!("https://{name}/")]).stdout
    }

    /// The pools that are there, and their sockets.
    fn pools(&self) -> String {
        let list = "cd /etc/php/*/fpm/pool.d && ls yandro-* 2>/dev/null; cd /run && ls yandro-php* 2>/dev/null";
        self.machine.run("sh", &["-c", list]).stdout
    }
}

#[test]
fn php_runs_as_the_projects_owner_and_gets_secrets_that_nobody_else_reads() {
    for server in [Server::Nginx, Server::Apache] {
        let Some((harbour, _php)) = machine(server, &["ada"]) else { return };
        let home = harbour.home(Some("ada"));
        let (ferry, key) = (format!("{home}/ferry"), format!("BOOKING_KEY@{home}/key"));
        // The pool that all share can't read it, and the refusal names the way.
        let ran = harbour.yandro(&["map", "ferry.test", &ferry, "--php", "--env", &key]);
        assert!(ran.status == 2 && ran.stderr.contains("--php-as-owner"), "{ran}");
        let map = ["map", "ferry.test", &ferry, "--php-as-owner", "--env", &key, "--env", "PORT_NAME=Saltmarsh"];
        let ran = harbour.yandro(&map).succeeds();
        assert!(ran.stdout.contains("php-fpm pool") && ran.stdout.contains("reloaded"), "{ran}");
        assert!(ran.stderr.contains("have php-fpm read its pools again"), "{ran}");
        assert_eq!(harbour.page("ferry.test"), "ada|high 'tide'|high 'tide'|Saltmarsh", "{ran}");
        let owner = harbour.machine.run("stat", &["-c", "%U", &format!("{ferry}/visits")]);
        assert_eq!(owner.stdout.trim(), "ada");
        // Another secret counts at once, and none of them is in a file that others read.
        fs::write(harbour.machine.path("ada/key"), "low tide").unwrap();
        assert_eq!(harbour.page("ferry.test"), "ada|low tide|low tide|Saltmarsh");
        let readable = "find /etc /run /var/lib \\( -path /var/lib/dpkg -o -path /var/lib/apt \\) -prune -o -type f -print0 | xargs -0 grep -l 'low tide'";
        assert_eq!(harbour.machine.run("sh", &["-c", readable]).stdout, "");
        let env = harbour.yandro(&["env", "ferry.test", "--format", "dotenv"]).succeeds();
        assert!(
            env.stdout.contains("BOOKING_KEY=\"low tide\"") || env.stdout.contains("BOOKING_KEY='low tide'"),
            "{env}"
        );
        // A pool that goes astray is found, and its command brings it back.
        harbour.machine.run("sh", &["-c", "rm /etc/php/*/fpm/pool.d/yandro-*; pkill -USR2 -o php-fpm"]).succeeds();
        eventually("the pool is gone", || !harbour.pools().contains("sock"));
        let ran = harbour.yandro(&["check", "ferry.test"]);
        assert!(ran.status == 1 && ran.stdout.contains("yandro map ferry.test\n"), "{ran}");
        harbour.yandro(&["map", "ferry.test"]).succeeds();
        assert!(harbour.yandro(&["check", "ferry.test"]).status == 0);
        // It goes along with its site's name, and is gone with the site; `undo` brings it back.
        harbour.yandro(&["rename", "ferry.test", "crew.test"]).succeeds();
        assert_eq!(harbour.page("crew.test"), "ada|low tide|low tide|Saltmarsh");
        assert_eq!(harbour.pools().matches("ferry").count(), 0, "{}", harbour.pools());
        harbour.yandro(&["disable", "crew.test"]).succeeds();
        assert_eq!(harbour.pools(), "");
        harbour.yandro(&["undo"]).succeeds();
        assert_eq!(harbour.page("crew.test"), "ada|low tide|low tide|Saltmarsh");
        harbour.yandro(&["map", "crew.test", "--env", "off", "--php-as-owner=off"]).succeeds();
        assert_eq!((harbour.pools().as_str(), harbour.page("crew.test").as_str()), ("", "www-data|||"));
        harbour.yandro(&["undo"]).succeeds();
        let settled = harbour.yandro(&["settle"]).succeeds();
        assert!(settled.stdout.contains("nothing was changed"), "{settled}");
        harbour.yandro(&["uninstall", "--yes"]).succeeds();
        assert_eq!(harbour.pools(), "");
        harbour.is_alive("after the pools came and went");
    }
}

#[test]
fn nobody_gets_a_pool_of_another_person_or_of_roots() {
    let Some((harbour, _php)) = machine(Server::Nginx, &["ada", "bob"]) else { return };
    let (ada, bob) = (format!("{}/ferry", harbour.home(Some("ada"))), format!("{}/ferry", harbour.home(Some("bob"))));
    harbour.yandro(&["map", "ferry.test", &ada, "--php-as-owner"]).succeeds();
    let before = harbour.pools();
    let socket = before.lines().find(|line| line.ends_with("sock")).map(|name| format!("--php=/run/{name}")).unwrap();
    let attacks: [&[&str]; 3] = [
        // Bob's script at Ada's pool; a pool over Ada's folder; one over root's.
        &["map", "bob.test", &bob, &socket],
        &["map", "bob.test", &ada, "--php-as-owner"],
        &["map", "bob.test", "/usr/share", "--php-as-owner"],
    ];
    for attack in attacks {
        let ran = harbour.yandro_as(Some("bob"), attack);
        assert!(ran.status == 3 || ran.status == 2, "{attack:?}: {ran}");
        assert_eq!(harbour.pools(), before, "{attack:?}");
    }
    // Root's own word doesn't have PHP run as root, either.
    let ran = harbour.yandro_as(None, &["map", "root.test", "/usr/share", "--php-as-owner"]);
    assert!(ran.status != 0 && ran.stderr.contains("it is root or a service's account"), "{ran}");
    // Bob's own works beside it, and a pool that isn't yandro's stays in its place.
    let taken = "echo '[x]' > $(echo /etc/php/*/fpm/pool.d)/yandro-bob.test.conf";
    harbour.machine.run("sh", &["-c", taken]).succeeds();
    let map = ["map", "bob.test", &bob, "--php-as-owner"];
    let ran = harbour.yandro_as(Some("bob"), &map);
    assert!(ran.status != 0 && ran.stderr.contains("is not of yandro's making"), "{ran}");
    harbour.machine.run("sh", &["-c", "rm /etc/php/*/fpm/pool.d/yandro-bob.test.conf"]).succeeds();
    harbour.yandro_as(Some("bob"), &map).succeeds();
    assert!(harbour.page("bob.test").starts_with("bob|") && harbour.page("ferry.test").starts_with("ada|"));
    // A php-fpm that refuses its files keeps what it has, and nothing is half made.
    let broken = "echo 'nonsense = 1' > $(echo /etc/php/*/fpm/pool.d)/zz.conf";
    harbour.machine.run("sh", &["-c", broken]).succeeds();
    let before = harbour.pools();
    let ran = harbour.yandro(&["unmap", "ferry.test"]);
    assert!(ran.status == 3 && ran.stderr.contains("php-fpm doesn't take its pools"), "{ran}");
    assert!(ran.stderr.contains("zz.conf"), "{ran}");
    assert_eq!(harbour.pools(), before);
    assert!(harbour.page("ferry.test").starts_with("ada|"));
    harbour.machine.run("sh", &["-c", "rm /etc/php/*/fpm/pool.d/zz.conf"]).succeeds();
    harbour.yandro(&["unmap", "ferry.test"]).succeeds();
    assert!(harbour.page("bob.test").starts_with("bob|"));
}
