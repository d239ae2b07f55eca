//! The virtual hosts that yandro finds are those that the server itself reports.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;

use camino::Utf8Path;
use yandro_core::{HttpdRun, ServerKind, Start, by_address};
use yandro_machine::{Disk, servers};

use super::kit::{Numbers, Sysroot, has};
use super::namespace::Namespace;

/// By address: name, place and aliases of each virtual host, in order. No name where the
/// server made one up; no aliases where it doesn't tell them.
type Reported = BTreeMap<String, Vec<(Option<String>, String, Option<Vec<String>>)>>;

/// Reads what `-D DUMP_VHOSTS` prints.
fn reported(dump: &str) -> Reported {
    let mut found = Reported::new();
    let mut address = String::new();
    for line in dump.lines() {
        let text = line.trim_start();
        let placed = |text: &str| {
            let (name, place) = text.split_once(" (").unwrap();
            (Some(name.to_owned()), place.strip_suffix(')').unwrap().to_owned())
        };
        if let Some(alias) = text.strip_prefix("alias ").or_else(|| text.strip_prefix("wild alias ")) {
            found.get_mut(&address).unwrap().last_mut().unwrap().2.as_mut().unwrap().push(alias.to_owned());
        } else if text.starts_with("default server ") || line.starts_with("VirtualHost configuration") {
        } else if text.starts_with("port ") {
            let (name, place) = placed(text.split_once(" namevhost ").unwrap().1);
            found.entry(address.clone()).or_default().push((name, place, Some(Vec::new())));
        } else if let Some((own, rest)) = line.split_once(char::is_whitespace).filter(|(own, _)| own.contains(':')) {
            own.clone_into(&mut address);
            if rest.trim() != "is a NameVirtualHost" {
                let (name, place) = placed(rest.trim());
                found.entry(address.clone()).or_default().push((name, place, None));
            }
        }
    }
    found
}

/// Yandro's reading in the same form, compared with `theirs`, which may have less.
fn assert_agrees(configuration: &HttpdRun, theirs: &Reported, what: &str) {
    let hosts = configuration.virtual_hosts();
    let ours = by_address(&hosts);
    assert_eq!(configuration.fault, None, "{what}");
    let addresses = |list: Vec<&String>| list.into_iter().cloned().collect::<std::collections::BTreeSet<_>>();
    assert_eq!(addresses(ours.iter().map(|at| &at.address).collect()), addresses(theirs.keys().collect()), "{what}");
    for at in &ours {
        let listed = &theirs[&at.address];
        assert_eq!(at.hosts.len(), listed.len(), "{}: {listed:?}\n{what}", at.address);
        for (host, (name, place, aliases)) in at.hosts.iter().zip(listed) {
            assert_eq!(host.place.to_string(), *place, "{what}");
            if let Some(own) = &host.name {
                assert_eq!(Some(own), name.as_ref(), "{what}");
            }
            if let Some(aliases) = aliases {
                // The server lists those without wildcards first.
                let mut own = host.aliases.clone();
                own.sort_by_key(|alias| alias.contains(['*', '?']));
                assert_eq!(own, *aliases, "{what}");
            }
        }
    }
}

fn start(main: &Path) -> Start {
    let report =
        servers::report(ServerKind::Apache, Utf8Path::new("/usr/sbin/apache2")).expect("Apache httpd tells of itself");
    let main = Utf8Path::from_path(main).unwrap().to_owned();
    Start { main: main.into(), report, environment: BTreeMap::new(), defines: Vec::new() }
}

/// The server's own report on a main file; `None` if it refuses it.
fn ask(main: &Path) -> Option<String> {
    let arguments = ["-t", "-D", "DUMP_VHOSTS", "-C", "ErrorLog /dev/null", "-f"];
    let output = Command::new("/usr/sbin/apache2").args(arguments).arg(main).output().unwrap();
    output.status.success().then(|| String::from_utf8(output.stdout).unwrap())
}

const HEAD: &str = "ServerName main.test\nListen 8080\nPidFile /dev/null\n\
    LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\n\
    LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\n\
    LoadModule macro_module /usr/lib/apache2/modules/mod_macro.so\n\
    LoadModule dir_module /usr/lib/apache2/modules/mod_dir.so\n";

/// A piece of configuration as people write them; `number` makes its names its own.
fn piece(numbers: &mut Numbers, number: usize, files: &mut Vec<(String, String)>, depth: usize) -> String {
    const ADDRESSES: [&str; 10] = [
        "*:80",
        "*:443",
        "_default_:443",
        "*",
        "10.0.0.1:80",
        "10.0.0.1",
        "[::1]:8080",
        "\"*:80\"",
        "10.0.0.1:443 *:81",
        "*:80 \\\n\t[2001:db8:0::5]:80",
    ];
    let name = format!("boat{number}.saltmarsh.test");
    let inner = |numbers: &mut Numbers, files: &mut Vec<_>| {
        if depth > 2 { String::new() } else { piece(numbers, number * 10 + 1, files, depth + 1) }
    };
    match numbers.below(13) {
        0 => format!("# a note \\\n<VirtualHost *:80>\n{}", inner(numbers, files)),
        1 => {
            format!("<IfModule mod_ssl.c>\nServerName \"\n<Nested>\n</Nested>\n</IfModule>\n{}", inner(numbers, files))
        }
        2 => format!("<IfModule !ssl_module>\n{}</IfModule>\n", inner(numbers, files)),
        3 => format!("<IfModule mod_macro.c>\n{}</IFMODULE>  \n", inner(numbers, files)),
        4 => format!("<IfVersion >= 2.{}>\n{}</IfVersion>\n", [2, 4, 6][numbers.below(3)], inner(numbers, files)),
        5 => format!(
            "Define TIDE{number} {name}\n<IfDefine TIDE{number}>\n<VirtualHost *:80>\nServerName ${{TIDE{number}}}\n</VirtualHost>\n</IfDefine>\nUnDefine TIDE{number}\n<IfDefine TIDE{number}>\n{}</IfDefine>\n",
            inner(numbers, files)
        ),
        6 => {
            let text = inner(numbers, files);
            let folder = ["sites", "conf.d", "vhosts/deep"][numbers.below(3)];
            files.push((format!("{folder}/{number:04}.conf"), text));
            String::new()
        }
        7 => format!(
            "<Macro Site{number} $name $port>\n<VirtualHost *:$port>\n  ServerName $name\n  ServerAlias www.$name\n</VirtualHost>\n</Macro>\nUse site{number} {name} 80\nUse Site{number} second.{name} \"443\"\n"
        ),
        8 => format!(
            "<Directory \"/srv/a > b\">\nAllowOverride None\n</Directory>\n<If \"true\">\n</If>\n{}",
            inner(numbers, files)
        ),
        _ => {
            let address = ADDRESSES[numbers.below(10)];
            let names = [
                format!("ServerName {name}\n"),
                format!("\tservername http://{name}:8080\n  ServerAlias www.{name} *.{name}\n"),
                format!("ServerName old.{name}\nServerAlias a.{name} \\\n b.{name} # {name}\nServerName {name}\n"),
                format!("ServerName '{name}'\r\n<Location /tide>\r\n</Location>\r\nServerAlias \"c.{name}\"\r\n"),
            ];
            format!("<VirtualHost {address}>\n{}</virtualhost>\n", names[numbers.below(4)])
        }
    }
}

#[test]
fn vhosts_lists_what_the_server_itself_reports() {
    if !has(&["apache2"], false) {
        return;
    }
    let mut numbers = Numbers(7);
    let (mut agreed, mut hosts, mut refused) = (0, 0, 0);
    for round in 0..250 {
        let folder = tempfile::tempdir().unwrap();
        let mut files = Vec::new();
        let mut text = format!("ServerRoot {}\n{HEAD}", folder.path().display());
        for number in 0..numbers.below(9) {
            text += &piece(&mut numbers, round * 100 + number, &mut files, 0);
        }
        text += ["", "IncludeOptional sites/*.conf\nInclude conf.d\n"][numbers.below(2)];
        text += "IncludeOptional vhosts/*/*.conf\nIncludeOptional sites/*[0-4].conf\n";
        if round % 25 == 24 {
            text += ["<VirtualHost *:80>\n", "</VirtualHost>\n", "Include none\n", "<IfModule x>\n"][numbers.below(4)];
        }
        fs::create_dir_all(folder.path().join("conf.d")).unwrap();
        for (path, content) in &files {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
        let main = folder.path().join("httpd.conf");
        fs::write(&main, &text).unwrap();
        let found = HttpdRun::run(&start(&main), &Disk);
        if let Some(dump) = ask(&main) {
            let theirs = reported(&dump);
            hosts += theirs.values().map(Vec::len).sum::<usize>();
            assert_agrees(&found, &theirs, &format!("{text}\n{files:?}\n{dump}"));
            agreed += 1;
        } else {
            assert!(found.fault.is_some(), "the server refuses it:\n{text}\n{files:?}");
            refused += 1;
        }
    }
    eprintln!("{agreed} configurations with {hosts} virtual hosts agree, {refused} are refused by both");
    assert!(agreed > 200 && refused > 5, "{agreed} {refused}");
}

/// `yandro vhosts` says what the server itself reports.
pub fn agrees_with(machine: &Namespace, control: &[&str]) {
    let arguments = [&control[1..], &["-t", "-D", "DUMP_VHOSTS"]].concat();
    let dump = machine.run(control[0], &arguments).succeeds().stdout;
    let found = machine.yandro(&["--json", "vhosts"]).succeeds().stdout;
    let found: serde_json::Value = serde_json::from_str(&found).unwrap();
    let mut ours = Reported::new();
    for at in found["servers"][0]["addresses"].as_array().unwrap() {
        for host in at["virtual-hosts"].as_array().unwrap() {
            let text = |value: &serde_json::Value| value.as_str().map(str::to_owned);
            let place = format!("{}:{}", text(&host["file"]).unwrap(), host["line"]);
            ours.entry(text(&at["address"]).unwrap()).or_default().push((text(&host["name"]), place, None));
        }
    }
    let mut theirs = reported(&dump);
    for host in theirs.values_mut().flatten() {
        host.2 = None;
    }
    // The server makes a name up for those that have none.
    for (own, their) in ours.values().flatten().zip(theirs.values_mut().flatten()) {
        if own.0.is_none() {
            their.0 = None;
        }
    }
    assert_eq!(ours, theirs, "{dump}");
}

#[test]
fn debians_own_and_hand_written_layouts_agree() {
    let Some(machine) = Namespace::new(&[]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--alias", "www.saltmarsh.test"]).succeeds();
    machine.yandro(&["map", "depot.saltmarsh.test", "./saltmarsh", "--https", "both"]).succeeds();
    fs::copy(
        machine.path("apache2/sites-available/default-ssl.conf"),
        machine.path("apache2/sites-enabled/default-ssl.conf"),
    )
    .unwrap();
    fs::write(
        machine.path("apache2/conf-enabled/tides.conf"),
        "<VirtualHost *:80>\nServerName SALTMARSH.test\n</VirtualHost>\n",
    )
    .unwrap();
    agrees_with(&machine, &["apache2ctl"]);
    let text = machine.yandro(&["vhosts"]).succeeds();
    insta::assert_snapshot!(text, @"
    Apache httpd
    ADDRESS  NAME                  SERVES                                             TLS  WHERE                                                           OWNER
    *:80     SALTMARSH.test        –                                                  –    /etc/apache2/conf-enabled/tides.conf:1                          manual
             (no name)             /var/www/html                                      –    /etc/apache2/sites-enabled/000-default.conf:1                   manual
             depot.saltmarsh.test  $ROOT/saltmarsh                          –    /etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf:2   yandro
             saltmarsh.test        redirects to https://%{SERVER_NAME}%{REQUEST_URI}  –    /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf:2         yandro
               www.saltmarsh.test
    *:443    (no name)             /var/www/html                                      yes  /etc/apache2/sites-enabled/default-ssl.conf:1                   manual
             localhost             –                                                  yes  /etc/apache2/sites-enabled/yandro-0.invalid.conf:3              yandro
             depot.saltmarsh.test  $ROOT/saltmarsh                          yes  /etc/apache2/sites-enabled/yandro-depot.saltmarsh.test.conf:19  yandro
             saltmarsh.test        $ROOT/saltmarsh                          yes  /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf:11        yandro
               www.saltmarsh.test

    The first of each address answers for names that none of its virtual hosts has.
    ! saltmarsh.test on *:80: /etc/apache2/conf-enabled/tides.conf:1 answers, and /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf:2 never does

    nginx
    ADDRESS  NAME  SERVES         TLS  WHERE                                OWNER
    *:80     _     /var/www/html  –    /etc/nginx/sites-enabled/default:21  manual
    [::]:80  _     /var/www/html  –    /etc/nginx/sites-enabled/default:21  manual
    [status 0]
    ");
}

#[test]
fn a_broken_configuration_is_reported_with_its_place() {
    let sysroot = Sysroot::with_apache();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    sysroot.write(
        "etc/apache2/apache2.conf",
        "Include ports.conf\nIncludeOptional sites-enabled/*.conf\n<Directory /srv>\n",
    );
    let ran = sysroot.yandro(&["vhosts"]);
    insta::assert_snapshot!(ran, @"
    ADDRESS  NAME            SERVES                                             TLS  WHERE                                                     OWNER
    *:80     localhost       –                                                  –    /etc/apache2/sites-enabled/yandro-0.invalid.conf:3        yandro
             saltmarsh.test  redirects to https://%{SERVER_NAME}%{REQUEST_URI}  –    /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf:2   yandro
    *:443    localhost       –                                                  yes  /etc/apache2/sites-enabled/yandro-0.invalid.conf:6        yandro
             saltmarsh.test  /saltmarsh                                         yes  /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf:10  yandro

    The first of each address answers for names that none of its virtual hosts has.
    ✗ /etc/apache2/apache2.conf:3: `<Directory>` is never closed; the text behind it was not read
      3 | <Directory /srv>
        | ^^^^^^^^^^^^^^^^
    [status 1]
    ");
    let empty = Sysroot::with_apache();
    insta::assert_snapshot!(empty.yandro(&["vhosts"]), @"
    No virtual host yet. Map a site: yandro map NAME FOLDER
    [status 0]
    ");
    insta::assert_snapshot!(Sysroot::new().yandro(&["vhosts"]), @"
    error: no web server was found
    fix: install Apache httpd (`apt install apache2`) or nginx (`apt install nginx-light`), or use the built-in server: add `--server built-in`
    [status 3]
    ");
}
