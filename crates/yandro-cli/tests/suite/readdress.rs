//! An application gets its new address: every place and no other, as the formats' own programs read it.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use super::kit::{Ran, Sysroot, has};

const PLACES: usize = 15;

/// An address of the application, in its parts.
#[derive(Clone, Copy)]
struct Address {
    scheme: &'static str,
    host: &'static str,
    path: &'static str,
}

const NEW: Address = Address { scheme: "https", host: "saltmarsh.test", path: "" };
/// An earlier name, and the address of a dev server.
const OLD: [Address; 2] = [
    Address { scheme: "http", host: "old.test", path: "" },
    Address { scheme: "http", host: "localhost:8080", path: "/ferries" },
];

impl Address {
    fn url(self, place: usize) -> String {
        format!("{}://{}{}/p{place}", self.scheme, self.host, self.path)
    }
}

fn text(text: &str) -> String {
    format!("s:{}:\"{text}\";", text.len())
}

fn percent(text: &str) -> String {
    text.replace('%', "%25").replace(':', "%3A").replace('/', "%2F")
}

fn json(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"").replace('/', "\\/"))
}

fn serialised(address: Address, place: usize) -> String {
    let url = address.url(place);
    format!("a:2:{{{}i:{place};{}{}}}", text("fähre"), text("url"), text(&format!("Fähre \"{url}\"; {url}/é")))
}

/// A kind of place: its file, and the line of a place.
type Kind = (&'static str, fn(Address, usize) -> String);

/// Twenty kinds. Those of serialised lists have two addresses in each place.
const KINDS: [Kind; 20] = [
    (".env", |address, place| format!("APP_URL_{place}={}", address.url(place))),
    (".env.local", |address, place| format!("APP_URL_{place}=\"{}\"", address.url(place))),
    ("config/constants.php", |address, place| format!("define('SITE_{place}', '{}');", address.url(place))),
    ("config/app.php", |address, place| format!("$c['site'][] = [\"url\" => \"{}\"];", address.url(place))),
    ("config/app.yaml", |address, place| format!("site{place}: {}", address.url(place))),
    ("plain.json", |address, place| format!("\"p{place}\": \"{}\",", address.url(place))),
    ("escaped.json", |address, place| format!("\"p{place}\": {},", json(&address.url(place)))),
    ("twice.json", |address, place| format!("\"p{place}\": {},", json(&json(&address.url(place))))),
    ("app.toml", |address, place| format!("p{place} = \"{}\"", address.url(place))),
    ("app.xml", |address, place| format!("<a href=\"{}?a=1&amp;b=2\"/>", address.url(place))),
    ("php.ini", |address, place| format!("p{place} = {}", address.url(place))),
    ("page.html", |address, place| format!("<script src=//{}{}/{place}.js></script>", address.host, address.path)),
    ("encoded.txt", |address, place| format!("?next={}&x=1", percent(&address.url(place)))),
    ("encoded-twice.txt", |address, place| format!("?next={}", percent(&percent(&address.url(place))))),
    ("serialised.txt", |address, place| text(&address.url(place))),
    ("nested.txt", |address, place| format!("a:1:{{{}{}}}", text("x"), text(&text(&address.url(place))))),
    ("serialised.json", |address, place| format!("\"p{place}\": {},", json(&text(&address.url(place))))),
    ("dump.sql", |address, place| {
        format!("INSERT INTO options VALUES ({place}, '{}');", text(&address.url(place)).replace('"', "\\\""))
    }),
    ("live.js", |address, place| {
        format!("open('ws{}://{}{}/{place}');", &address.scheme[4..], address.host, address.path)
    }),
    // The domain of cookies, and a host with its path.
    ("hosts.php", |address, place| match place % 2 {
        0 => format!("$hosts[{place}] = '.{}';", address.host),
        _ => format!("$hosts[{place}] = '{}{}';", address.host, address.path),
    }),
];

/// Names of other things.
const DECOYS: &str = "oldold.test http://www.old.test/ http://old.test.example/ my-old.test old.tests
pier@old.test mailto:pier@old.test /var/www/old.test/public C:\\sites\\old.test ftp://old.test/
http://old.test:9200/ redis://old.test http://localhost/ http://localhost:8081/ferries http://localhost:8080/
http://localhost:8080/ferriesboat DB_HOST=localhost http%3A%2F%2Fnotold.test old.test.conf file:///srv/old.test
";

fn old(place: usize) -> Address {
    OLD[place % 2]
}

fn content((file, line): &Kind, address: impl Fn(usize) -> Address) -> String {
    let lines: Vec<String> = (0..PLACES).map(|place| line(address(place), place)).collect();
    let lines = lines.join("\n");
    match file.rsplit('.').next() {
        Some("json") => format!("{{\n{}\n}}\n", lines.trim_end_matches(',')),
        Some("xml") => format!("<ferries>\n{lines}\n</ferries>\n"),
        Some("php") => format!("<?php\n{lines}\n"),
        Some("ini") => format!("[ferries]\n{lines}\n"),
        _ => format!("{lines}\n"),
    }
}

/// Reads every file with the program of its format, and prints how many new addresses each has.
const JUDGE: &str = r#"
import configparser, glob, json, os, sys, tomllib, urllib.parse, xml.etree.ElementTree as ET
from collections import Counter
new, counts = "https://saltmarsh.test/p", {}
def count(name, values): counts[name] = sum(value.startswith(new) for value in values)
for name in ["plain", "escaped"]: count(name, json.load(open(name + ".json")).values())
count("twice", map(json.loads, json.load(open("twice.json")).values()))
count("toml", tomllib.load(open("app.toml", "rb")).values())
count("xml", [a.get("href") for a in ET.parse("app.xml").getroot()])
ini = configparser.ConfigParser(interpolation=None); ini.read("php.ini")
count("ini", [value for _, value in ini.items("ferries")])
unquote = urllib.parse.unquote
lines = lambda name: open(name, encoding="utf-8").read().splitlines()
count("encoded", [urllib.parse.parse_qs(line[1:])["next"][0] for line in lines("encoded.txt")])
count("encoded-twice", [unquote(urllib.parse.parse_qs(line[1:])["next"][0]) for line in lines("encoded-twice.txt")])
print(json.dumps(counts))
"#;
const PHP: &str = r#"
$new = "https://saltmarsh.test/p"; $counts = [];
function n($name, $values) { global $new, $counts;
  $counts[$name] = count(array_filter($values, fn($v) => is_string($v) && str_contains($v, $new))); }
n("serialised", array_map("unserialize", file("serialised.txt")));
n("nested", array_map(fn($l) => unserialize(unserialize($l)["x"]), file("nested.txt")));
n("json", array_map("unserialize", array_values(json_decode(file_get_contents("serialised.json"), true))));
preg_match_all("/'(.*)'/", file_get_contents("dump.sql"), $found);
n("dump", array_map(fn($v) => unserialize(stripslashes($v)), $found[1]));
include "config/constants.php"; n("constants", array_values(get_defined_constants(true)["user"]));
include "config/app.php"; n("array", array_column($c["site"], "url"));
echo json_encode($counts);
"#;

/// A site whose application was cloned from another address.
fn cloned() -> Sysroot {
    let sysroot = Sysroot::new();
    sysroot.write("etc/hosts", "127.0.0.1 localhost\n");
    for kind in &KINDS {
        sysroot.write(&format!("home/ada/clone/{}", kind.0), &content(kind, old));
    }
    sysroot.write("home/ada/clone/decoys.txt", DECOYS);
    sysroot.write("home/ada/clone/values.txt", &(serialised(OLD[0], 1) + "\n"));
    let folder = sysroot.path("home/ada/clone");
    sysroot.yandro(&["map", "saltmarsh.test", folder.to_str().unwrap(), "--server", "built-in"]).succeeds();
    sysroot
}

const READDRESS: [&str; 6] =
    ["readdress", "saltmarsh.test", "--from", "http://old.test", "--from", "http://localhost:8080/ferries"];

#[test]
fn three_hundred_places_of_twenty_kinds_and_no_other() {
    if !has(&["php", "python3"], false) {
        return;
    }
    let sysroot = cloned();
    let read = |file: &str| sysroot.read(&format!("home/ada/clone/{file}"));
    let ran = sysroot.yandro(&[&READDRESS[..], &["--yes", "--json"]].concat()).succeeds();
    let found: serde_json::Value = serde_json::from_str(&ran.stdout).unwrap();
    let places = |file: &serde_json::Value| file["places"].as_u64().unwrap();
    let files = found["files"].as_array().unwrap();
    // Two in the line of values.
    assert_eq!(files.iter().map(places).sum::<u64>(), 300 + 2, "{ran}");
    for kind in &KINDS {
        assert_eq!(read(kind.0), content(kind, |_| NEW), "{}", kind.0);
    }
    assert_eq!(read("decoys.txt"), DECOYS);
    assert_eq!(read("values.txt"), serialised(NEW, 1) + "\n");
    let folder = sysroot.path("home/ada/clone");
    let judged = |program: &str, flag: &str, script: &str| -> serde_json::Value {
        let ran = Command::new(program).args([flag, script]).current_dir(&folder).output().unwrap();
        serde_json::from_str(&Ran::of(ran, &folder).succeeds().stdout).unwrap()
    };
    for (judge, kinds) in [(judged("python3", "-c", JUDGE), 8), (judged("php", "-r", PHP), 6)] {
        let counts = judge.as_object().unwrap();
        assert!(counts.len() == kinds && counts.values().all(|count| count == PLACES), "{judge}");
    }
    // Nothing is left for a second time; undo restores every byte.
    let ran = sysroot.yandro(&[&READDRESS[..], &["--yes"]].concat()).succeeds();
    assert!(ran.stdout.contains("nothing was changed"), "{ran}");
    sysroot.yandro(&["undo"]).succeeds();
    for kind in &KINDS {
        assert_eq!(read(kind.0), content(kind, old), "{}", kind.0);
    }
}

#[test]
fn a_user_is_asked_and_what_is_not_the_projects_own_stays() {
    let sysroot = Sysroot::new();
    sysroot.write("etc/hosts", "127.0.0.1 localhost\n");
    let own = [".gitignore", ".env", "config/local.php", "public/index.html"];
    let others = [".git/config", "node_modules/tide/index.js", "vendor/tide/tide.php", "cache/page.txt", "logo.png"];
    for file in own.iter().chain(&others) {
        sysroot.write(&format!("home/ada/tides/{file}"), "http://old.test/\n");
    }
    sysroot.write("home/ada/tides/.gitignore", "/.env\n/config/local.php\n/cache/\n# http://old.test\n");
    sysroot.write("home/ada/tides/logo.png", "\0 http://old.test/\n");
    sysroot.write("home/ada/tides/public/old.txt", "http://old.test/ s:99:\"http://old.test\";\n");
    let folder = sysroot.path("home/ada/tides");
    let secret = folder.join(".env");
    fs::set_permissions(&secret, fs::Permissions::from_mode(0o600)).unwrap();
    sysroot.yandro(&["map", "old.test", folder.to_str().unwrap(), "--server", "built-in"]).succeeds();
    let unknown = sysroot.yandro(&["readdress", "old.test"]);
    assert!(unknown.status == 2 && unknown.stderr.contains("yandro readdress old.test --from http://OLD"), "{unknown}");
    // The old name is known from the history.
    sysroot.yandro(&["rename", "old.test", "tides.test"]).succeeds();
    let before = sysroot.tree();
    insta::assert_snapshot!(sysroot.yandro(&["readdress", "tides.test"]), @r#"
    error: 5 old addresses would become https://tides.test:

    FILE               PLACES  LEFT
    .env               1
    .gitignore         1
    config/local.php   1
    public/index.html  1
    public/old.txt     1       1

    --- $ROOT/home/ada/tides/.env
    +++ $ROOT/home/ada/tides/.env
    -http://old.test/
    +https://tides.test/
    --- $ROOT/home/ada/tides/.gitignore
    +++ $ROOT/home/ada/tides/.gitignore
    -# http://old.test
    +# https://tides.test
    --- $ROOT/home/ada/tides/config/local.php
    +++ $ROOT/home/ada/tides/config/local.php
    -http://old.test/
    +https://tides.test/
    --- $ROOT/home/ada/tides/public/index.html
    +++ $ROOT/home/ada/tides/public/index.html
    -http://old.test/
    +https://tides.test/
    --- $ROOT/home/ada/tides/public/old.txt
    +++ $ROOT/home/ada/tides/public/old.txt
    -http://old.test/ s:99:"http://old.test";
    +https://tides.test/ s:99:"http://old.test";
    fix: to change them, add `--yes`; to see every line: --preview
    [status 2]
    "#);
    assert_eq!(sysroot.tree(), before);
    insta::assert_snapshot!(sysroot.yandro(&["readdress", "tides.test", "--yes"]), @"
    5 old addresses became https://tides.test
    FILE               PLACES  LEFT
    .env               1
    .gitignore         1
    config/local.php   1
    public/index.html  1
    public/old.txt     1       1

    To see whether its pages stay there now: yandro check tides.test
    found: $ROOT/home/ada/tides/public/old.txt:1: left as it is, since the length of the serialised string around it is wrong already
    [status 1]
    ");
    assert_eq!(fs::metadata(&secret).unwrap().permissions().mode() & 0o777, 0o600);
    let after = sysroot.read("home/ada/tides/public/old.txt");
    assert_eq!(after, "https://tides.test/ s:99:\"http://old.test\";\n");
    for file in others {
        assert!(sysroot.read(&format!("home/ada/tides/{file}")).contains("http://old.test"), "{file}");
    }
    for (words, said) in [
        (&["--from", "ftp://old.test"][..], "`ftp://old.test` is not the address of an application"),
        (&["--from", "http://gone.test"], "names http://gone.test; nothing was changed"),
        (&["--folder", "/nonexistent"], "no such folder: `/nonexistent`"),
    ] {
        let ran = sysroot.yandro(&[&["readdress", "tides.test"], words].concat());
        assert!(ran.stdout.contains(said) || ran.stderr.contains(said), "{ran}");
    }
    sysroot.yandro(&["map", "booking.test", ":3000", "--server", "built-in"]).succeeds();
    let ran = sysroot.yandro(&["readdress", "booking.test", "--from", "old.test"]);
    assert!(ran.status == 2 && ran.stderr.contains("--folder DIR"), "{ran}");
}
