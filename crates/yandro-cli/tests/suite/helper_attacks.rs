//! The helper against a caller who may run it without a password and nothing else, with real servers.

use std::collections::BTreeSet;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::process::Stdio;

use camino::Utf8Path;
use serde_json::{Value, json};
use yandro_core::{ListId, OwnLine, ServerKind, with_own_hosts_lines};

use super::harbour::{Harbour, Server};
use super::kit::{Ran, YANDRO, steady, tree};

/// Ada may run the helper by sudo, and nothing else.
pub(super) fn harbour(server: Server) -> Option<Harbour> {
    let harbour = Harbour::new(server, &["ada", "bob"])?;
    fs::write(harbour.machine.path("etc/sudoers.d/ada"), format!("ada ALL=(root) NOPASSWD: {YANDRO} privileged\n"))
        .unwrap();
    // The program that hostile configuration would run as root.
    let marker = harbour.machine.path("saltmarsh/marker");
    fs::write(harbour.machine.path("evil"), format!("#!/bin/sh\nid >>{}\n", marker.display())).unwrap();
    fs::set_permissions(harbour.machine.path("evil"), fs::Permissions::from_mode(0o755)).unwrap();
    Some(harbour)
}

/// Has Ada's own yandro keep what it says to the helper, while it runs these commands.
pub(super) fn requests(harbour: &Harbour, commands: &[&[&str]]) -> Vec<Value> {
    let machine = &harbour.machine;
    machine.run("cp", &["-p", "/usr/bin/sudo", machine.path("sudo").to_str().unwrap()]).succeeds();
    let log = machine.path("ada/requests");
    let wrapper = format!("#!/bin/sh\ntee -a {} | {} \"$@\"\n", log.display(), machine.path("sudo").display());
    fs::write(machine.path("sudo-kept"), wrapper).unwrap();
    fs::set_permissions(machine.path("sudo-kept"), fs::Permissions::from_mode(0o755)).unwrap();
    machine.run("mount", &["--bind", machine.path("sudo-kept").to_str().unwrap(), "/usr/bin/sudo"]).succeeds();
    for command in commands {
        harbour.yandro(command).succeeds();
    }
    machine.run("umount", &["/usr/bin/sudo"]).succeeds();
    let text = fs::read_to_string(log).unwrap();
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// Speaks with one helper as Ada; gives its answers.
pub(super) fn say(harbour: &Harbour, requests: &[String]) -> Ran {
    let machine = &harbour.machine;
    let ids = ["--reuid", "ada", "--regid", "ada", "--init-groups", "sudo", YANDRO, "privileged"];
    let mut command = machine.command("setpriv");
    let mut child =
        command.args(ids).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let text: String = requests.iter().map(|request| format!("{request}\n")).collect();
    let mut input = child.stdin.take().unwrap();
    // The helper may end before it has read everything.
    let writer = std::thread::spawn(move || _ = input.write_all(text.as_bytes()));
    let output = child.wait_with_output().unwrap();
    writer.join().unwrap();
    Ran::of(output, machine.root())
}

/// Root's files and links: a line for each, with its content.
pub(super) fn system(harbour: &Harbour) -> BTreeSet<String> {
    let of = |below: &'static str| {
        let tree = tree(&harbour.machine.path(below));
        tree.lines().map(|line| format!("{below}/{line}")).collect::<Vec<_>>()
    };
    let all = ["etc", "apache2", "local"].into_iter().flat_map(of);
    // Linux shows there what is mounted over it.
    all.filter(|line| !line.starts_with("etc/apache2/") && !line.starts_with("etc/sudoers.d/")).collect()
}

/// Whatever was asked for: nothing changed but what yandro may write, and nothing in that hands over control.
pub(super) fn is_sound(harbour: &Harbour, before: &BTreeSet<String>, when: &str) {
    let machine = &harbour.machine;
    assert!(!machine.path("saltmarsh/marker").exists(), "root ran a program of Ada's: {when}");
    let now = system(harbour);
    for line in now.symmetric_difference(before) {
        let (path, rest) = line.split_once(' ').unwrap();
        let name = path.rsplit('/').next().unwrap();
        let is_own = name.strip_suffix(".conf").is_some_and(|name| name.starts_with("yandro-"));
        let is_module = path.starts_with("apache2/mods-enabled/") && rest.starts_with("-> ../mods-available/");
        assert!(is_own || is_module || path == "apache2/ports.conf", "{line}\nchanged: {when}");
        if is_own && now.contains(line) && !rest.starts_with("->") {
            let kind = if path.contains("nginx") { ServerKind::Nginx } else { ServerKind::Apache };
            let text = fs::read(machine.path(path)).unwrap();
            assert_eq!(kind.foreign_directives(&text), Some(Vec::new()), "{line}: {when}");
        }
    }
    let hosts = machine.hosts();
    let is_known = |line: &str| line.is_empty() || line.starts_with('#') || line.contains(".test");
    let (first, rest) = hosts.split_once('\n').unwrap();
    assert!(first == "127.0.0.1 localhost" && rest.lines().all(is_known), "{when}\n{hosts}");
}

#[test]
fn users_who_may_only_run_the_helper_have_all_usual_commands() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(harbour) = harbour(server) else { return };
        let before = system(&harbour);
        for command in [
            &["map", "depot.test", "./saltmarsh", "--server", server.word()][..],
            &[
                "map",
                "tides.test",
                "./saltmarsh",
                "--server",
                server.word(),
                "--https-port",
                "8443",
                "--http-port",
                "8080",
            ],
            &["map", "depot.test", "--alias", "www.depot.test"],
            &["map", "crew.test", "http://127.0.0.1:9", "--server", server.word(), "--no-wait"],
            &["unmap", "depot.test"],
            &["undo"],
            &["undo"],
            &["settle", "--yes"],
            &["unmap", "depot.test"],
            &["unmap", "tides.test"],
        ] {
            let ran = harbour.yandro(command);
            assert!(ran.status <= 1 || command[1] == "crew.test", "{command:?}: {ran}");
        }
        harbour.is_alive("after all commands");
        let now = system(&harbour);
        assert_eq!(now.symmetric_difference(&before).collect::<Vec<_>>(), Vec::<&String>::new());
    }
}

#[test]
fn decisions_for_root_are_reported_before_a_password_is_asked() {
    let Some(harbour) = harbour(Server::Apache) else { return };
    let machine = &harbour.machine;
    let root = machine.root().display().to_string();
    fs::write(machine.path("saltmarsh/extra.conf"), "CustomLog \"|/bin/sh\" common\n").unwrap();
    harbour.yandro(&["map", "depot.test", "./saltmarsh"]).succeeds();
    let conflict = "10.0.0.7 crew.test\n";
    let before = (system(&harbour), machine.hosts());
    fs::write(machine.path("hosts"), before.1.clone() + conflict).unwrap();
    for (command, why) in [
        (
            &["map", "tides.test", "./saltmarsh", "--extra", "saltmarsh/extra.conf"][..],
            "the site `tides.test` includes",
        ),
        (&["map", "tides.test", "./saltmarsh", "--logs", "/etc/cron.d"], "they must be in a folder such as"),
        (&["map", "tides.test", "./saltmarsh", "--logs", "./saltmarsh"], "they must be in a folder such as"),
        (&["map", "tides.test", "./saltmarsh", "--php=/run/none.sock"], "which is not a socket"),
        (&["map", "tides.test", "./saltmarsh", "--by-address", "on"], "also for other users' sites"),
        (&["map", "crew.test", "./saltmarsh", "--take-over"], "/etc/hosts: "),
        (&["hosts", "point", "crew.test", "10.0.0.8"], "/etc/hosts: "),
    ] {
        let ran = harbour.yandro(command);
        eprintln!("{}", ran.stderr);
        assert!(ran.status == 3 && ran.stderr.contains(why), "{command:?}: {ran}");
        assert!(ran.stderr.contains(&format!("sudo {YANDRO} {}", command[..2].join(" "))), "{command:?}: {ran}");
        assert!(!ran.stderr.contains("sudo is asked"), "{command:?}: {ran}");
    }
    fs::write(machine.path("hosts"), &before.1).unwrap();
    assert_eq!((system(&harbour), machine.hosts()), before);
    // A user with full sudo rights runs the command from the message.
    fs::write(machine.path("etc/sudoers.d/ada"), "ada ALL=(root) NOPASSWD: ALL\n").unwrap();
    let ran = harbour.yandro(&["map", "tides.test", "./saltmarsh", "--logs", &format!("{root}/saltmarsh/logs")]);
    let fix = ran.stderr.lines().find_map(|line| line.split_once(": sudo ")).expect("a command").1.to_owned();
    let line = ["--reuid", "ada", "--regid", "ada", "--init-groups", "sh", "-c"];
    machine.run("setpriv", &[&line[..], &[&format!("sudo {fix}")]].concat()).succeeds();
    harbour.is_alive("after the command that was named");
    // The site stays as it is when the user's own yandro changes another one.
    harbour.yandro(&["unmap", "depot.test"]).succeeds();
    harbour.yandro(&["unmap", "tides.test"]).succeeds();
}

/// A plan for one path, as somebody would send it who knows what root would write.
fn plan(wish: &Value, path: &str, from: &Value, to: &Value) -> String {
    json!({ "step": "plan", "wish": wish, "asked": [{ "path": path, "from": from, "to": to }] }).to_string()
}

fn sha256(harbour: &Harbour, path: &str) -> Value {
    let ran = harbour.machine.run("sha256sum", &[path]).succeeds();
    json!({ "is": "file", "sha256": ran.stdout.split(' ').next().unwrap() })
}

#[test]
fn the_helper_itself_refuses_what_its_callers_side_would_not_ask_for() {
    let Some(harbour) = harbour(Server::Apache) else { return };
    let (machine, home) = (&harbour.machine, harbour.home(Some("ada")));
    let seeds = requests(&harbour, &[&["map", "depot.test", "./saltmarsh"]]);
    let wish = seeds.iter().find(|request| request["step"] == "plan").unwrap()["wish"].clone();
    let before = (system(&harbour), machine.hosts());
    let absent = json!({ "is": "absent" });
    let refuses = |request: String, why: &str| {
        let ran = say(&harbour, &[request]);
        assert!(ran.stdout.contains("\"answer\":\"objections\"") && ran.stdout.contains(why), "{why}: {ran}");
    };
    let file = "/etc/apache2/sites-available/yandro-tides.test.conf";
    // Real root writes the file for Ada first, so that the test knows its digest.
    let id = machine.run("id", &["-u", "ada"]).stdout.trim().to_owned();
    let as_root = |words: &[&str]| machine.run("env", &[&[&format!("SUDO_UID={id}"), YANDRO], words].concat());
    for (options, why) in [
        (["--extra", "evil.conf"], "have the server run any program"),
        (["--logs", "./logs"], "that only root can change"),
    ] {
        fs::write(machine.path("evil.conf"), "Header set X-Ferry tide\n").unwrap();
        machine
            .run("ln", &["-sfn", "../mods-available/headers.load", "/etc/apache2/mods-enabled/headers.load"])
            .succeeds();
        as_root(&[&["map", "tides.test", "./saltmarsh"][..], &options].concat()).succeeds();
        let after = machine.run("cat", &[&format!("{home}/.config/yandro/sites.toml")]).succeeds().stdout;
        let (text, content) = (after.replace("$ROOT", machine.root().to_str().unwrap()), sha256(&harbour, file));
        as_root(&["undo"]).succeeds();
        let mut wish = wish.clone();
        (wish["before"], wish["after"]) = (wish["after"].clone(), json!(text));
        refuses(plan(&wish, file, &absent, &content), why);
        // The same without the option is planned, and is another content.
        refuses(plan(&seeds[0]["wish"], file, &absent, &content), "your site list does not ask for this change");
    }
    machine.run("rm", &["/etc/apache2/mods-enabled/headers.load"]).succeeds();
    assert_eq!((system(&harbour), machine.hosts()), before);

    // Lists and folders that are another user's, and names that would end a comment.
    let hosts = sha256(&harbour, "/etc/hosts");
    for (key, value, why) in [
        ("config", json!("/root/.config/yandro"), "does not belong to the user"),
        ("data", json!("/etc/yandro"), "does not belong to the user"),
        ("config", json!(format!("{home}/../bob")), "does not belong to the user"),
        ("config", json!(format!("{home}/a\n10.0.0.1 b.test")), "does not belong to the user"),
        ("hosts", json!([{ "address": "10.0.0.1", "names": ["x\n10.0.0.2"] }]), "is not a host name"),
        ("hosts", json!([{ "address": "10.0.0.1", "names": ["localhost"] }]), "`localhost` is not a host name"),
        ("hosts", json!([{ "address": "10.0.0.1", "names": ["crew.test"] }]), "lines outside your own block"),
    ] {
        let mut wish = wish.clone();
        wish[key] = value;
        refuses(plan(&wish, "/etc/hosts", &hosts, &json!({ "is": "file", "sha256": "0".repeat(64) })), why);
    }
    // The file of an early build, which names no list: it may be another user's.
    let early = "/etc/apache2/sites-available/yandro-pier.test.conf";
    let text = "# pier.test: kept by `yandro map`; lines that you add here stay\n<VirtualHost *:80>\n\tServerName pier.test\n</VirtualHost>\n";
    fs::write(machine.path("apache2/sites-available/yandro-pier.test.conf"), text).unwrap();
    let mut gone = wish.clone();
    gone["before"] = json!("[[site]]\nname = \"pier.test\"\nfolder = \"/srv\"\nserver = \"apache\"\n");
    gone["after"] = json!("");
    (gone["applied"], gone["wanted"]) = (gone["before"].clone(), json!(""));
    refuses(plan(&gone, early, &sha256(&harbour, early), &absent), "does not name your site list");
    machine.run("rm", &[early]).succeeds();
    // A site in the place of the default virtual hosts, whose file all users share.
    let mut shared = wish.clone();
    let others = "/etc/apache2/sites-available/yandro-0.invalid.conf";
    shared["after"] = json!(format!(
        "[[site]]\nname = \"0.invalid\"\nfolder = \"{home}\"\nserver = \"apache\"\nextra = \"{home}/evil.conf\"\n"
    ));
    refuses(plan(&shared, others, &sha256(&harbour, others), &hosts), "can't be the name of a site");
    let ran = harbour.yandro(&["map", "0.invalid", "./saltmarsh"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: `0.invalid` can't be the name of a site: yandro's default virtual hosts for unknown host names have it
    [status 3]
    ");
    // Lines that the helper could write, and that are of no site of the list.
    let list = ListId::new("ada", Utf8Path::new(&format!("{home}/.config/yandro/sites.toml")));
    for (address, name) in [("10.0.0.1", "intranet"), ("10.0.0.1", "depot.test"), ("127.0.0.1", "bank.example.com")] {
        let lines = [OwnLine { address: address.parse().unwrap(), names: vec![name.to_owned()] }];
        let after = with_own_hosts_lines(machine.hosts().as_bytes(), &list, &lines).unwrap();
        let mut wish = wish.clone();
        wish["hosts"] = json!(lines);
        let to = json!({ "is": "file", "sha256": yandro_machine::files::sha256(&after) });
        refuses(plan(&wish, "/etc/hosts", &hosts, &to), "your site list has no site");
    }
    // A file of somebody's in the place of a link, and paths that are none of yandro's.
    for path in ["/etc/shadow", "/etc/apache2/apache2.conf", "/etc/sudoers.d/ada", "/var/lib/yandro/helper/journal"] {
        refuses(plan(&wish, path, &sha256(&harbour, path), &absent), "your site list does not ask for this change");
    }
    refuses(plan(&wish, "/etc/apache2/../shadow", &absent, &absent), "is not a plain absolute path");
    refuses(plan(&wish, &format!("{home}/x"), &absent, &absent), "can be changed by others than root");
    assert_eq!((system(&harbour), machine.hosts()), before);
    harbour.is_alive("after all that");
}

#[test]
fn no_root_certificate_but_the_callers_own_constrained_one_is_trusted() {
    let Some(harbour) = harbour(Server::Apache) else { return };
    let (machine, home) = (&harbour.machine, harbour.home(Some("ada")));
    let seeds = requests(&harbour, &[&["map", "depot.test", "./saltmarsh"]]);
    let wish = seeds.iter().find(|request| request["step"] == "plan").unwrap()["wish"].clone();
    let own = format!("{home}/.local/share/yandro/authority/root.pem");
    let make = |name: &str, line: &str| {
        let path = machine.path(name).display().to_string();
        let script = format!("cd {}; {}", machine.root().display(), line.replace("{}", &path));
        machine.run("sh", &["-c", &script]).succeeds();
        path
    };
    let request =
        "openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout /dev/null -days 9 -out {}";
    let subject = "-subj '/O=Yandro local authority of ada@vm/CN=Yandro root for ada@vm, 2026-01-01 0001'";
    let constraints =
        "-addext basicConstraints=critical,CA:TRUE,pathlen:1 -addext keyUsage=critical,keyCertSign,cRLSign";
    // Its last byte is another one.
    let forged = "x=$(openssl x509 -in OWN -outform DER | od -An -v -tx1 | tr -d ' \\n'); case $x in *00) y=01 ;; *) y=00 ;; esac; printf '%s' \"${x%??}$y\" | sed 's/../\\\\x&/g' | xargs -0 printf | openssl x509 -inform DER -out {}";
    harbour.yandro_as(Some("bob"), &["map", "crew.test", "./saltmarsh"]).succeeds();
    for (name, line, why) in [
        ("plain.pem", format!("{request} -subj /CN=evil"), "it is not a root certificate of yandro"),
        ("unconstrained.pem", format!("{request} {subject} {constraints}"), "it is not a root certificate of yandro"),
        (
            "optional.pem",
            format!("{request} {subject} {constraints} -addext 'nameConstraints=permitted;DNS:test'"),
            "it is not a root certificate of yandro",
        ),
        ("forged.pem", forged.replace("OWN", &own), "it is not signed with its own key"),
        ("two.pem", format!("cat {own} {own} >{{}}"), "more than one certificate"),
        (
            "bobs.pem",
            format!("cp {}/.local/share/yandro/authority/root.pem {{}}", harbour.home(Some("bob"))),
            "it was made for another user",
        ),
    ] {
        let path = make(name, &line);
        let text = machine.run("cat", &[&path]).succeeds().stdout;
        let script = format!("openssl x509 -in {path} -outform DER | sha256sum");
        let digest = machine.run("sh", &["-c", &script]).succeeds().stdout[..16].to_owned();
        let mut wish = wish.clone();
        wish["root"] = json!(text);
        let anchor = format!("/usr/local/share/ca-certificates/yandro-{digest}.crt");
        let ran = say(&harbour, &[plan(&wish, &anchor, &json!({ "is": "absent" }), &sha256(&harbour, &path))]);
        assert!(ran.stdout.contains("\"answer\":\"objections\"") && ran.stdout.contains(why), "{name}: {ran}");
    }
    // Ada's own is taken; a wider one is for root to decide.
    harbour.yandro(&["authority", "trust", "--store", "system"]).succeeds();
    harbour.yandro(&["authority", "distrust", "--store", "system"]).succeeds();
    harbour.yandro(&["authority", "widen", "saltmarsh.example.com"]).succeeds();
    let ran = harbour.yandro(&["authority", "trust", "--store", "system"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: only root can decide this, and nothing was changed:
      /usr/local/share/ca-certificates/yandro-HEX.crt: it may speak for names below `saltmarsh.example.com`, which other users of this computer may rely on
    fix: if you want that, run the command as root: sudo yandro authority trust --store system
    [status 3]
    ");
}

#[test]
fn root_loads_and_replaces_nothing_that_is_another_users() {
    let Some(harbour) = harbour(Server::Apache) else { return };
    let machine = &harbour.machine;
    // A file of root's where a module's link would be.
    machine
        .run("sh", &["-c", "cp /etc/apache2/mods-available/rewrite.load /etc/apache2/mods-enabled/rewrite.load"])
        .succeeds();
    let before = system(&harbour);
    _ = harbour.yandro(&["map", "depot.test", "./saltmarsh"]);
    _ = harbour.yandro(&["unmap", "depot.test"]);
    assert_eq!(system(&harbour), before);
    // A server as its makers ship it: its modules are switched on by lines of the main file.
    machine.run("apache2ctl", &["-k", "stop"]).succeeds();
    super::layouts::as_shipped(machine);
    harbour.yandro(&["map", "depot.test", "./saltmarsh"]).succeeds();
    harbour.yandro(&["unmap", "depot.test"]).succeeds();
    let before = system(&harbour);
    // The modules' folder is Ada's now: what root would load she can change.
    let script = "cd /usr/local/apache2; rm modules; cp -rL /usr/lib/apache2/modules $1/ada/modules; chown -R ada $1/ada/modules; ln -s $1/ada/modules modules";
    machine.run("sh", &["-euc", script, "sh", machine.root().to_str().unwrap()]).succeeds();
    let planted = system(&harbour);
    let ran = harbour.yandro(&["map", "depot.test", "./saltmarsh"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: only root can decide this, and nothing was changed:
      /usr/local/apache2/conf/httpd.conf: /usr/local/apache2/conf/httpd.conf would change by more than switches, or load what others than root can change
    fix: if you want that, run the command as root: sudo yandro map depot.test ./saltmarsh
    [status 3]
    ");
    assert_eq!(system(&harbour), planted);
    // The same with the folder of sites' files, which the main file would include.
    machine.run("sh", &["-c", "rm /usr/local/apache2/modules; ln -s /usr/lib/apache2/modules /usr/local/apache2/modules; chown ada /usr/local/apache2/conf/extra"]).succeeds();
    let ran = harbour.yandro(&["map", "depot.test", "./saltmarsh"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: only root can decide this, and nothing was changed:
      /usr/local/apache2/conf/httpd.conf: Apache httpd would read /usr/local/apache2/conf/extra, which others than root can change
    fix: if you want that, run the command as root: sudo yandro map depot.test ./saltmarsh
    [status 3]
    ");
    machine.run("chown", &["root", "/usr/local/apache2/conf/extra"]).succeeds();
    assert_eq!(system(&harbour), before);
    // A program or a main file of Ada's is not run as root either, whatever is asked of the server.
    let verbs = ["test", "reload", "start-or-reload", "start"];
    let ask = verbs.map(|verb| json!({ "step": "control", "server": "apache", "verb": verb }).to_string());
    for (theirs, script) in [
        ("/usr/local/apache2/conf/httpd.conf", "chown ada $2"),
        (
            "/usr/local/apache2/bin/httpd",
            "chown root /usr/local/apache2/conf/httpd.conf; mkdir -p /usr/local/apache2/bin; rm -f $2; cp $1/evil $2; chown ada $2",
        ),
    ] {
        machine.run("sh", &["-euc", script, "sh", machine.root().to_str().unwrap(), theirs]).succeeds();
        let ran = say(&harbour, &ask);
        let refusal = format!("{theirs} can be changed by others than root");
        assert_eq!(ran.stdout.matches(&refusal).count(), verbs.len(), "{ran}");
        assert!(!machine.path("saltmarsh/marker").exists(), "root ran a program of Ada's");
    }
}

#[test]
fn a_line_that_was_added_by_hand_to_the_users_block_stays_and_stops_nothing() {
    let Some(harbour) = harbour(Server::Apache) else { return };
    harbour.yandro(&["map", "depot.test", "./saltmarsh"]).succeeds();
    let line = "10.0.0.7\tnas.test\n# end of yandro sites";
    let edited = harbour.machine.hosts().replace("# end of yandro sites", line);
    fs::write(harbour.machine.path("hosts"), &edited).unwrap();
    harbour.yandro(&["map", "tides.test", "./saltmarsh"]).succeeds();
    harbour.yandro(&["unmap", "tides.test"]).succeeds();
    assert_eq!(harbour.machine.hosts(), edited);
}
