//! nginx: which server block answers a name, by the configuration and by real requests.

use std::fs;

use camino::Utf8Path;
use yandro_core::{NginxRun, answering_name};
use yandro_machine::Disk;

use super::kit::{Background, Numbers, eventually, steady};
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
    for round in 0..36 {
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
        let found = NginxRun::run(&main.into(), &Disk);
        let prefix = format!("{}/", folder.display());
        let run = |more: &[&str]| machine.run("nginx", &[&["-p", &prefix, "-c", main.as_str()], more].concat());
        if run(&["-t"]).status != 0 {
            // Two with the same default, or an address twice in one block.
            refused += 1;
            continue;
        }
        assert_eq!(found.fault, None, "{text}");
        // The same files, in the same order, as it shows of itself.
        let shown = run(&["-T", "-q"]).succeeds().stdout;
        let heads = shown.lines().filter_map(|line| line.strip_prefix("# configuration file ")?.strip_suffix(':'));
        let files: Vec<String> =
            found.files.iter().map(|file| file.as_str().replace(machine.root().to_str().unwrap(), "$ROOT")).collect();
        assert_eq!(heads.collect::<Vec<_>>(), files, "{text}");
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
    assert!(configurations > 24 && asked > 600, "{configurations} {asked}");
}

#[test]
fn both_servers_blocks_are_listed() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    let text = machine.yandro(&["vhosts"]).succeeds();
    insta::assert_snapshot!(text, @"
    Apache httpd
    ADDRESS  NAME       SERVES         TLS  WHERE                                          OWNER
    *:80     (no name)  /var/www/html  –    /etc/apache2/sites-enabled/000-default.conf:1  manual

    nginx
    ADDRESS  NAME  SERVES         TLS  WHERE                                OWNER
    *:80     _     /var/www/html  –    /etc/nginx/sites-enabled/default:21  manual
    [::]:80  _     /var/www/html  –    /etc/nginx/sites-enabled/default:21  manual
    [status 0]
    ");
}

/// Every file of nginx's own, and the hosts file.
fn tree(machine: &Namespace) -> String {
    machine.run("sh", &["-c", "cd etc/nginx; find . | sort; cat nginx.conf sites-available/* ../../hosts"]).stdout
}

#[test]
fn a_folder_becomes_a_proven_site_and_goes_again() {
    let Some(machine) = Namespace::new(&["nginx", "openssl"]) else { return };
    let before = tree(&machine);
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
      virtual host  made /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/nginx/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/nginx/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      server  nginx: configuration tested, started
      proof  https://saltmarsh.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    let own = machine.curl(&["http://localhost/"]).stdout;
    assert!(own.contains("nginx") || own.contains("Apache2"), "the default site's page: {own}");
    assert_eq!(machine.curl(&["--http2", "https://saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    let head = machine.curl(&["--head", "http://saltmarsh.test/a%20b?tide=high"]).stdout;
    assert!(head.contains("Location: https://saltmarsh.test/a%20b?tide=high\r\n"), "{head}");
    let resolve = ["--insecure", "--resolve", "nobody.test:443:127.0.0.1", "--resolve", "nobody.test:80:127.0.0.1"];
    let other = |url: &str| machine.curl(&[&resolve[..], &[url]].concat()).stdout;
    assert_eq!(other("http://nobody.test/"), own);
    assert!(other("https://nobody.test/").contains("403 Forbidden"));

    let ran = machine.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      certificate  changed for saltmarsh.test, www.saltmarsh.test, until $DATE
      virtual host  changed /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      hosts file  changed /etc/hosts
      site list  changed $ROOT/home/.config/yandro/sites.toml
      server  nginx: configuration tested, reloaded
      proof  https://saltmarsh.test/ answers from there, over HTTPS
    [status 0]
    ");
    assert_eq!(machine.curl(&["https://www.saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    machine.yandro(&["check"]).succeeds();
    assert!(machine.yandro(&["settle"]).succeeds().stdout.contains("nothing was changed"));
    let listed = machine.yandro(&["vhosts"]).succeeds().stdout;
    assert!(listed.contains("www.saltmarsh.test") && listed.contains("yandro-saltmarsh.test.conf:2"), "{listed}");
    // A directive of the user stays in the site's block, and changed ones are reported.
    let file = machine.path("etc/nginx/sites-available/yandro-saltmarsh.test.conf");
    let text = fs::read_to_string(&file)
        .unwrap()
        .replace("autoindex on;", "autoindex off; # mine\n\tadd_header X-Ferry tide;");
    fs::write(&file, text).unwrap();
    let ran = machine.yandro(&["settle", "--preview"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    Nothing would change: everything is as it should be.

    ! saltmarsh.test: line 25 was edited by hand and stays: `autoindex off;`
        yandro would write: autoindex on;

    to overwrite your edits of saltmarsh.test: yandro settle --put-back saltmarsh.test
    [status 0]
    ");
    machine.yandro(&["map", "saltmarsh.test", "--no-alias"]).succeeds();
    assert!(machine.curl(&["--head", "https://saltmarsh.test/"]).stdout.to_lowercase().contains("x-ferry: tide"));

    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(tree(&machine), before);
    eventually("it is as before", || machine.curl(&["--insecure", "https://localhost/"]).status == 7);
}

#[test]
fn nginx_does_what_the_site_options_say() {
    let programs = fs::read_dir("/usr/sbin").unwrap().filter_map(|entry| entry.unwrap().file_name().into_string().ok());
    let fpm = programs.filter(|name| name.starts_with("php-fpm")).max().unwrap_or("php-fpm".into());
    let Some(machine) = Namespace::new(&["nginx", "openssl", &fpm]) else { return };
    machine.run("mkdir", &["/run/php"]).succeeds();
    let mut fpm = machine.command(&fpm);
    let _fpm = Background::start(fpm.arg("--nodaemonize"));
    eventually("php-fpm listens", || !machine.run("sh", &["-c", "ls /run/php/*.sock"]).stdout.is_empty());
    let page = "<?php echo $_SERVER['HTTP_HOST'], ' ', $_SERVER['SERVER_NAME'], ' ', $_SERVER['HTTPS'] ?? '', ' ', $_SERVER['REQUEST_URI'];";
    fs::write(machine.path("saltmarsh/index.php"), page).unwrap();
    let map = |more: &[&str]| machine.yandro(&[&["map", "saltmarsh.test"], more].concat()).succeeds();
    map(&[
        "./saltmarsh",
        "--server",
        "nginx",
        "--php",
        "--fallback",
        "index.php",
        "--https-port",
        "443",
        "--https-port",
        "8443",
    ]);
    let seen = |url: &str| machine.curl(&["--http1.1", url]).stdout;
    assert_eq!(seen("https://saltmarsh.test/"), "saltmarsh.test saltmarsh.test on /");
    assert_eq!(
        seen("https://saltmarsh.test:8443/tides/high?at=noon"),
        "saltmarsh.test:8443 saltmarsh.test on /tides/high?at=noon"
    );
    machine.yandro(&["check"]).succeeds();
    fs::write(machine.path("saltmarsh/env.php"), "<?php echo getenv('FERRY'), '|', $_SERVER['APP_ENV'] ?? '';")
        .unwrap();
    map(&["--env", "FERRY=high \"tide\"; it's {100%} 'é'", "--env", "APP_ENV=local"]);
    assert_eq!(seen("https://saltmarsh.test/env.php"), "high \"tide\"; it's {100%} 'é'|local");
    map(&["--env", "off"]);
    assert_eq!(seen("https://saltmarsh.test/env.php"), "|");
    fs::create_dir(machine.path("saltmarsh/maps")).unwrap();
    fs::write(machine.path("more.conf"), "add_header X-More yes;\n").unwrap();
    fs::write(machine.path("saltmarsh/.htaccess"), "Deny\n").unwrap();
    let status = |path: &str| {
        let url = format!("https://saltmarsh.test/{path}");
        machine.curl(&["--output", "/dev/null", "--write-out", "%{http_code}", &url]).stdout
    };
    map(&["--php=off", "--fallback", "off", "--index", "index.html", "--https-port", "443"]);
    assert_eq!(["maps/", "none", ".htaccess", ""].map(status), ["200", "404", "403", "200"]);
    map(&["--listing", "off", "--extra", "./more.conf", "--logs", "./logs"]);
    assert_eq!(["maps/", "none"].map(status), ["403", "404"]);
    assert!(machine.curl(&["--head", "https://saltmarsh.test/"]).stdout.to_lowercase().contains("x-more: yes"));
    assert!(fs::read_to_string(machine.path("logs/saltmarsh.test-access.log")).unwrap().contains("GET /none HTTP/"));
    let ran = machine.yandro(&["map", "saltmarsh.test", "--overrides", "off"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: nginx has no override files: leave `--overrides` out
    [status 2]
    ");
    let shake = |arguments: &[&str]| {
        let usual = ["s_client", "-connect", "127.0.0.1:443", "-servername", "saltmarsh.test"];
        machine.run("openssl", &[&usual, arguments].concat()).status
    };
    assert_eq!(shake(&["-tls1_2", "-cipher", "ECDHE-ECDSA-AES128-GCM-SHA256"]), 0);
    assert_ne!(shake(&["-tls1_2", "-cipher", "ECDHE-ECDSA-AES256-SHA"]), 0);
}

#[test]
fn a_main_file_without_an_include_gets_one_and_loses_it_again() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    for entry in ["sites-available", "sites-enabled", "conf.d"] {
        _ = fs::remove_dir_all(machine.path("etc/nginx").join(entry));
    }
    let main = "user www-data;\npid /run/nginx.pid;\nevents { }\nhttp {\n    server { listen 80; server_name localhost; return 200 ours; }\n}";
    fs::write(machine.path("etc/nginx/nginx.conf"), main).unwrap();
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    assert_eq!(machine.curl(&["https://saltmarsh.test/"]).stdout, "<h1>Saltmarsh Ferries</h1>\n");
    assert_eq!(machine.curl(&["http://localhost/"]).stdout, "ours");
    let text = fs::read_to_string(machine.path("etc/nginx/nginx.conf")).unwrap();
    assert!(text.contains("\tinclude /etc/nginx/yandro-*.conf;\n}"), "{text}");
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(fs::read_to_string(machine.path("etc/nginx/nginx.conf")).unwrap(), main);
}

#[test]
fn a_site_moves_from_one_server_to_the_other_and_back() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    // Each has its own ports.
    let default = machine.path("etc/nginx/sites-enabled/default");
    let map = |more: &[&str]| machine.yandro(&[&["map", "saltmarsh.test"], more].concat());
    map(&["./saltmarsh"]).succeeds();
    let served =
        |port: &str| machine.curl(&["--head", &format!("https://saltmarsh.test{port}/")]).stdout.to_lowercase();
    assert!(served("").contains("server: apache"), "{}", served(""));
    // While Apache httpd has the ports, nginx can't be started on them.
    let ran = map(&["--server", "nginx"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: nginx doesn't run, and can't be started: port 80 is held by `apache2` (process PID, user root); nothing was changed
    fix: stop that server: yandro servers stop apache; or choose other ports: --http-port, --https-port
    [status 3]
    ");
    assert!(served("").contains("server: apache"));
    let listed = machine.yandro(&["servers"]).succeeds().stdout;
    assert!(
        listed.contains("nginx") && listed.contains("doesn't run") && listed.contains("runs (process "),
        "{listed}"
    );
    // Nor on others while its own default site wants them; a server that can't be started leaves
    // nothing behind.
    let ports = ["--server", "nginx", "--http-port", "8080", "--https-port", "8443"];
    let ran = map(&ports);
    insta::assert_snapshot!(steady(&ran), @"
    error: nginx doesn't run, and can't be started: /etc/nginx/sites-enabled/default:21 has it listen on port 80, which is held by `apache2` (process PID, user root); nothing was changed
    fix: stop that server: yandro servers stop apache; or take that place out of use: /etc/nginx/sites-enabled/default:21
    [status 3]
    ");
    fs::remove_file(default).unwrap();
    let both = map(&ports).succeeds();
    insta::assert_snapshot!(steady(&both), @"
    saltmarsh.test -> $ROOT/saltmarsh
      virtual host  made /etc/nginx/sites-available/yandro-saltmarsh.test.conf
      enabled  linked /etc/nginx/sites-enabled/yandro-saltmarsh.test.conf
      unknown names  made /etc/nginx/sites-available/yandro-0.invalid.conf
      enabled  unlinked /etc/apache2/sites-enabled/yandro-saltmarsh.test.conf
      virtual host  removed /etc/apache2/sites-available/yandro-saltmarsh.test.conf
      unknown names  removed /etc/apache2/sites-available/yandro-0.invalid.conf
      site list  changed $ROOT/home/.config/yandro/sites.toml
      modules  disabled rewrite, ssl, socache_shmcb
      server  Apache httpd: configuration tested, reloaded
      server  nginx: configuration tested, started
      proof  https://saltmarsh.test:8443/ answers from there, over HTTPS
    [status 0]
    ");
    assert!(served(":8443").contains("server: nginx"), "{}", served(":8443"));
    assert!(!machine.path("apache2/sites-available/yandro-saltmarsh.test.conf").exists());
    assert!(!machine.path("apache2/mods-enabled/ssl.load").exists(), "the last site took the module with it");
    machine.yandro(&["check"]).succeeds();
    for (verb, done) in [
        ("test", "accepts"),
        ("reload", "was reloaded"),
        ("restart", "was restarted"),
        ("stop", "was stopped"),
        ("start", "was started"),
    ] {
        let ran = machine.yandro(&["servers", verb, "nginx"]).succeeds();
        assert!(ran.stdout.contains(&format!("nginx {done}")), "{ran}");
    }
    eventually("nginx is there", || served(":8443").contains("server: nginx"));
    machine.yandro(&["undo"]).succeeds();
    eventually("Apache httpd has it again", || served("").contains("server: apache"));
    machine.yandro(&["check"]).succeeds();
    assert!(!machine.path("etc/nginx/sites-available/yandro-saltmarsh.test.conf").exists());
}

#[test]
fn long_names_get_larger_buckets_and_a_users_own_size_is_reported() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    let long = format!("{}.saltmarsh.test", "a".repeat(46));
    let map = ["map", &long, "./saltmarsh", "--server", "nginx"];
    let own = machine.path("etc/nginx/conf.d/buckets.conf");
    fs::write(&own, "# mine\nserver_names_hash_bucket_size 64;\n").unwrap();
    let ran = machine.yandro(&map);
    insta::assert_snapshot!(steady(&ran), @"
    error: /etc/nginx/conf.d/buckets.conf:2: `server_names_hash_bucket_size 64` is too small for the site's longest name, which needs 128
    fix: make it `server_names_hash_bucket_size 128;` there, then run the command again: /etc/nginx/conf.d/buckets.conf:2
    [status 3]
    ");
    fs::remove_file(&own).unwrap();
    machine.yandro(&map).succeeds();
    let others = machine.path("etc/nginx/sites-available/yandro-0.invalid.conf");
    assert!(fs::read_to_string(&others).unwrap().contains("\nserver_names_hash_bucket_size 128;\n"));
    machine.yandro(&["map", "tides.saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["unmap", &long, "tides.saltmarsh.test"]).succeeds();
    assert!(!others.exists());
}

#[test]
fn a_bundles_nginx_goes_by_its_own_program_and_commands() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    let folder = machine.path("opt/ferries");
    for below in ["sbin", "conf", "logs"] {
        fs::create_dir_all(folder.join(below)).unwrap();
    }
    fs::copy("/usr/sbin/nginx", folder.join("sbin/nginx")).unwrap();
    let main = "user www-data;\npid /opt/ferries/logs/nginx.pid;\nerror_log /opt/ferries/logs/error.log;\nevents {}\nhttp {\n    access_log /opt/ferries/logs/access.log;\n}\n";
    fs::write(folder.join("conf/nginx.conf"), main).unwrap();
    fs::write(folder.join("ctl"), "#!/bin/sh\necho \"$1\" >> /opt/ferries/told\nexec /opt/ferries/sbin/nginx -c /opt/ferries/conf/nginx.conf -s \"$1\"\n").unwrap();
    fs::set_permissions(folder.join("ctl"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    machine
        .yandro(&["servers", "add", "ferries", "--config", "/opt/ferries", "--reload", "/opt/ferries/ctl reload"])
        .succeeds();
    // It is the first that was named: no need to say so. It doesn't run yet.
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      authority  made, until $DATE
      certificate  made for saltmarsh.test, until $DATE
      configuration  changed /opt/ferries/conf/nginx.conf
      virtual host  made /opt/ferries/conf/yandro-saltmarsh.test.conf
      unknown names  made /opt/ferries/conf/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made $ROOT/home/.config/yandro/sites.toml
      server  ferries: configuration tested, started
      proof  https://saltmarsh.test/ answers from there, over HTTPS

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    ");
    let ran = machine.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test -> $ROOT/saltmarsh
      certificate  changed for saltmarsh.test, www.saltmarsh.test, until $DATE
      virtual host  changed /opt/ferries/conf/yandro-saltmarsh.test.conf
      hosts file  changed /etc/hosts
      site list  changed $ROOT/home/.config/yandro/sites.toml
      server  ferries: configuration tested, reloaded
      proof  https://saltmarsh.test/ answers from there, over HTTPS
    [status 0]
    ");
    assert_eq!(fs::read_to_string(folder.join("told")).unwrap(), "reload\n");
    let listed = machine.yandro(&["servers"]).succeeds().stdout;
    let line = listed.lines().find(|line| line.starts_with("ferries")).unwrap();
    assert!(line.contains("/opt/ferries/conf/nginx.conf") && line.contains("runs (process"), "{listed}");
    let list = fs::read_to_string(machine.path("home/.config/yandro/sites.toml")).unwrap();
    assert!(list.contains("server = \"ferries\""), "{list}");
    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(fs::read_to_string(folder.join("conf/nginx.conf")).unwrap(), main);
    machine.yandro(&["servers", "stop", "ferries"]).succeeds();
}
