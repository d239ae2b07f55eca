//! nginx: which server block answers a name, by the configuration and by real requests.

use std::fs;

use camino::Utf8Path;
use yandro_core::nginx::run::answering_name;
use yandro_machine::nginx;

use super::kit::{Numbers, eventually};
use super::namespace::Namespace;

const NAMES: [&str; 12] = [
    "saltmarsh.test",
    "www.saltmarsh.test",
    "*.saltmarsh.test",
    ".depot.saltmarsh.test",
    "boat.*",
    "boat.depot.*",
    "~^boat[0-9]+\\.saltmarsh\\.test$",
    "\"~^(?<name>tide|moon)\\.test$\"",
    "_",
    "\"\"",
    "TIDE.test",
    "crew.saltmarsh.test \n # crew2.saltmarsh.test;\n crew3.saltmarsh.test",
];

const ASKED: [&str; 12] = [
    "saltmarsh.test",
    "www.saltmarsh.test",
    "a.b.saltmarsh.test",
    "depot.saltmarsh.test",
    "x.depot.saltmarsh.test",
    "boat.example",
    "boat.depot.example",
    "boat12.saltmarsh.test",
    "tide.test",
    "moon.test",
    "crew3.saltmarsh.test",
    "nobody.test",
];

const LISTENS: [&str; 8] = [
    "listen 80;",
    "listen *:80;",
    "listen 127.0.0.1:80;",
    "listen 127.0.0.1;",
    "listen 8080;",
    "",
    "listen 80; listen [::]:80 ipv6only=on;",
    "listen 0.0.0.0:8080;",
];

/// A configuration of server blocks that each answer with their own number.
fn generated(numbers: &mut Numbers, files: &mut Vec<(String, String)>) -> String {
    let mut text = "error_log /dev/null;\npid nginx.pid;\nevents {}\n# http {\nhttp {\n\taccess_log off;\n".to_owned();
    let mut defaults = Vec::new();
    for block in 0..2 + numbers.below(6) {
        let mut listen = LISTENS[numbers.below(8)].to_owned();
        // One default for each address at most, or the server refuses.
        let address = if listen.contains("8080") { "8080" } else { "80" };
        let is_plain = !listen.contains("127.") && !listen.contains("::") && listen.ends_with(';');
        if is_plain && numbers.below(4) == 0 && !defaults.contains(&address) {
            defaults.push(address);
            listen = listen.replace(';', " default_server;");
        }
        let names: Vec<&str> = (0..numbers.below(3)).map(|_| NAMES[numbers.below(12)]).collect();
        let names = if names.is_empty() { String::new() } else { format!("server_name {};", names.join(" ")) };
        let server = format!("server {{ {listen}\n\t\t{names} return 200 BLOCK-{block}-; # }}\n}}\n");
        if numbers.below(3) == 0 {
            files.push((format!("sites/{block}.conf"), server));
        } else {
            text += &server;
        }
    }
    text + "\tinclude sites/*.conf;\n}\n"
}

#[test]
fn the_block_that_answers_is_the_one_that_was_foretold() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    let mut numbers = Numbers(11);
    let (mut asked, mut configurations, mut refused) = (0, 0, 0);
    for round in 0..60 {
        let folder = machine.path(&format!("round{round}"));
        fs::create_dir_all(folder.join("sites")).unwrap();
        let mut files = Vec::new();
        let text = generated(&mut numbers, &mut files);
        for (path, content) in &files {
            fs::write(folder.join(path), content).unwrap();
        }
        let main = folder.join("nginx.conf");
        fs::write(&main, &text).unwrap();
        let main = Utf8Path::from_path(&main).unwrap();
        let found = nginx::run_through(Utf8Path::new("/"), main);
        let prefix = format!("{}/", folder.display());
        let run = |more: &[&str]| machine.run("nginx", &[&["-p", &prefix, "-c", main.as_str()], more].concat());
        if run(&["-t"]).status != 0 {
            // Two with the same default, or an address twice in one block.
            refused += 1;
            continue;
        }
        assert_eq!(found.fault, None, "{text}");
        run(&[]).succeeds();
        let answering = found.answering();
        // All questions in one go: for each the host and what has to come back.
        let mut questions = Vec::new();
        for (address, port) in [("127.0.0.1", 80), ("127.0.0.2", 80), ("127.0.0.1", 8080)] {
            let own = |host: &str| answering.iter().find(|at| at.address == format!("{host}:{port}"));
            let Some(at) = own(address).or_else(|| own("*")) else { continue };
            for name in ASKED {
                let host = answering_name(at, name).unwrap();
                let server = found.servers.iter().position(|server| server.host.place == host.place).unwrap();
                questions.push((format!("http://{address}:{port}/"), name, server));
            }
        }
        let block = |server: usize| {
            let place = &found.servers[server].host.place;
            let text = fs::read_to_string(&place.file).unwrap();
            let from: String = text.lines().skip(place.line - 1).collect::<Vec<_>>().join("\n");
            let after = from.split("BLOCK-").nth(1).unwrap();
            format!("BLOCK-{}-", after.split('-').next().unwrap())
        };
        let first = questions.first().map(|(url, ..)| url.clone()).unwrap();
        eventually("it answers", || machine.run("curl", &["--silent", &first]).status == 0);
        for (url, name, server) in &questions {
            let answer = machine.run("curl", &["--silent", "--header", &format!("Host: {name}"), url]).stdout;
            assert_eq!(answer, block(*server), "{name} at {url}\n{text}\n{files:?}");
        }
        asked += questions.len();
        configurations += 1;
        run(&["-s", "quit"]).succeeds();
        eventually("it has ended", || !folder.join("nginx.pid").exists());
    }
    eprintln!(
        "{configurations} configurations, {asked} requests answered as foretold; {refused} refused by the server"
    );
    assert!(configurations > 40 && asked > 1000, "{configurations} {asked}");
}

#[test]
fn both_servers_blocks_are_listed() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    let text = machine.yandro(&["vhosts"]).succeeds();
    insta::assert_snapshot!(text, @"
    Apache httpd
    ADDRESS  NAME       SERVES         TLS  WHERE                                          WHOSE
    *:80     (no name)  /var/www/html  –    /etc/apache2/sites-enabled/000-default.conf:1  yours

    nginx
    ADDRESS  NAME  SERVES         TLS  WHERE                                WHOSE
    *:80     _     /var/www/html  –    /etc/nginx/sites-enabled/default:21  yours
    [::]:80  _     /var/www/html  –    /etc/nginx/sites-enabled/default:21  yours
    [status 0]
    ");
}
