//! Yandro under sudo: what is the user's is worked on with the user's rights, and stays the user's.

use std::fs;
use std::os::unix::fs::MetadataExt as _;

use super::harbour::{Harbour, Server};
use super::kit::{Ran, YANDRO, steady, tree};

/// Runs yandro by sudo as Ada, in the machine's folder.
fn sudo(harbour: &Harbour, words: &[&str]) -> Ran {
    let ids = ["--reuid", "ada", "--regid", "ada", "--init-groups", "sudo", YANDRO];
    harbour.machine.run("setpriv", &[&ids[..], words].concat())
}

fn as_ada(harbour: &Harbour, script: &str) {
    let ids = ["--reuid", "ada", "--regid", "ada", "--init-groups", "sh", "-euc", script];
    harbour.machine.run("setpriv", &ids).succeeds();
}

#[test]
fn links_in_the_users_folders_lead_root_nowhere() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada"]) else { return };
    let machine = &harbour.machine;
    let home = harbour.home(Some("ada"));
    machine.run("mkdir", &["/etc/precious"]).succeeds();
    fs::write(machine.path("etc/precious/secret"), "root's own\n").unwrap();
    fs::set_permissions(machine.path("etc/precious/secret"), std::os::unix::fs::PermissionsExt::from_mode(0o600))
        .unwrap();
    let precious = || tree(&machine.path("etc/precious"));
    let (before, empty) = (precious(), system(&harbour));
    let data = format!("{home}/.local/share/yandro");
    let links = [
        format!("mkdir -p {home}/.local/share; ln -s /etc/precious {data}"),
        format!("mkdir -p {data}; ln -s /etc/precious {data}/history"),
        format!("mkdir -p {data}; ln -s /etc/precious {data}/certificates"),
        format!("mkdir -p {data}; ln -s /etc/precious {data}/authority"),
        format!("mkdir -p {data}; ln -s /etc/precious {data}/originals"),
        format!("mkdir -p {data}; ln -s /etc/precious/new {data}/lock"),
        format!("mkdir -p {home}/.config; ln -s /etc/precious {home}/.config/yandro"),
        format!("mkdir -p {home}/.config/yandro; ln -s /etc/precious/new {home}/.config/yandro/sites.toml"),
        format!("mkdir -p {home}/.config/yandro; ln -s /etc/precious/secret {home}/.config/yandro/sites.toml"),
        format!("mkdir -p {home}/.config/yandro; ln -s /etc/precious/secret {home}/.config/yandro/settings.toml"),
    ];
    for link in links {
        as_ada(&harbour, &format!("rm -rf {home}/.config {home}/.local; {link}"));
        let ran = sudo(&harbour, &["map", "depot.test", "./saltmarsh"]);
        // A link that leads to nothing is replaced by the user's own file.
        if ran.status == 0 {
            sudo(&harbour, &["unmap", "depot.test"]).succeeds();
        }
        assert!(!ran.stderr.contains("root's own"), "{link}: {ran}");
        assert_eq!(precious(), before, "{link}: {ran}");
        assert_eq!(system(&harbour), empty, "{link}: {ran}");
    }
    harbour.is_alive("after all links");
}

/// The server's files and the hosts file.
fn system(harbour: &Harbour) -> String {
    tree(&harbour.machine.path("apache2")) + &harbour.machine.hosts()
}

#[test]
fn files_made_under_sudo_belong_to_the_user() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada"]) else { return };
    let home = harbour.home(Some("ada"));
    let shared = harbour.machine.path("shared");
    fs::create_dir(&shared).unwrap();
    fs::set_permissions(&shared, std::os::unix::fs::PermissionsExt::from_mode(0o1777)).unwrap();
    sudo(&harbour, &["map", "depot.test", "./saltmarsh"]).succeeds();
    let below = |name: &str| format!("{home}/{name}");
    for words in [
        &["cert", "issue", "tides.test", "--out", &below("certificates")][..],
        &["cert", "issue", "crew.test", "--out", "shared/crew"],
        &["authority", "export", "--out", &below("root.pem")],
        &["check", "--report", &below("report.html")],
        &["pack", "depot.test", "--out", &below("packed")],
    ] {
        let ran = sudo(&harbour, words);
        assert!(ran.status <= 1, "{words:?}: {ran}");
    }
    let script = format!("find {home} {} -mindepth 1 ! -user ada", shared.display());
    let ran = harbour.machine.run("sh", &["-c", &script]).succeeds();
    assert_eq!(ran.stdout, "", "all of it is Ada's");
    // The user goes on without sudo.
    harbour.yandro(&["unmap", "depot.test"]).succeeds();
}

#[test]
fn commands_of_the_users_settings_run_as_the_user_and_roots_own_as_root() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada"]) else { return };
    let (machine, home) = (&harbour.machine, harbour.home(Some("ada")));
    let mark = |name: &str| machine.path("saltmarsh").join(name);
    for (name, place) in [("users", "mine"), ("roots", "everyone")] {
        let folder = machine.path(place);
        fs::create_dir(&folder).unwrap();
        let note = format!("sh -c \"id -un >{} && pwd\"", mark(name).display());
        let path = format!("{0}=/srv/{name}", folder.display());
        let site = format!("{}=/srv/www", machine.path("saltmarsh").display());
        let kept = format!("{home}/.local/share/yandro/certificates=/srv/kept");
        let add = [
            "servers", "add", name, "--kind", "nginx", "--config", place, "--path", &path, "--path", &site, "--path",
            &kept, "--reload", &note,
        ];
        if name == "roots" {
            let ran = harbour.yandro(&[&add[..], &["--for-everyone"]].concat());
            assert!(ran.status == 3 && ran.stderr.contains("/etc/yandro/servers.toml"), "{ran}");
            sudo(&harbour, &[&add[..], &["--for-everyone"]].concat()).succeeds();
            let meta = fs::metadata(machine.path("etc/yandro/servers.toml")).unwrap();
            assert_eq!((meta.uid(), meta.mode() & 0o777), (0, 0o644));
        } else {
            sudo(&harbour, &add).succeeds();
        }
        let ran = sudo(&harbour, &["servers", "reload", name]).succeeds();
        let user = fs::read_to_string(mark(name)).unwrap_or_else(|error| panic!("{error}: {ran}"));
        assert_eq!(user, if name == "roots" { "root\n" } else { "ada\n" });
    }
    // A list that others can change doesn't count.
    machine.run("chmod", &["666", "/etc/yandro/servers.toml"]).succeeds();
    let ran = harbour.yandro(&["servers"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: /etc/yandro/servers.toml: others than root can change this file or its folder, so the servers in it don't count
    [status 3]
    ");
}
