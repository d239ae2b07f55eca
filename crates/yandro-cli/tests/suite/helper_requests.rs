//! Ten thousand hostile requests to the helper, made from real ones.

use std::fs;

use serde_json::{Value, json};

use super::harbour::Server;
use super::helper_attacks::{harbour, is_sound, requests, say, system};
use super::kit::Numbers;

/// Values that a hostile caller would put in the place of others.
fn hostile(numbers: &mut Numbers, root: &str) -> Value {
    let evil = format!("{root}/evil");
    let sha256 = "0".repeat(64);
    let texts = [
        "/etc/shadow",
        "/etc/passwd",
        "/etc/sudoers.d/x",
        "/etc/cron.d/x",
        "/etc/ld.so.preload",
        "/etc/hosts",
        "/etc/apache2/apache2.conf",
        "/etc/apache2/envvars",
        "/etc/apache2/mods-enabled/evil.load",
        "/etc/nginx/nginx.conf",
        "/etc/apache2/sites-available/yandro-evil.test.conf",
        "/etc/apache2/sites-available/../apache2.conf",
        "/usr/local/share/ca-certificates/yandro-00112233445566aa.crt",
        "/var/lib/yandro/helper/journal",
        "../../x",
        "",
        "\\",
        "a\\",
        "x\nInclude /tmp/evil.conf",
        "a.test\n10.0.0.1 b.test",
        "yandro",
        "0a0b0c0d",
        "127.0.0.1",
        "::",
        "10.0.0.1",
        "0.invalid",
        "localhost",
        "bank.example.com",
        "depot.test",
        "apache",
        "nginx",
        "elsewhere",
        "file",
        "absent",
        "link",
        "test",
        "reload",
        "start-or-reload",
        "resolved",
        "debian",
        "no-such-word",
        sha256.as_str(),
        evil.as_str(),
    ];
    match numbers.below(12) {
        0 => Value::Null,
        1 => json!(numbers.below(1 << 30)),
        2 => json!([]),
        3 => json!({}),
        4 => json!("a".repeat(numbers.below(100_000))),
        _ => json!(texts[numbers.below(texts.len() as u64)]),
    }
}

/// A hostile key for a site of the list.
fn hostile_key(numbers: &mut Numbers, root: &str) -> String {
    let keys = [
        format!("extra = \"{root}/evil.conf\""),
        "logs = \"/etc/cron.d\"".to_owned(),
        format!("logs = \"{root}/saltmarsh\""),
        format!("php = \"/run/x|{root}/evil\""),
        "php = \"/run/x.sock\\\" \\\"|sh\"".to_owned(),
        format!("fallback = \"/x\\\"\\nCustomLog |{root}/evil x\""),
        format!("index = [\"a\\\" b\", \"|{root}/evil\"]"),
        "aliases = [\"bank.example.com\", \"localhost\"]".to_owned(),
        "http-ports = [22, 80]".to_owned(),
        "address = \"10.0.0.1\"".to_owned(),
        "symlinks = \"anywhere\"\nlisting = \"off\"\noverrides = \"off\"".to_owned(),
        "server = \"nginx\"".to_owned(),
        "server = \"apache\"".to_owned(),
    ];
    keys[numbers.below(keys.len() as u64)].clone()
}

/// Changes one value somewhere in a request.
fn mutate(value: &mut Value, numbers: &mut Numbers, root: &str) {
    match value {
        Value::Object(map) if !map.is_empty() && numbers.below(8) > 0 => {
            let at = numbers.below(map.len() as u64);
            let key = map.keys().nth(at).unwrap().clone();
            match numbers.below(40) {
                0 => _ = map.remove(&key),
                1 => _ = map.insert("content".into(), json!("evil")),
                _ => mutate(&mut map[&key], numbers, root),
            }
        }
        Value::Array(items) if !items.is_empty() && numbers.below(8) > 0 => {
            let at = numbers.below(items.len() as u64);
            if numbers.below(20) == 0 {
                let copy = items[at].clone();
                items.push(copy);
            }
            mutate(&mut items[at], numbers, root);
        }
        Value::String(text) if text.contains("[[site]]") && numbers.below(3) > 0 => {
            *text = text.trim_end().to_owned() + "\n" + &hostile_key(numbers, root) + "\n";
        }
        value => *value = hostile(numbers, root),
    }
}

#[test]
fn ten_thousand_hostile_requests_get_nothing() {
    for (server, seed) in [(Server::Apache, 1), (Server::Nginx, 2)] {
        let Some(harbour) = harbour(server) else { return };
        let root = harbour.machine.root().display().to_string();
        fs::write(harbour.machine.path("evil.conf"), format!("CustomLog \"|{root}/evil\" common\n")).unwrap();
        let word = server.word();
        let seeds = requests(
            &harbour,
            &[
                &["map", "depot.test", "./saltmarsh", "--server", word, "--http-port", "8080"],
                &["map", "tides.test", "./saltmarsh", "--server", word, "--alias", "www.tides.test"],
                &["undo"],
                &["unmap", "depot.test"],
            ],
        );
        let before = system(&harbour);
        let mut numbers = Numbers(seed);
        let (mut asked, mut refused, mut done) = (0, 0, 0);
        while asked < 5000 {
            // A run of the helper: some requests as they were, some with something else in them.
            let mut run = Vec::new();
            for _ in 0..50 {
                let mut request = seeds[numbers.below(seeds.len() as u64)].clone();
                // A plan takes a hundred times as long as all others.
                if request["step"] == "plan" && numbers.below(4) > 0
                    || request["step"] == "control" && numbers.below(20) > 0
                {
                    continue;
                }
                for _ in 0..numbers.below(4) {
                    mutate(&mut request, &mut numbers, &root);
                }
                run.push(request.to_string());
            }
            asked += run.len();
            let answers = say(&harbour, &run).stdout;
            refused += answers.matches("\"answer\":\"refused\"").count()
                + answers.matches("\"answer\":\"objections\"").count();
            done += answers.matches("\"answer\":\"done\"").count();
            is_sound(&harbour, &before, &run.join("\n"));
        }
        // Testing the resulting configuration runs no program of the attacker's.
        harbour.machine.run(if server == Server::Apache { "apache2ctl" } else { "nginx" }, &["-t"]);
        is_sound(&harbour, &before, "after a test of the configuration");
        eprintln!(
            "{asked} hostile requests to the helper with {word}: {refused} refused, {done} done as they were harmless"
        );
        assert!(refused > asked / 4, "{refused} of {asked} refused");
    }
}
