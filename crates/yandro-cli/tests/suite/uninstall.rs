//! `yandro uninstall`: the machine is as it was before the first map, whoever asks and whatever was lost.

use std::fs;

use super::harbour::{Harbour, Server};
use super::kit::{Sysroot, tree};

/// The folders of which everything has to be as before.
const WATCHED: [&str; 4] = ["etc", "apache2", "saltmarsh", "ada"];

impl Harbour {
    /// All of the machine that yandro may ever touch.
    fn everything(&self) -> String {
        let trees: Vec<String> = WATCHED
            .iter()
            .filter(|folder| self.machine.path(folder).exists())
            .flat_map(|folder| {
                tree(&self.machine.path(folder)).lines().map(|line| format!("{folder}/{line}")).collect::<Vec<_>>()
            })
            // What other programs write when a root comes or goes.
            .filter(|line| {
                !line.starts_with("etc/ssl/certs/java/") && !line.starts_with("etc/ssl/certs/ca-certificates.crt")
            })
            .collect();
        let shared = self.machine.run("sh", &["-c", "find /var/lib/yandro /usr/local/share/ca-certificates /etc/ssl/certs -printf '%p %y %l\\n' 2>/dev/null | sort; cat /etc/ssl/certs/ca-certificates.crt | sha256sum"]).stdout;
        [trees.join("\n"), self.machine.hosts(), shared].join("\n")
    }
}

#[track_caller]
fn same(now: &str, then: &str, when: &str) {
    let without = |text: &str, other: &str| -> Vec<String> {
        let other: std::collections::HashSet<&str> = other.lines().collect();
        text.lines().filter(|line| !other.contains(line)).map(|line| line.chars().take(300).collect()).collect()
    };
    assert_eq!((without(now, then), without(then, now)), (Vec::new(), Vec::new()), "{when}");
}

/// A machine whose trust store has just what it is made of.
fn machine(server: Server, users: &[&'static str]) -> Option<Harbour> {
    let harbour = Harbour::new(server, users)?;
    harbour.machine.run("update-ca-certificates", &["--fresh"]).succeeds();
    Some(harbour)
}

/// Everything that one user can have yandro make.
fn use_it(harbour: &Harbour) {
    let machine = &harbour.machine;
    let y = |words: &[&str]| harbour.yandro(words).succeeds();
    y(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]);
    y(&["map", "pier.test", &format!("{}/pier", harbour.home(harbour.user)), "--create", "--listing", "off"]);
    y(&["map", "tides.test", "./saltmarsh", "--http-port", "8080", "--https-port", "8443"]);
    y(&["disable", "tides.test"]);
    y(&["authority", "trust"]);
    y(&["authority", "replace"]);
    let trusted = machine.run("sh", &["-c", "ls /usr/local/share/ca-certificates /etc/ssl/certs | grep yandro-"]);
    assert!(trusted.stdout.contains("yandro-"), "{trusted}");
}

#[test]
fn nothing_is_left_whoever_uninstalls() {
    for (server, user) in [(Server::Apache, Some("ada")), (Server::Nginx, Some("ada")), (Server::Apache, None)] {
        let users: Vec<&'static str> = user.into_iter().collect();
        let Some(harbour) = machine(server, &users) else { return };
        let database = format!("{}/.pki/nssdb", harbour.home(harbour.user));
        let made = format!("mkdir -p {database} && certutil -d sql:{database} -N --empty-password");
        harbour.machine.run("sh", &["-c", &made]).succeeds();
        if let Some(user) = user {
            harbour.machine.run("chown", &["-R", user, &harbour.home(Some(user))]).succeeds();
        }
        let before = harbour.everything();
        use_it(&harbour);
        let asked = harbour.yandro(&["uninstall"]);
        assert_eq!(asked.status, 2, "{asked}");
        assert!(asked.stderr.contains("can't be undone") && asked.stderr.contains("--yes"), "{asked}");
        let ran = harbour.yandro(&["uninstall", "--yes"]);
        assert!(ran.status == 0 && ran.stdout.contains("proof"), "{ran}");
        // NSS rewrites its database when a root goes; none of yandro's is in it.
        let listed = harbour.machine.run("certutil", &["-d", &format!("sql:{database}"), "-L"]).succeeds();
        assert!(!listed.stdout.contains("yandro"), "{listed}");
        let plain = |text: &str| -> String {
            text.lines().filter(|line| !line.contains("nssdb/")).map(|line| line.to_owned() + "\n").collect()
        };
        same(&plain(&harbour.everything()), &plain(&before), &format!("{} {user:?}: {ran}", server.word()));
        harbour.is_alive("after the uninstall");
    }
}

#[test]
fn nothing_is_left_when_the_folders_were_deleted_first() {
    let Some(harbour) = machine(Server::Apache, &["ada"]) else { return };
    let before = harbour.everything();
    use_it(&harbour);
    for folder in [".local", ".config"] {
        fs::remove_dir_all(harbour.machine.path("ada").join(folder)).unwrap();
    }
    let orphans = harbour.yandro(&["authority", "distrust", "--store", "system"]).succeeds();
    assert!(
        orphans
            .stdout
            .contains("No root of an authority of `ada` is trusted by this system now\n  trust store  removed "),
        "{orphans}"
    );
    let ran = harbour.yandro(&["uninstall", "--yes"]);
    assert!(ran.status == 0 && ran.stdout.contains("proof"), "{ran}");
    let plain = |text: &str| -> String {
        text.lines().filter(|line| !line.contains("ada/")).map(|line| line.to_owned() + "\n").collect()
    };
    same(&plain(&harbour.everything()), &plain(&before), &ran.to_string());
}

/// A bundle's main file holds hand-written sites and the line that reads yandro's: both changes are taken back.
#[test]
fn sites_in_the_main_file_come_back_and_the_line_of_yandros_goes() {
    let main = "usr/local/nginx/conf/nginx.conf";
    for edit in ["", "# kept by hand\n"] {
        let sysroot = Sysroot::new();
        let folder = sysroot.path("home/ada/depot").display().to_string();
        fs::create_dir_all(&folder).unwrap();
        let text = format!(
            "events {{}}\nhttp {{\n\tserver {{ listen 80; server_name depot.test; root {folder}; }}\n\tserver {{ listen 80; server_name pier.test; root {folder}; }}\n}}\n"
        );
        let text = text.replace(&sysroot.root().display().to_string(), "");
        sysroot.write(main, &text);
        sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
        sysroot.yandro(&["adopt", "pier.test"]).succeeds();
        sysroot.yandro(&["adopt", "depot.test"]).succeeds();
        sysroot.write(main, &(sysroot.read(main) + edit));
        sysroot.yandro(&["uninstall", "--yes"]).succeeds();
        assert_eq!(sysroot.read(main), text + edit);
    }
}
