//! The hosts file: as people have it, as the system reads it, as others take it.

use std::fmt::Write as _;
use std::fs;
use std::net::IpAddr;

use yandro_core::{AddressFamily, HostName, HostsFile, Multi};

use super::causes::shell;
use super::kit::{Background, Numbers, Sysroot, eventually, steady};
use super::namespace::{HOSTS, Namespace};

/// With most of what can be wrong.
const MESSY: &str = "\
127.0.0.1 localhost
::1 localhost ip6-localhost
127.0.1.1 harbour
127.0.0.0.1 tides.test
127.0.0.1:8080 buoy.test
10.0.0.5 saltmarsh.test pier.test # the old machine
127.0.0.1 http://crew.test fähre.test crew.test.
127.0.0.1 moon.test ; the moon
127.0.0.1 moon.test
saltmarsh.local 127.0.0.1
the ferry leaves at ten
192.168.7.9 *.pier.test pier_one.test
10.0.0.9 moon.test
";

#[test]
fn the_critic_tells_each_line_that_does_not_do_what_it_seems_to() {
    let sysroot = Sysroot::new();
    sysroot.write("etc/hosts", MESSY);
    sysroot.write("etc/host.conf", "multi on\n");
    let ran = sysroot.yandro(&["hosts", "lint"]);
    assert_eq!(ran.status, 1);
    insta::assert_snapshot!(ran, @"
    ✗ /etc/hosts:4: `127.0.0.0.1` is not an address that the resolver reads, so the whole line says nothing
        fix: did you mean 127.0.0.1?
    ✗ /etc/hosts:5: `127.0.0.1:8080` is not an address that the resolver reads, so the whole line says nothing
    ✗ /etc/hosts:7: nothing ever asks for `http://crew.test`: it is the address of a page
        fix: yandro hosts drop http://crew.test && yandro hosts point crew.test 127.0.0.1
    ✗ /etc/hosts:7: nothing ever asks for `fähre.test`: browsers ask for the name in its ASCII form
    ✗ /etc/hosts:7: nothing ever asks for `crew.test.`: a name has no final dot here
    ✗ /etc/hosts:8: `;` begins no comment here: `;` is read as a name
    · /etc/hosts:8: moon.test points to this machine and is not a site
        fix: map them: yandro map NAME FOLDER; or take them out: yandro hosts drop NAME
    ! /etc/hosts:9: `moon.test` points to 127.0.0.1 already, by line 8
    ✗ /etc/hosts:10: the address comes first, then the name: `saltmarsh.local 127.0.0.1` says nothing
    ✗ /etc/hosts:11: `the` is not an address that the resolver reads, so the whole line says nothing
    ✗ /etc/hosts:12: nothing ever asks for `*.pier.test`: a hosts file can't hold wildcards; write each name
        fix: correct the name, or take it out
    ! /etc/hosts:13: `moon.test` points to 127.0.0.1 by line 8: 10.0.0.9 comes second, and counts only where the first doesn't answer
        fix: yandro hosts point moon.test ADDRESS, with the right one

    7 findings can be fixed at once: yandro hosts lint --fix (with --preview first)
    [status 1]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["hosts", "list"]), @"
    LINE  ADDRESS      NAMES                                                       OWNER
    1     127.0.0.1    localhost                                                   manual
    2     ::1          localhost ip6-localhost                                     manual
    3     127.0.1.1    harbour                                                     manual
    6     10.0.0.5     saltmarsh.test pier.test                                    manual
    7     127.0.0.1    http://crew.test fähre.test (xn--fhre-loa.test) crew.test.  manual
    8     127.0.0.1    moon.test ; the moon                                        manual
    9     127.0.0.1    moon.test                                                   manual  answered before: moon.test by line 8
    12    192.168.7.9  *.pier.test pier_one.test                                   manual
    13    10.0.0.9     moon.test                                                   manual  answered before: moon.test by line 8

    9 entries, 17 names; 2 answered by an earlier line. Judge them: yandro hosts lint
    [status 0]
    ");
    let preview = sysroot.yandro(&["hosts", "lint", "--fix", "--preview"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), MESSY, "{preview}");
    let ran = sysroot.yandro(&["hosts", "lint", "--fix"]);
    insta::assert_snapshot!(steady(&ran), @"
    ✗ /etc/hosts:4: `127.0.0.0.1` is not an address that the resolver reads, so the whole line says nothing
        fix: did you mean 127.0.0.1?
    · /etc/hosts:5: buoy.test, xn--fhre-loa.test, crew.test, moon.test, saltmarsh.local point to this machine and are not sites
        fix: map them: yandro map NAME FOLDER; or take them out: yandro hosts drop NAME
    ✗ /etc/hosts:11: nothing ever asks for `*.pier.test`: a hosts file can't hold wildcards; write each name
        fix: correct the name, or take it out
    ! /etc/hosts:12: `moon.test` points to 127.0.0.1 by line 8: 10.0.0.9 comes second, and counts only where the first doesn't answer
        fix: yandro hosts point moon.test ADDRESS, with the right one
    fixed: 7 findings; to have them back: yandro undo
    [status 1]
    ");
    insta::assert_snapshot!(sysroot.read("etc/hosts"), @"
    127.0.0.1 localhost
    ::1 localhost ip6-localhost
    127.0.1.1 harbour
    127.0.0.0.1 tides.test
    127.0.0.1 buoy.test
    10.0.0.5 saltmarsh.test pier.test # the old machine
    127.0.0.1 xn--fhre-loa.test crew.test
    127.0.0.1 moon.test # the moon
    127.0.0.1	saltmarsh.local
    # the ferry leaves at ten
    192.168.7.9 *.pier.test pier_one.test
    10.0.0.9 moon.test
    ");
    sysroot.yandro(&["undo"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), MESSY);
}

#[test]
fn a_file_with_nothing_wrong_has_nothing_to_tell() {
    let sysroot = Sysroot::new();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let ran = sysroot.yandro(&["hosts", "lint"]).succeeds();
    assert_eq!(ran.stdout, "/etc/hosts does what it seems to do\n");
    // Later problems: a missing site, a missing folder, no localhost, a byte order mark.
    fs::remove_dir_all(sysroot.path("saltmarsh")).unwrap();
    sysroot.write("etc/hosts", "\u{feff}10.0.0.5 localhost\n");
    let ran = sysroot.yandro(&["hosts", "lint"]);
    insta::assert_snapshot!(ran, @"
    ✗ /etc/hosts: no line names `saltmarsh.test`
        fix: yandro settle
    ! /etc/hosts: the folder of the site `saltmarsh.test` is gone: $ROOT/saltmarsh
        fix: restore it, or remove the site: yandro unmap saltmarsh.test
    ✗ /etc/hosts:1: the file begins with a byte order mark, and so the resolver doesn't read its first line

    1 finding can be fixed at once: yandro hosts lint --fix (with --preview first)
    [status 1]
    ");
    sysroot.yandro(&["hosts", "lint", "--fix"]);
    assert_eq!(sysroot.read("etc/hosts"), "127.0.0.1 localhost\n");
}

#[test]
fn a_line_in_the_way_is_shown_and_taken_over_only_when_asked() {
    let sysroot = Sysroot::new();
    sysroot.write("etc/hosts", MESSY);
    let map = ["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"];
    insta::assert_snapshot!(sysroot.yandro(&map), @"
    error: $ROOT/etc/hosts:6: `saltmarsh.test` points to 10.0.0.5 here already, not to 127.0.0.1
      10.0.0.5 saltmarsh.test pier.test # the old machine
    fix: have that line commented out while the site is mapped: add `--take-over`; or map the site to where it points: `--address 10.0.0.5`
    [status 3]
    ");
    assert_eq!(sysroot.read("etc/hosts"), MESSY);
    sysroot.yandro(&[&map[..], &["--take-over"]].concat()).succeeds();
    let hosts = sysroot.read("etc/hosts");
    let both = "# yandro took over: 10.0.0.5 saltmarsh.test pier.test # the old machine\n10.0.0.5 pier.test # the old machine\n";
    assert!(hosts.contains(both), "{hosts}");
    sysroot.yandro(&["undo"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), MESSY);
    sysroot.yandro(&[&map[..], &["--take-over"]].concat()).succeeds();
    sysroot.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), MESSY);
}

#[test]
fn names_that_are_no_sites_are_pointed_dropped_and_exchanged() {
    let sysroot = Sysroot::new();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let before = sysroot.read("etc/hosts");
    insta::assert_snapshot!(sysroot.yandro(&["hosts", "point", "fähre.saltmarsh.test", "192.168.56.10"]), @"
    fähre.saltmarsh.test (xn--fhre-loa.saltmarsh.test) -> 192.168.56.10
    [status 0]
    ");
    assert!(sysroot.read("etc/hosts").ends_with("192.168.56.10\txn--fhre-loa.saltmarsh.test\n"));
    let again = sysroot.yandro(&["hosts", "point", "fähre.saltmarsh.test", "192.168.56.10"]).succeeds();
    insta::assert_snapshot!(steady(&again), @"
    fähre.saltmarsh.test (xn--fhre-loa.saltmarsh.test) -> 192.168.56.10 (the hosts file says so already)
    [status 0]
    ");
    sysroot.yandro(&["settle"]).succeeds();
    assert!(sysroot.read("etc/hosts").contains("xn--fhre-loa"), "settle leaves the person's lines alone");
    sysroot.yandro(&["hosts", "drop", "fähre.saltmarsh.test"]).succeeds();
    assert_eq!(sysroot.read("etc/hosts"), before);
    insta::assert_snapshot!(sysroot.yandro(&["hosts", "point", "saltmarsh.test", "10.0.0.5"]), @"
    error: `saltmarsh.test` belongs to the site `saltmarsh.test`
    fix: move the site: yandro map saltmarsh.test --address 10.0.0.5
    [status 2]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["hosts", "drop", "saltmarsh.test"]), @"
    error: `saltmarsh.test` belongs to the site `saltmarsh.test`
    fix: take the site away: yandro unmap saltmarsh.test
    [status 2]
    ");

    // Another address of this machine keeps the server, and one of another machine doesn't.
    let server = || sysroot.yandro(&["--json", "sites"]).stdout;
    sysroot.yandro(&["map", "saltmarsh.test", "--address", "127.0.0.5"]).succeeds();
    assert!(server().contains("\"built-in\""), "{}", server());
    sysroot.yandro(&["map", "saltmarsh.test", "--address", "192.168.56.10"]).succeeds();
    assert!(server().contains("\"elsewhere\""), "{}", server());
    sysroot.yandro(&["map", "saltmarsh.test", "--address", "127.0.0.1", "--server", "built-in"]).succeeds();
    sysroot.write("team.txt", "# the team's\n192.168.7.2 depot.saltmarsh.test pier.test\n");
    sysroot.yandro(&["hosts", "import", "team.txt"]).succeeds();
    sysroot.write("team.txt", "192.168.7.3 pier.test\n");
    let ran = sysroot.yandro(&["hosts", "import", "team.txt"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: $ROOT/etc/hosts:8: `pier.test` points to 192.168.7.2 already, not to 192.168.7.3; nothing was changed
    fix: change such lines, too: --replace
    [status 3]
    ");
    sysroot.yandro(&["hosts", "import", "team.txt", "--replace"]).succeeds();
    sysroot.write("team.txt", "192.168.7.3 pier.test\n192.168.7 moon.test\n");
    let ran = sysroot.yandro(&["hosts", "import", "team.txt"]);
    insta::assert_snapshot!(steady(&ran), @"
    1 name of team.txt: the hosts file says so already
    note: 1 text left out, since resolvers or yandro ignore them; the first is team.txt:2: `192.168.7 moon.test` is not a line of a hosts file: an address, then names
    [status 0]
    ");
    // Names that can be real are asked about, unless they are pointed there already.
    sysroot.write("team.txt", "10.0.0.7 pier.example.org\n10.0.0.8 quay.example.org a.test\n");
    let before = sysroot.tree();
    let ran = sysroot.yandro(&["hosts", "import", "team.txt"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: somebody on the internet may own `pier.example.org` and `quay.example.org`; while mapped, the real one can't be reached from this machine
    fix: if that is what you want, say so: add `--hide-real`; or choose a name that nobody can own, such as one below `.test`
    [status 2]
    ");
    assert_eq!(sysroot.tree(), before);
    sysroot.yandro(&["hosts", "import", "team.txt", "--hide-real"]).succeeds();
    sysroot.yandro(&["hosts", "import", "team.txt"]).succeeds();
    for name in ["pier.example.org", "quay.example.org", "a.test"] {
        sysroot.yandro(&["hosts", "drop", name]).succeeds();
    }
    insta::assert_snapshot!(sysroot.yandro(&["hosts", "export", "--all", "--address", "192.168.7.1"]), @"
    192.168.7.1	saltmarsh.test saltmarsh.test
    192.168.7.2	depot.saltmarsh.test
    192.168.7.3	pier.test
    [status 0]
    ");
}

/// Writes each case to `/etc/hosts`, asks getaddrinfo for each name in each family, and prints
/// the answers of one question a line.
const ASK: &str = r#"
import json, socket, sys
families = [socket.AF_UNSPEC, socket.AF_INET, socket.AF_INET6]
for case in json.load(open(sys.argv[1])):
    with open("/etc/hosts", "wb") as f: f.write(bytes(case))
    for name in ["saltmarsh.test", "depot.saltmarsh.test", "tides"]:
        for family in families:
            try: found = [a[4][0] for a in socket.getaddrinfo(name, 80, family, socket.SOCK_STREAM)]
            except OSError: found = []
            print(" ".join(found))
"#;

fn file_of(numbers: &mut Numbers) -> Vec<u8> {
    const ADDRESSES: [&str; 14] = [
        "127.0.0.1",
        "10.0.0.5",
        "10.0.0.6",
        "::1",
        "2001:db8::5",
        "::ffff:10.0.0.9",
        "127.1",
        "0x7f.0.0.1",
        "10.0.0.07",
        "[::1]",
        "fe80::1%lo",
        "127.0.0.1:80",
        "\u{feff}127.0.0.1",
        "10.0.0.300",
    ];
    const NAMES: [&str; 10] = [
        "saltmarsh.test",
        "SALTMARSH.test",
        "depot.saltmarsh.test",
        "tides",
        "saltmarsh.test.",
        "xsaltmarsh.test",
        "tides;",
        "#tides",
        "depot.saltmarsh.test#note",
        "moon",
    ];
    const BLANKS: [&str; 8] = [" ", "\t", "  ", "\x0b", "\x0c", "\r", "\u{a0}", "\0"];
    const ENDS: [&str; 6] = ["\n", "\n", "\n", "\r\n", "\r", "\\\n"];
    let mut text = String::new();
    for _ in 0..numbers.below(6) {
        if numbers.below(6) == 0 {
            text += ["# note", "", " ", "\t# saltmarsh.test", "tides 127.0.0.1"][numbers.below(5)];
        } else {
            text += ["", " ", "\t"][numbers.below(3)];
            text += ADDRESSES[if numbers.below(3) == 0 { numbers.below(14) } else { numbers.below(6) }];
            for _ in 0..numbers.below(4) {
                text += BLANKS[if numbers.below(4) == 0 { numbers.below(8) } else { numbers.below(3) }];
                text += NAMES[numbers.below(10)];
            }
        }
        text += ENDS[numbers.below(6)];
    }
    if numbers.below(40) == 0 {
        text = format!("127.0.0.1 {}tides\n", "boat.test ".repeat(2000)) + &text;
    }
    // A line with blanks before it and a NUL in it glibc garbles: see `HostsFile::lookup`.
    let lines = text.split_inclusive('\n');
    lines.map(|line| if line.contains('\0') { line.trim_start() } else { line }).collect::<String>().into_bytes()
}

#[test]
fn lookups_answer_what_the_real_resolver_answers() {
    let Some(machine) = Namespace::new(&["python3"]) else { return };
    let mut numbers = Numbers(1);
    let files: Vec<Vec<u8>> = (0..600).map(|_| file_of(&mut numbers)).collect();
    fs::write(machine.path("cases.json"), serde_json::to_vec(&files).unwrap()).unwrap();
    fs::write(machine.path("etc/nsswitch.conf"), "hosts: files\n").unwrap();
    let mut asked = 0;
    for (multi, conf) in [(Multi::On, "multi on\n"), (Multi::Off, "multi off\n")] {
        fs::write(machine.path("etc/host.conf"), conf).unwrap();
        let answers = machine.run("python3", &["-c", ASK, "cases.json"]).succeeds().stdout;
        let mut answers = answers.lines();
        for text in &files {
            let file = HostsFile::parse(text);
            for name in ["saltmarsh.test", "depot.saltmarsh.test", "tides"] {
                for family in [AddressFamily::Any, AddressFamily::V4, AddressFamily::V6] {
                    let mut theirs: Vec<IpAddr> =
                        answers.next().unwrap().split_whitespace().map(|word| word.parse().unwrap()).collect();
                    let mut ours = file.lookup(&HostName::parse(name).unwrap(), family, multi);
                    // The system sorts them by reach.
                    theirs.sort();
                    ours.sort();
                    assert_eq!(ours, theirs, "{name} {family:?} {multi:?} in {:?}", String::from_utf8_lossy(text));
                    asked += 1;
                }
            }
        }
    }
    eprintln!("{} files, {asked} questions, no mismatch", files.len());
}

#[test]
fn name_caches_are_flushed_and_a_stale_one_is_found() {
    let Some(machine) = Namespace::new(&["nscd"]) else { return };
    let conf = "enable-cache hosts yes\ncheck-files hosts no\npositive-time-to-live hosts 3600\nnegative-time-to-live hosts 3600\n";
    fs::write(machine.path("etc/nscd.conf"), conf).unwrap();
    machine.run("mkdir", &["-p", "/run/nscd"]).succeeds();
    let mut command = machine.command("nscd");
    let _nscd = Background::start(command.arg("--foreground"));
    eventually("nscd listens", || machine.run("nscd", &["--statistics"]).status == 0);
    // It now knows that there is no such name, and would say so for an hour.
    assert_eq!(machine.run("getent", &["hosts", "saltmarsh.test"]).status, 2);
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      name cache  nscd forgot its old answers
      modules  enabled socache_shmcb, ssl, rewrite
      server  Apache httpd: configuration tested, started
      proof  https://saltmarsh.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");

    // By hand, there and back: the file is right, and the cache holds what it was in between.
    let right = machine.hosts();
    fs::write(machine.path("hosts"), format!("{HOSTS}10.0.0.9 saltmarsh.test\n")).unwrap();
    machine.run("nscd", &["--invalidate=hosts"]).succeeds();
    assert!(machine.run("getent", &["ahosts", "saltmarsh.test"]).stdout.contains("10.0.0.9"));
    fs::write(machine.path("hosts"), &right).unwrap();
    let ran = machine.yandro(&["check", "-v"]);
    assert_eq!(ran.status, 1, "{ran}");
    for words in [
        "resolves `saltmarsh.test` to 10.0.0.9",
        "nscd holds an old answer",
        "sudo nscd --invalidate=hosts",
        "resolver-stale",
    ] {
        assert!(ran.stdout.contains(words), "{words}: {ran}");
    }
    machine.run("nscd", &["--invalidate=hosts"]).succeeds();
    machine.yandro(&["check"]).succeeds();
    // If the resolver doesn't read the file first, that is the cause.
    machine.run("nscd", &["--shutdown"]).succeeds();
    fs::write(machine.path("etc/nsswitch.conf"), "hosts: dns\n").unwrap();
    let ran = machine.yandro(&["check", "-v"]);
    insta::assert_snapshot!(steady(&ran), @r#"
    saltmarsh.test  $ROOT/saltmarsh, Apache httpd
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  127.0.0.1  TIME
      ✗ resolver  no address  TIME
      · address  not tried, since the resolver failed
      · connection  not tried, since the resolver failed
      ✓ virtual host  yandro-saltmarsh.test.conf:2  TIME
      · HTTP  not tried, since the resolver failed
      · redirect  not tried, since the resolver failed
      · TLS handshake  not tried, since the resolver failed
      – TLS, on offer  not asked
      – unknown names  not asked
      · certificate chain  not tried, since the resolver failed
      · certificate names  not tried, since the resolver failed
      · certificate validity  not tried, since the resolver failed
      · certificate on disk  not tried, since the resolver failed
      – trust stores  not trusted yet. Run: yandro authority trust
      · HTTPS  not tried, since the resolver failed
      – application  no page of the site's own
      · proof  not tried, since the resolver failed

    ✗ saltmarsh.test: the system finds no address for `saltmarsh.test`, though the hosts file has one: the system doesn't read the hosts file
        seen: hosts: dns
        fix: sudo sed -i 's/^hosts:\s*/hosts: files /' /etc/nsswitch.conf
        code: resolver-order

    1 site, 1 name: 0 proven, 1 not (TIME)
    saltmarsh.test: reached from this computer only
    [status 1]
    "#);
}

#[test]
fn an_address_of_the_network_serves_until_it_is_gone() {
    let Some(machine) = Namespace::new(&[]) else { return };
    machine.run("ip", &["address", "add", "192.168.7.20/24", "dev", "lo"]).succeeds();
    machine.yandro(&["map", "depot.saltmarsh.test", "./saltmarsh"]).succeeds();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--address", "192.168.7.20"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      certificate  made for saltmarsh.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      hosts file  changed /etc/hosts
      site list  changed $ROOT/home/.config/yandro/sites.toml
      server  Apache httpd: configuration tested, reloaded
      proof  https://saltmarsh.test/ answers from there, over HTTPS
    [status 0]
    ");
    let hosts = machine.hosts();
    // With an IPv4 address on the network and no IPv6 one, Apache httpd listens only on IPv4.
    let block = "\n127.0.0.1\tdepot.saltmarsh.test\n192.168.7.20\tsaltmarsh.test\n# end of yandro sites\n";
    assert!(hosts.ends_with(block), "{hosts}");
    machine.yandro(&["check"]).succeeds();
    machine.run("ip", &["address", "del", "192.168.7.20/24", "dev", "lo"]).succeeds();
    let ran = machine.yandro(&["check", "saltmarsh.test"]);
    assert_eq!(ran.status, 1, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test  $ROOT/saltmarsh, Apache httpd
      ✓ name  .test is reserved (RFC 6761)
      ✓ hosts file  192.168.7.20  TIME
      ✓ resolver  192.168.7.20  TIME
      ✗ address  address gone
      · connection  not tried, since the address failed
      ✓ virtual host  yandro-saltmarsh.test.conf:2  TIME
      ✓ HTTP
      ✓ redirect
      ✗ TLS handshake  no answer  TIME
      – TLS, on offer  not asked
      – unknown names  not asked
      · certificate chain  not tried, since the TLS handshake failed
      · certificate names  not tried, since the TLS handshake failed
      · certificate validity  not tried, since the TLS handshake failed
      · certificate on disk  not tried, since the TLS handshake failed
      – trust stores  not trusted yet. Run: yandro authority trust
      · HTTPS  not tried, since the TLS handshake failed
      – application  no page of the site's own
      · proof  not tried, since the TLS handshake failed

    ✗ saltmarsh.test: no interface of this machine has the address 192.168.7.20 any more, which the site is at
        seen: it only has loopback
        fix: yandro map saltmarsh.test --address 127.0.0.1

    1 site, 1 name: 0 proven, 1 not (TIME)
    [status 1]
    ");
    machine.yandro(&["map", "saltmarsh.test", "--address", "127.0.0.1"]).succeeds();
    machine.yandro(&["check"]).succeeds();

    // An address that is not this machine's: whoever answers there serves it, and no virtual host is written.
    let ran = machine.yandro(&["map", "crew.saltmarsh.test", "./saltmarsh", "--address", "192.168.56.10"]);
    assert_eq!(ran.status, 1, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    crew.saltmarsh.test -> $ROOT/saltmarsh
      certificate  made for crew.saltmarsh.test, until $DATE
      hosts file  changed /etc/hosts
      site list  changed $ROOT/home/.config/yandro/sites.toml
      proof  written, but with problems

    ✗ crew.saltmarsh.test: the address 192.168.56.10 of `crew.saltmarsh.test` can't be reached
        seen: port 80: network is unreachable
        fix: ping -c 3 192.168.56.10
    note: the server at 192.168.56.10 needs this certificate and its key: $ROOT/home/.local/share/yandro/certificates/crew.saltmarsh.test
    [status 1]
    ");
    assert!(machine.hosts().contains("\n192.168.56.10\tcrew.saltmarsh.test\n"));
    assert!(!machine.path("apache2/sites-available/yandro-crew.saltmarsh.test.conf").exists());
}

#[test]
fn hosts_entries_match_the_families_the_server_listens_on() {
    let Some(machine) = Namespace::new(&[]) else { return };
    fs::write(machine.path("apache2/ports.conf"), "Listen 127.0.0.1:80\nListen 127.0.0.1:443\n").unwrap();
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    assert!(!machine.hosts().contains("::1"), "{}", machine.hosts());
    fs::write(machine.path("apache2/ports.conf"), "Listen 80\nListen 443\n").unwrap();
    machine.run("apache2ctl", &["-k", "graceful"]).succeeds();
    let settled = || machine.yandro(&["settle"]).succeeds().stdout;
    eventually("Apache httpd listens on both", || settled().contains("hosts file"));
    assert!(machine.hosts().contains("\n127.0.0.1\tsaltmarsh.test\n::1\tsaltmarsh.test\n"), "{}", machine.hosts());
}

/// Asks a DNS server on port 5300 for addresses of each name, RFC 1035 section 4.
const QUESTION: &str = r#"
import socket, struct, sys
for name in sys.argv[1:]:
    q = struct.pack(">HHHHHH", 7, 0, 1, 0, 0, 0)
    q += b"".join(bytes([len(l)]) + l.encode() for l in name.split(".")) + b"\0" + struct.pack(">HH", 1, 1)
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.settimeout(5)
    s.sendto(q, ("127.0.0.1", 5300)); a = s.recv(512)
    print(name, "answers", struct.unpack(">H", a[6:8])[0], "code", a[3] & 15, socket.inet_ntoa(a[-4:]) if a[7] else "")
"#;

#[test]
fn a_zone_is_loaded_by_real_dns_servers() {
    let Some(machine) = Namespace::new(&["named-checkzone", "nsd", "python3"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]).succeeds();
    machine.yandro(&["map", "depot.saltmarsh.test", "./saltmarsh"]).succeeds();
    let ran = machine.yandro(&["hosts", "export", "--format", "zone", "--address", "192.168.7.20"]).succeeds();
    assert!(ran.stdout.starts_with("$ORIGIN saltmarsh.test.\n"), "{ran}");
    fs::write(machine.path("zone"), &ran.stdout).unwrap();
    let checked = machine.run("named-checkzone", &["saltmarsh.test", "zone"]).succeeds();
    assert!(checked.stdout.ends_with("OK\n"), "{checked}");
    let root = machine.root().display();
    let mut conf =
        format!("server:\n  ip-address: 127.0.0.1@5300\n  username: \"\"\n  chroot: \"\"\n  zonesdir: \"{root}\"\n");
    conf += &format!(
        "  database: \"\"\n  pidfile: \"{root}/nsd.pid\"\n  xfrdfile: \"{root}/xfrd\"\n  zonelistfile: \"{root}/list\"\n  xfrdir: \"{root}\"\n"
    );
    _ = write!(conf, "remote-control:\n  control-enable: no\nzone:\n  name: saltmarsh.test\n  zonefile: zone\n");
    fs::write(machine.path("nsd.conf"), conf).unwrap();
    let mut command = machine.command("nsd");
    let _nsd = Background::start(command.arg("-d").arg("-c").arg(machine.path("nsd.conf")));
    let ask = || {
        machine.run(
            "python3",
            &["-c", QUESTION, "saltmarsh.test", "www.saltmarsh.test", "depot.saltmarsh.test", "tides.saltmarsh.test"],
        )
    };
    eventually("nsd answers", || ask().status == 0);
    insta::assert_snapshot!(ask(), @"
    saltmarsh.test answers 1 code 0 111.115.116.0
    www.saltmarsh.test answers 1 code 0 111.115.116.0
    depot.saltmarsh.test answers 1 code 0 111.115.116.0
    tides.saltmarsh.test answers 0 code 3 
    [status 0]
    ");
}

#[test]
fn plain_http_and_both_are_choices_that_can_be_taken_back() {
    let Some(machine) = Namespace::new(&[]) else { return };
    let file = || fs::read_to_string(machine.path("apache2/sites-available/yandro-saltmarsh.test.conf")).unwrap();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--plain"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      virtual host  made /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      server  Apache httpd: configuration tested, started
      proof  http://saltmarsh.test/ answers from there
    [status 0]
    ");
    assert!(!machine.root_certificate().exists(), "no HTTPS, no authority");
    assert!(!machine.path("apache2/mods-enabled/ssl.load").exists());
    assert_eq!(machine.curl(&["http://saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let plain = file();
    machine.yandro(&["check"]).succeeds();

    machine.yandro(&["map", "saltmarsh.test", "--https", "both"]).succeeds();
    for url in ["http://saltmarsh.test/", "https://saltmarsh.test/"] {
        assert_eq!(machine.curl(&[url]).succeeds().stdout, "<h1>Saltmarsh Ferries</h1>\n");
    }
    machine.yandro(&["map", "saltmarsh.test", "--https", "only"]).succeeds();
    assert!(machine.curl(&["--head", "http://saltmarsh.test/"]).stdout.starts_with("HTTP/1.1 307 "));
    machine.yandro(&["check"]).succeeds();

    // A line that a person added goes with no virtual host.
    let path = machine.path("apache2/sites-available/yandro-saltmarsh.test.conf");
    let whole = file();
    fs::write(&path, whole.replace("\tSSLEngine on\n", "\tSSLEngine on\n\tSSLOptions +StdEnvVars\n")).unwrap();
    let ran = machine.yandro(&["map", "saltmarsh.test", "--plain"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: /etc/apache2/sites-available/yandro-saltmarsh.test.conf:24: this line was added by hand, and would be lost with its virtual host: move it, then try again
      24 |  SSLOptions +StdEnvVars
         | ^^^^^^^^^^^^^^^^^^^^^^^
    fix: correct that line, or delete the file, so that yandro writes a new one: /etc/apache2/sites-available/yandro-saltmarsh.test.conf
    [status 3]
    ");
    fs::write(&path, whole).unwrap();
    machine.yandro(&["map", "saltmarsh.test", "--plain"]).succeeds();
    assert_eq!(file(), plain);
    assert!(!machine.path("home/.local/share/yandro/certificates/saltmarsh.test").exists());
    machine.yandro(&["check"]).succeeds();
}

#[test]
fn other_systems_have_their_own_places_and_habits() {
    let windows = Sysroot::new();
    let hosts = "Windows/System32/drivers/etc/hosts";
    windows.write(hosts, "# Copyright of somebody\r\n127.0.0.1 localhost\r\n");
    windows.write("Windows/System32/drivers/etc/hosts.txt", "127.0.0.1 saltmarsh.test\r\n");
    windows.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    let text = windows.read(hosts);
    assert!(text.contains("\r\n127.0.0.1\tsaltmarsh.test\r\n::1\tsaltmarsh.test\r\n"), "{text:?}");
    assert!(text.lines().count() == text.matches("\r\n").count(), "{text:?}");
    assert!(!windows.read("etc/hosts").contains("saltmarsh"));
    insta::assert_snapshot!(windows.yandro(&["hosts", "lint"]), @"
    ! /Windows/System32/drivers/etc/hosts: a `hosts.txt` is next to /Windows/System32/drivers/etc/hosts, and nothing reads it
        fix: take its lines over with `yandro hosts import`, then delete it
    [status 1]
    ");

    let mac = Sysroot::new();
    mac.write("System/Library/CoreServices/SystemVersion.plist", "");
    mac.write("private/etc/hosts", "127.0.0.1\tlocalhost\n255.255.255.255\tbroadcasthost\n::1             localhost\n");
    mac.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    assert!(mac.read("private/etc/hosts").contains("127.0.0.1\tsaltmarsh.test\n"));
    assert_eq!(mac.yandro(&["hosts", "lint"]).stdout, "/private/etc/hosts does what it seems to do\n");

    let below_windows = Sysroot::new();
    below_windows.write("proc/version", "Linux version 6.6.87.2-microsoft-standard-WSL2\n");
    let ran = below_windows.yandro(&["hosts", "lint"]);
    insta::assert_snapshot!(steady(&ran), @r#"
    ! /etc/hosts: /etc/hosts is generated from Windows's own at each start, and changes here are lost
        fix: say `[network]` `generateHosts = false` in /etc/wsl.conf; browsers on Windows read C:\Windows\System32\drivers\etc\hosts, which needs the same lines
    [status 1]
    "#);
    below_windows.write("etc/wsl.conf", "[network]\ngenerateHosts = false\n");
    below_windows.yandro(&["hosts", "lint"]).succeeds();

    let container = Sysroot::new();
    container.write("proc/self/mountinfo", "36 35 98:0 /x/hosts /etc/hosts rw,relatime - ext4 /dev/vda rw\n");
    let ran = container.yandro(&["hosts", "lint"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    · /etc/hosts: /etc/hosts is a mount, as in a container: it may be new at the next start
        fix: have the container's own configuration add the names, if they are to last
    /etc/hosts does what it seems to do
    [status 0]
    ");
}

#[test]
fn a_preview_of_any_of_it_writes_nothing() {
    let sysroot = Sysroot::new();
    sysroot.write("etc/hosts", MESSY);
    sysroot.write("team.txt", "192.168.7.2 quay.saltmarsh.test\n");
    fs::create_dir_all(sysroot.path("usr/local/share/ca-certificates")).unwrap();
    sysroot.yandro(&["map", "depot.saltmarsh.test", "./depot", "--server", "built-in"]).succeeds();
    let before = sysroot.tree();
    for (arguments, words) in [
        (&["hosts", "point", "moon.test", "10.0.0.7"][..], "+10.0.0.7 moon.test"),
        (&["hosts", "drop", "pier.test"], "+10.0.0.5 saltmarsh.test # the old machine"),
        (&["hosts", "import", "team.txt"], "+192.168.7.2\tquay.saltmarsh.test"),
        (&["hosts", "lint", "--fix"], "+127.0.0.1 buoy.test"),
        (
            &["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in", "--take-over"],
            "+# yandro took over: 10.0.0.5",
        ),
        (&["authority", "trust"], "then the system's trust store is updated"),
        (&["unmap", "depot.saltmarsh.test"], "-127.0.0.1\tdepot.saltmarsh.test"),
        (&["undo"], "-127.0.0.1\tdepot.saltmarsh.test"),
    ] {
        let ran = sysroot.yandro(&[arguments, &["--preview"]].concat()).succeeds();
        assert!(ran.stdout.contains(words), "{arguments:?}: {ran}");
        assert_eq!(sysroot.tree(), before, "{arguments:?}");
    }
}

/// The line that answers is the one that getaddrinfo gives first, whatever `multi` is.
#[test]
fn lines_that_are_answered_before_are_those_that_the_system_gives_later() {
    let Some(machine) = Namespace::new(&["python3", "ip"]) else { return };
    shell(
        &machine,
        "ip address add 192.168.1.2/24 dev lo; ip address add 10.0.0.1/24 dev lo; ip -6 address add fd00::1/64 dev lo",
    );
    let pool = ["127.0.0.1", "::1", "10.0.0.5", "192.168.1.5", "fd00::5", "10.9.9.9", "2001:db8::5"];
    let mut numbers = Numbers(7);
    let mut text = "127.0.0.1 localhost\n".to_owned();
    for name in 0..60 {
        for _ in 0..2 + numbers.below(3) {
            text += &format!("{} n{name}.test\n", pool[numbers.below(pool.len() as u64)]);
        }
    }
    std::fs::write(machine.path("hosts"), text).unwrap();
    for multi in ["on", "off"] {
        std::fs::write(machine.path("etc/host.conf"), format!("multi {multi}\n")).unwrap();
        let script = "import socket\nfor n in range(60): print(*dict.fromkeys(a[4][0] for a in socket.getaddrinfo(f'n{n}.test', 80, type=socket.SOCK_STREAM)))";
        let given = machine.run("python3", &["-c", script]).succeeds().stdout;
        let list: serde_json::Value =
            serde_json::from_str(&machine.yandro(&["hosts", "list", "--json"]).stdout).unwrap();
        let entries = list["entries"].as_array().unwrap();
        let address_of =
            |line: u64| entries.iter().find(|own| own["line"] == line).unwrap()["address"].as_str().unwrap();
        for (name, given) in given.lines().enumerate() {
            let given: Vec<&str> = given.split(' ').collect();
            let own = entries.iter().filter(|own| own["names"][0]["name"] == format!("n{name}.test"));
            let mut answering = Vec::new();
            for entry in own {
                let address = entry["address"].as_str().unwrap();
                let Some(by) = entry["names"][0]["answered_before_by_line"].as_u64() else {
                    answering.push(address);
                    continue;
                };
                let place = |address: &str| given.iter().position(|own| *own == address);
                let is_later = place(address).is_none_or(|own| place(address_of(by)).is_some_and(|other| other <= own));
                assert!(is_later, "multi {multi}, n{name}.test: {address} before {} in {given:?}", address_of(by));
            }
            assert!(answering.contains(&given[0]), "multi {multi}, n{name}.test: {answering:?} of {given:?}");
        }
    }
}
