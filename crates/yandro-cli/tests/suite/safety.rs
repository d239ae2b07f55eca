//! Nobody's server dies, nobody's site disappears: commands in quick succession, interrupted at any
//! moment, by several users, with real servers that have other sites.
//!
//! A short form runs with the suite. `scripts/measure-safety` runs the long one, by `YANDRO_FULL`.

use std::fs;
use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use super::harbour::{Harbour, Server};
use super::kit::{Numbers, YANDRO, eventually, tree};

/// How many trials: `short` with the suite, `full` in a measurement.
fn trials(short: usize, full: usize) -> usize {
    if std::env::var_os("YANDRO_FULL").is_some() { full } else { short }
}

fn quick_unmaps(server: Server, users: &[&'static str], number: usize) {
    let Some(harbour) = Harbour::new(server, users) else { return };
    let user = harbour.user.unwrap_or("root");
    let script = format!(
        "for i in $(seq {number}); do printf '[[site]]\\nname = \"boat%s.test\"\\nfolder = \"{root}/saltmarsh\"\\nserver = \"{server}\"\\n' $i; done",
        root = harbour.machine.root().display(),
        server = server.word(),
    );
    let list = harbour.machine.run("sh", &["-c", &script]).stdout;
    let config = harbour.machine.path(harbour.user.unwrap_or("home")).join(".config/yandro");
    harbour.yandro(&["map", "first.test", "./saltmarsh", "--server", server.word(), "--quiet"]).succeeds();
    fs::write(config.join("sites.toml"), list.replace("$ROOT", harbour.machine.root().to_str().unwrap())).unwrap();
    harbour.yandro(&["settle", "--quiet", "--yes"]).succeeds();
    for boat in 1..=number {
        let ran = harbour.yandro(&["unmap", &format!("boat{boat}.test"), "--quiet"]);
        assert_eq!(ran.status, 0, "{ran}");
    }
    harbour.is_alive(&format!("after {number} quick unmaps by {user}"));
    eprintln!("{number} quick unmaps on {} by {user}: the server ran throughout", server.word());
}

#[test]
fn quick_unmaps_leave_apache_httpd_running() {
    quick_unmaps(Server::Apache, &[], trials(40, 500));
}

#[test]
fn quick_unmaps_by_an_ordinary_user_leave_nginx_running() {
    quick_unmaps(Server::Nginx, &["ada"], trials(15, 500));
}

/// Sends a signal to a command and to all that it started, at a moment of chance, and looks what is left.
fn interrupted(server: Server, users: &[&'static str], signals: &[&str], number: usize) {
    let Some(harbour) = Harbour::new(server, users) else { return };
    harbour.yandro(&["map", "depot.test", "./saltmarsh", "--server", server.word()]).succeeds();
    let map = ["map", "tides.test", "./saltmarsh", "--server", server.word()];
    let unmap = ["unmap", "tides.test"];
    let without = harbour.state();
    let began = Instant::now();
    harbour.yandro(&map).succeeds();
    let took = began.elapsed();
    let with = harbour.state();
    harbour.yandro(&unmap).succeeds();
    assert_eq!(harbour.state(), without);
    let mut numbers = Numbers(7);
    let (mut is_mapped, mut rolled_back, mut finished) = (false, 0, 0);
    for trial in 0..number {
        let words: &[&str] = if is_mapped { &unmap } else { &map };
        let signal = signals[trial % signals.len()];
        let pause = Duration::from_micros(numbers.below(u64::try_from(took.as_micros()).unwrap() + 20_000) as u64);
        let status = signalled(&harbour, words, signal, pause);
        if signal == "KILL" {
            harbour.yandro(&["sites"]).succeeds();
        }
        let place = format!("{words:?}, SIG{signal} after {pause:?}: {status:?}");
        let state = harbour.state();
        assert!(state == with || state == without, "between: {place}\n{}", differences(&state, &without, &with));
        assert_eq!(harbour.unfinished(), Vec::<String>::new(), "{place}");
        harbour.is_alive(&place);
        let now = state == with;
        if now == is_mapped {
            rolled_back += 1;
        } else {
            finished += 1;
        }
        is_mapped = now;
    }
    eprintln!(
        "{number} interruptions of map and unmap on {} by {} ({}): {rolled_back} as before, {finished} done, 0 between, the server ran throughout",
        server.word(),
        harbour.user.unwrap_or("root"),
        signals.join(", ")
    );
    assert!(rolled_back > 0, "no signal came in time");
}

/// Runs a command in a separate process group and sends that a signal, as a terminal does.
fn signalled(harbour: &Harbour, words: &[&str], signal: &str, pause: Duration) -> Option<i32> {
    let line = Harbour::line(harbour.user, words);
    let mut command = harbour.machine.command("sh");
    command.args(["-c", r#"cd "$1"; shift; exec "$@""#, "sh"]).arg(harbour.machine.root()).args(line);
    command.env("HOME", harbour.home(harbour.user)).process_group(0);
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(pause);
    // The shell that kills says when the group is gone already.
    Command::new("kill")
        .args(["-s", signal, "--", &format!("-{}", child.id())])
        .stderr(Stdio::null())
        .status()
        .unwrap();
    let status = child.wait().unwrap();
    // nsenter waits for its child; killed itself, it doesn't.
    eventually("nothing of the command runs any more", || {
        harbour.machine.run("pgrep", &["-x", "-r", "D,R,S", "yandro"]).stdout.is_empty()
    });
    status.code()
}

fn differences(state: &str, before: &str, after: &str) -> String {
    let differs = |other: &str| {
        let gone = other.lines().filter(|line| !state.lines().any(|own| own == *line)).map(|line| format!("- {line}"));
        let new = state.lines().filter(|line| !other.lines().any(|own| own == *line)).map(|line| format!("+ {line}"));
        gone.chain(new).collect::<Vec<_>>().join("\n")
    };
    format!("against before:\n{}\nagainst after:\n{}", differs(before), differs(after))
}

const SIGNALS: [&str; 4] = ["INT", "TERM", "HUP", "QUIT"];

#[test]
fn a_signal_at_any_moment_rolls_back_or_finishes() {
    interrupted(Server::Apache, &[], &SIGNALS, trials(16, 300));
}

#[test]
fn a_signal_to_an_ordinary_users_command_rolls_back_or_finishes() {
    interrupted(Server::Nginx, &["ada"], &SIGNALS, trials(8, 200));
}

#[test]
fn killed_at_any_moment_the_next_command_rolls_back_and_the_server_runs() {
    interrupted(Server::Apache, &["ada"], &["KILL"], trials(10, 100));
}

/// The calls that change files, with whether each makes or opens one for writing.
const CALLS: &str = "?openat,?write,?fsync,?fchmod,?fchown,?rename,?renameat2,?unlink,?unlinkat,?rmdir,?mkdir,?mkdirat,?symlink,?symlinkat,?ftruncate,?link,?linkat";

/// Kills a command at every `step`th of its calls that change something, with the server running.
fn killed_at_calls(prepare: &[&[&str]], words: &[&str], step: usize) {
    let Some(harbour) = Harbour::new(Server::Apache, &[]) else { return };
    harbour.yandro(&["map", "depot.test", "./saltmarsh"]).succeeds();
    // The last change, whether it is an undo itself or not.
    let undo = |harbour: &Harbour| {
        let listed = harbour.yandro(&["history", "--json"]).succeeds().stdout;
        let listed: serde_json::Value = serde_json::from_str(&listed).unwrap();
        let last = listed["changes"].as_array().unwrap().last().unwrap()["id"].to_string();
        harbour.yandro(&["undo", &last, "--quiet"]).succeeds();
    };
    for command in prepare {
        harbour.yandro(command).succeeds();
    }
    let before = harbour.state();
    // The counter of an injection is each thread's own: one thread does all the changing.
    let strace = |extra: &[&str], words: &[&str]| {
        let log = harbour.machine.path("strace.log");
        let line = [&["-o", log.to_str().unwrap()], extra, &[YANDRO], words].concat();
        harbour.machine.run("strace", &line)
    };
    strace(&["-e", &format!("trace={CALLS}")], words);
    let text = fs::read_to_string(harbour.machine.path("strace.log")).unwrap();
    let after = harbour.state();
    assert_ne!(before, after);
    undo(&harbour);
    let mut counts = std::collections::BTreeMap::<String, usize>::new();
    let mut points = Vec::new();
    for line in text.lines() {
        let Some((call, rest)) = line.split_once('(') else { continue };
        let count = counts.entry(call.to_owned()).or_default();
        *count += 1;
        if call != "openat" || rest.contains("O_CREAT") || rest.contains("O_WRONLY") {
            points.push((call.to_owned(), *count));
        }
    }
    let mut tried = 0;
    for (call, when) in points.iter().step_by(step) {
        assert_eq!(harbour.state(), before);
        strace(&["-e", &format!("inject={call}:signal=KILL:when={when}")], words);
        harbour.yandro(&["sites"]).succeeds();
        let state = harbour.state();
        let place = format!("{words:?} killed at {call} number {when}");
        assert!(state == before || state == after, "between: {place}\n{}", differences(&state, &before, &after));
        assert_eq!(harbour.unfinished(), Vec::<String>::new(), "{place}");
        harbour.is_alive(&place);
        if state == after {
            undo(&harbour);
        }
        tried += 1;
    }
    eprintln!(
        "{words:?}: killed at {tried} of {} calls with Apache httpd running: 0 between, 0 lost, 0 left over, the server ran throughout",
        points.len()
    );
    assert!(points.len() > 20, "only {} points were found", points.len());
}

#[test]
fn a_map_killed_at_its_calls_leaves_the_server_running() {
    killed_at_calls(&[], &["map", "tides.test", "./saltmarsh"], trials(7, 1));
}

#[test]
fn an_unmap_killed_at_its_calls_leaves_the_server_running() {
    killed_at_calls(&[&["map", "tides.test", "./saltmarsh"]], &["unmap", "tides.test"], trials(7, 1));
}

#[test]
fn an_undo_killed_at_its_calls_leaves_the_server_running() {
    killed_at_calls(&[&["map", "tides.test", "./saltmarsh"]], &["undo"], trials(9, 1));
}

#[test]
fn two_users_never_touch_each_others_sites() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada", "bob"]) else { return };
    let machine = &harbour.machine;
    let start = (tree(&machine.path("apache2")), machine.hosts());
    let mut numbers = Numbers(11);
    let rounds = trials(3, 100);
    for round in 0..rounds {
        let mut trail = Vec::new();
        for _ in 0..6 {
            let turn = numbers.below(2);
            let (user, other) = (["ada", "bob"][turn], ["bob", "ada"][turn]);
            let name = format!("{user}{}.test", numbers.below(2));
            let words: Vec<&str> = match numbers.below(6) {
                0..=2 => vec!["map", &name, "./saltmarsh"],
                3 => vec!["unmap", &name],
                4 => vec!["settle", "--yes"],
                _ => vec!["undo"],
            };
            trail.push(format!("{user}: {}", words.join(" ")));
            let others = sites_of(&harbour, other);
            let ran = harbour.yandro_as(Some(user), &words);
            assert!(ran.status <= 3, "{user}: {words:?}: {ran}");
            assert_eq!(sites_of(&harbour, other), others, "{user}: {words:?}: {ran}");
            // The other's list has nothing to put right but a certificate of theirs that the shared
            // virtual hosts had until now.
            let state = || (tree(&machine.path("apache2")), machine.hosts());
            let before = state();
            let settled = harbour.yandro_as(Some(other), &["settle"]).succeeds();
            assert_eq!(state(), before, "round {round}: {trail:?}: {ran}, then {other}: {settled}");
        }
        harbour.is_alive(&format!("round {round}"));
        for user in ["ada", "bob"] {
            let list = harbour.yandro_as(Some(user), &["sites", "--json"]).succeeds().stdout;
            let list: serde_json::Value = serde_json::from_str(&list).unwrap();
            let names = list["sites"].as_array().unwrap().iter().map(|site| site["name"].as_str().unwrap());
            let names: Vec<&str> = std::iter::once("unmap").chain(names).collect();
            if names.len() > 1 {
                harbour.yandro_as(Some(user), &names).succeeds();
            }
        }
        assert_eq!((tree(&machine.path("apache2")), machine.hosts()), start, "round {round}");
    }
    eprintln!("{rounds} rounds of 6 commands by two users: each kept their sites, and nothing was left");
}

/// A user's lines of the hosts file and virtual hosts.
fn sites_of(harbour: &Harbour, user: &str) -> Vec<String> {
    let hosts = harbour.machine.hosts();
    let files = tree(&harbour.machine.path("apache2"));
    let is_theirs = |line: &&str| line.contains(&format!("yandro-{user}")) || line.contains(&format!("\t{user}"));
    let mut lines: Vec<String> = hosts.lines().chain(files.lines()).filter(is_theirs).map(str::to_owned).collect();
    lines.sort();
    lines
}

#[test]
fn an_ordinary_user_controls_a_server_through_sudo_and_is_refused_without() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(harbour) = Harbour::new(server, &["ada"]) else { return };
        let name = server.word();
        for (verb, done) in [
            ("test", "accepts its configuration"),
            ("reload", "was reloaded"),
            ("stop", "was stopped"),
            ("start", "was started"),
            ("restart", "was restarted"),
        ] {
            let ran = harbour.yandro(&["servers", verb, name]).succeeds();
            assert!(ran.stdout.contains(&format!("{name} {done}")), "{ran}");
            assert_eq!(harbour.answers(), verb != "stop", "{verb}");
        }
        fs::remove_file(harbour.machine.path("etc/sudoers.d/ada")).unwrap();
        let pid = harbour.pid_now();
        for verb in ["reload", "stop", "restart"] {
            let ran = harbour.yandro(&["servers", verb, name]);
            assert!(ran.status == 3 && ran.stderr.contains("nothing was changed"), "{ran}");
        }
        let ran = harbour.yandro(&["map", "tides.test", "./saltmarsh", "--server", name]);
        assert!(ran.status == 3 && ran.stderr.contains("nothing was changed"), "{ran}");
        assert!(harbour.answers() && harbour.pid_now() == pid);
    }
}

#[test]
fn an_undo_brings_no_certificate_of_another_list_back() {
    let Some(harbour) = Harbour::new(Server::Apache, &["ada", "bob"]) else { return };
    let run = |user: &str, line: &str| {
        harbour.yandro_as(Some(user), &line.split(' ').collect::<Vec<_>>()).succeeds();
    };
    run("ada", "map ada.test ./saltmarsh");
    run("bob", "map bob.test ./saltmarsh");
    // The default virtual hosts have ada's certificate until the last site is gone.
    run("ada", "unmap ada.test");
    run("bob", "unmap bob.test");
    harbour.machine.run("sh", &["-c", "rm -r ada/.local"]).succeeds();
    run("bob", "undo");
    harbour.is_alive("after the undo");
    for user in ["ada", "bob"] {
        let settled = harbour.yandro_as(Some(user), &["settle"]);
        assert!(settled.status == 0 && settled.stdout.contains("nothing was changed"), "{user}: {settled}");
    }
    run("bob", "check bob.test");
}
