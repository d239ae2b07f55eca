//! What commands cost, in instructions of the processor and not in time: the same on a busy machine.

use std::collections::BTreeMap;
use std::fs;
use std::process::Command;

use super::kit::{Sysroot, has};

/// The expected counts, of the unoptimised program. To write them anew, after a change that is meant to cost more or
/// less: `YANDRO_WRITE_DOCS=1 cargo test -p yandro-cli --features databases --test suite instructions`.
const EXPECTED: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/instructions.json");
/// How much a count may differ, in per cent: memory is hashed and laid out differently each time.
const TOLERANCE: u64 = 10;

/// A sysroot with a list of sites, their lines in the hosts file, and as many virtual hosts by hand in Apache httpd.
fn sysroot(sites: usize) -> Sysroot {
    let sysroot = Sysroot::with_apache();
    let (mut list, mut hosts) = (String::new(), sysroot.read("etc/hosts"));
    for number in 0..sites {
        list += &format!("[[site]]\nname = \"s{number}.test\"\nfolder = \"/saltmarsh\"\nserver = \"built-in\"\n\n");
        hosts += &format!("127.0.0.1\ts{number}.test\n");
        let host = format!(
            "<VirtualHost *:80>\n\tServerName h{number}.test\n\tDocumentRoot /saltmarsh\n\t<Directory /saltmarsh>\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n"
        );
        sysroot.write(&format!("etc/apache2/sites-enabled/h{number}.conf"), &host);
    }
    sysroot.write("home/ada/.config/yandro/sites.toml", &list);
    sysroot.write("etc/hosts", &hosts);
    sysroot
}

/// The instructions that a command takes from its start to its end.
fn count(sysroot: &Sysroot, words: &[&str]) -> u64 {
    let own = sysroot.command(words);
    let mut counted = Command::new("valgrind");
    counted.args(["--tool=callgrind", "--callgrind-out-file=/dev/null"]).arg(own.get_program()).args(own.get_args());
    counted
        .env_clear()
        .envs(own.get_envs().filter_map(|(name, value)| Some((name, value?))))
        .env("PATH", "/usr/bin:/bin");
    if let Some(folder) = own.get_current_dir() {
        counted.current_dir(folder);
    }
    let ran = counted.output().unwrap();
    let said = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert!(ran.status.success(), "{words:?}: {said}{}", String::from_utf8_lossy(&ran.stdout));
    let collected = said.lines().find_map(|line| line.split_once("Collected : ")).unwrap_or_else(|| panic!("{said}"));
    collected.1.trim().parse().unwrap()
}

#[test]
fn no_command_costs_a_tenth_more_or_less_than_it_did() {
    if !has(&["valgrind"], false) {
        return;
    }
    let (many, some) = (sysroot(1_000), sysroot(250));
    let map = ["map", "one.test", "saltmarsh", "--server", "apache", "--preview"];
    let cases: [(&str, &Sysroot, &[&str]); 4] = [
        ("start", &some, &["--version"]),
        ("sites, 1,000 in the list", &many, &["sites"]),
        ("vhosts, 1,000 by hand", &many, &["vhosts"]),
        ("map, one more to 250, shown", &some, &map),
    ];
    let counts: BTreeMap<String, u64> =
        cases.iter().map(|(name, sysroot, words)| ((*name).to_owned(), count(sysroot, words))).collect();
    if std::env::var_os("YANDRO_WRITE_DOCS").is_some() {
        fs::write(EXPECTED, serde_json::to_string_pretty(&counts).unwrap() + "\n").unwrap();
    }
    let expected: BTreeMap<String, u64> = serde_json::from_str(&fs::read_to_string(EXPECTED).unwrap()).unwrap();
    let differs = |name: &str, now: u64| {
        let before = expected.get(name).copied().unwrap_or_default();
        let is_other = now.abs_diff(before) * 100 > before * TOLERANCE;
        is_other.then(|| format!("{name}: {now} instructions instead of {before}"))
    };
    let differences: Vec<String> = counts.iter().filter_map(|(name, now)| differs(name, *now)).collect();
    assert!(differences.is_empty(), "{}; if that is meant: YANDRO_WRITE_DOCS=1", differences.join("\n"));
}

#[test]
fn four_times_the_sites_cost_less_than_six_times_as_much() {
    if !has(&["valgrind"], false) {
        return;
    }
    // One after the other: the last two take all of them away, and bring them back.
    let words: [&[&str]; 4] = [&["settle", "--yes"], &["sites"], &["undo"], &["undo", "2"]];
    let cost = |sites: usize| {
        let sysroot = Sysroot::new();
        let site =
            |number| format!("[[site]]\nname = \"s{number}.test\"\nfolder = \"/saltmarsh\"\nserver = \"built-in\"\n\n");
        sysroot.write("home/ada/.config/yandro/sites.toml", &(0..sites).map(site).collect::<String>());
        words.map(|words| count(&sysroot, words))
    };
    let (few, many) = (cost(75), cost(300));
    for (words, (few, many)) in words.iter().zip(few.into_iter().zip(many)) {
        assert!(many < few * 6, "{words:?}: four times the sites cost {many} instructions instead of {few}");
    }
}
