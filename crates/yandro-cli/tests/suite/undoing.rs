//! Random sequences of commands, all of them undone: what is left is what was there before, and what
//! the user edited meanwhile.

use std::fs;

use super::kit::{Numbers, Sysroot};

/// How many sequences, of how many commands: a thousand in a measurement (`scripts/measure-safety`).
fn sequences() -> u64 {
    if std::env::var_os("YANDRO_FULL").is_some() { 1000 } else { 24 }
}
const COMMANDS: usize = 12;

/// A machine with lines and files of its user's own.
fn machine() -> Sysroot {
    let sysroot = Sysroot::with_apache();
    sysroot.write(
        "etc/hosts",
        "127.0.0.1\tlocalhost\n10.0.0.5 depot.saltmarsh.test buoy.test # the old machine\n10.0.0.6 tides.test\n",
    );
    fs::create_dir_all(sysroot.path("usr/local/share/ca-certificates")).unwrap();
    for folder in ["etc/nginx/sites-available", "etc/nginx/sites-enabled"] {
        fs::create_dir_all(sysroot.path(folder)).unwrap();
    }
    sysroot.write("etc/nginx/nginx.conf", "events {}\nhttp {\n\tinclude /etc/nginx/sites-enabled/*;\n}\n");
    sysroot
}

fn command(numbers: &mut Numbers) -> Vec<String> {
    let names = ["saltmarsh.test", "depot.saltmarsh.test", "tides.test", "booking.saltmarsh.test"];
    let name = names[numbers.below(4)];
    let words: Vec<&str> = match numbers.below(16) {
        0 | 1 => vec!["map", name, "./saltmarsh", "--take-over"],
        2 => vec!["map", name, "./depot", "--document-root", "public", "--take-over"],
        3 => vec!["map", name, "http://127.0.0.1:3000", "--take-over"],
        4 => vec!["map", name, "./saltmarsh", "--alias", "www.saltmarsh.test", "--take-over"],
        5 => vec!["map", name, "./saltmarsh", "--https", "off", "--take-over"],
        6 => vec!["map", name, "./saltmarsh", "--server", "nginx", "--take-over"],
        7 => vec!["map", name, "./saltmarsh", "--http-port", "8080", "--https-port", "8443", "--take-over"],
        8..=10 => vec!["unmap", name],
        11 => vec!["hosts", "point", ["quay.test", "tides.test"][numbers.below(2)], "10.0.0.7"],
        12 => vec!["hosts", "drop", ["quay.test", "buoy.test"][numbers.below(2)]],
        13 => vec!["authority", "trust", "--store", "system"],
        14 => vec!["authority", "distrust", "--store", "system"],
        _ => vec!["settle"],
    };
    words.into_iter().map(str::to_owned).collect()
}

/// The whole tree, but for yandro's history and lock, and the originals that it keeps for good.
fn state(sysroot: &Sysroot) -> String {
    let tree = sysroot.tree();
    let is_kept = |line: &&str| !line.contains("yandro/originals") && !is_own_folder(line);
    tree.lines().filter(is_kept).collect::<Vec<_>>().join("\n")
}

/// The folder of the history stays, and those above it and above the site list.
fn is_own_folder(line: &str) -> bool {
    [
        "home/",
        "home/ada/",
        "home/ada/.config/",
        "home/ada/.local/",
        "home/ada/.local/share/",
        "home/ada/.local/share/yandro/",
    ]
    .iter()
    .any(|folder| line.strip_prefix(folder).is_some_and(|mode| mode.starts_with(' ')))
}

/// The numbers of the changes that can be undone.
fn standing(sysroot: &Sysroot) -> Vec<u64> {
    let listed = sysroot.yandro(&["history", "--json"]).succeeds().stdout;
    let listed: serde_json::Value = serde_json::from_str(&listed).unwrap();
    let changes = listed["changes"].as_array().unwrap().iter();
    let stands = |change: &&serde_json::Value| change["undone-by"].is_null() && change["undoes"].is_null();
    changes.filter(stands).map(|change| change["id"].as_u64().unwrap()).collect()
}

/// Undoes everything, in an order of chance; what a later change is in the way of waits for that.
fn undo_all(sysroot: &Sysroot, numbers: &mut Numbers, done: &mut Vec<String>) {
    loop {
        let mut left = standing(sysroot);
        if left.is_empty() {
            return;
        }
        let mut refusals = String::new();
        let is_undone = loop {
            if left.is_empty() {
                break false;
            }
            let id = left.remove(numbers.below(left.len() as u64)).to_string();
            let ran = sysroot.yandro(&["undo", &id]);
            done.push(format!("undo {id}: {}", ran.status));
            if ran.status == 0 {
                break true;
            }
            refusals += &ran.to_string();
        };
        assert!(is_undone, "nothing can be undone any more after {done:#?}\n{refusals}");
    }
}

fn difference(before: &str, after: &str) -> String {
    let changes = similar_lines(before, after);
    changes.join("\n")
}

fn similar_lines(before: &str, after: &str) -> Vec<String> {
    let (old, new): (Vec<&str>, Vec<&str>) = (before.lines().collect(), after.lines().collect());
    let gone = old.iter().filter(|line| !new.contains(line)).map(|line| format!("- {line}"));
    gone.chain(new.iter().filter(|line| !old.contains(line)).map(|line| format!("+ {line}"))).collect()
}

/// The files that the user edits as well.
const EDITED: [&str; 3] = ["etc/hosts", "etc/apache2/apache2.conf", "home/ada/.config/yandro/sites.toml"];

/// Adds a line by hand, if the file is there.
fn edit(sysroot: &Sysroot, numbers: &mut Numbers, edits: &mut Vec<(usize, String)>) {
    let which = numbers.below(EDITED.len() as u64);
    if sysroot.path(EDITED[which]).exists() {
        let line = format!("# by hand {}\n", edits.len());
        let text = sysroot.read(EDITED[which]);
        let end = if text.ends_with('\n') { "" } else { "\n" };
        sysroot.write(EDITED[which], &format!("{text}{end}{line}"));
        edits.push((which, line));
    }
}

fn sequence(seed: u64, is_edited: bool) {
    let mut numbers = Numbers(seed);
    let sysroot = machine();
    let before = state(&sysroot);
    let mut done = Vec::new();
    let mut edits = Vec::new();
    for _ in 0..COMMANDS {
        if is_edited && numbers.below(3) == 0 {
            edit(&sysroot, &mut numbers, &mut edits);
            done.push(format!("edits {edits:?}"));
        }
        let words = command(&mut numbers);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let ran = sysroot.yandro(&words);
        assert!(ran.status <= 3, "{words:?}: {ran}");
        done.push(format!("{}: {}", words.join(" "), ran.status));
    }
    undo_all(&sysroot, &mut numbers, &mut done);
    for (which, line) in edits.iter().rev() {
        let text = sysroot.read(EDITED[*which]);
        assert!(text.contains(line.as_str()), "seed {seed}: {line} is lost\n{text}\n{done:#?}");
        let rest = text.replacen(line.as_str(), "", 1);
        let is_bare = *which == 2 && !rest.contains("# by hand");
        if is_bare {
            assert!(!rest.contains("[[site]]"), "seed {seed}: {rest}\n{done:#?}");
            fs::remove_file(sysroot.path(EDITED[*which])).unwrap();
            fs::remove_dir(sysroot.path("home/ada/.config/yandro")).unwrap();
        } else {
            sysroot.write(EDITED[*which], &rest);
        }
    }
    let after = state(&sysroot);
    assert_eq!(difference(&before, &after), "", "seed {seed}, {done:#?}");
    assert_eq!(before, after, "seed {seed}, {done:#?}");
}

#[test]
fn whatever_is_done_and_undone_in_any_order_leaves_nothing() {
    for seed in 0..sequences() {
        sequence(seed, false);
    }
    eprintln!("{} sequences of {COMMANDS} commands, all undone in an order of chance: nothing left", sequences());
}

#[test]
fn hand_edits_since_stay_after_undo() {
    for seed in 0..sequences() / 2 {
        sequence(1000 + seed, true);
    }
    eprintln!("{} sequences with edits by hand, all undone: only the edits are left", sequences() / 2);
}
