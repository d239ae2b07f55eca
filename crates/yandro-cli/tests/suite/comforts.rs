//! What people try besides the full commands: several names, ports, URLs, a narrow terminal, a trace.

use std::fs;
use std::process::Command;

use super::kit::{Sysroot, YANDRO, eventually, has, steady};
use super::namespace::Namespace;

/// Runs each line as if it were typed, and gives what was typed and what came back.
fn typed(sysroot: &Sysroot, lines: &[&str]) -> String {
    let ran = |line: &&str| {
        let words: Vec<&str> = line.split(' ').collect();
        format!("$ yandro {line}\n{}\n", steady(&sysroot.yandro(&words)))
    };
    lines.iter().map(ran).collect()
}

#[test]
fn several_names_are_mapped_as_one_change_and_undone_as_one() {
    let sysroot = Sysroot::new();
    let before = sysroot.read("etc/hosts");
    for name in ["tides.test", "crew.test", "depot.test"] {
        sysroot.write(&format!("{name}/index.html"), "<h1>Saltmarsh Ferries</h1>\n");
    }
    insta::assert_snapshot!(typed(&sysroot, &["map tides.test crew.test depot.test --server built-in", "undo"]), @"
    $ yandro map tides.test crew.test depot.test --server built-in
    tides.test -> $ROOT/tides.test
    crew.test -> $ROOT/crew.test
    depot.test -> $ROOT/depot.test
      authority  made, until $DATE
      certificate  made for tides.test, until $DATE
      hosts file  changed /etc/hosts
      site list  made /home/ada/.config/yandro/sites.toml
      certificate  made for crew.test, until $DATE
      certificate  made for depot.test, until $DATE
      proof  not proven: the built-in server doesn't run: yandro servers start built-in

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    $ yandro undo
    change 1 is undone: `yandro --sysroot $ROOT map tides.test crew.test depot.test --server built-in`
      site list  removed /home/ada/.config/yandro/sites.toml
      hosts file  changed /etc/hosts
      authority  removed /home/ada/.local/share/yandro/authority/root.pem
      certificate  removed
      certificate  removed
      certificate  removed
    [status 0]
    ");
    assert_eq!(sysroot.read("etc/hosts"), before);
    insta::assert_snapshot!(typed(&sysroot, &[
        "map tides.test crew.test",
        "map tides.test crew.test moon.test --server built-in",
        "map tides.test crew.test depot.test --alias boat.test",
        "map tides.test crew.test tides.test",
    ]), @"
    $ yandro map tides.test crew.test
    error: `tides.test` and `crew.test` are both folders here: two sites may be meant, or one
    fix: for two sites: yandro map tides.test ./tides.test, then: yandro map crew.test ./crew.test
    fix: for one site that serves crew.test: yandro map tides.test ./crew.test
    [status 2]
    $ yandro map tides.test crew.test moon.test --server built-in
    error: no such folder: `$ROOT/moon.test`: with three names or more, each site has the folder of its name
    fix: create the folders too: add `--create`
    fix: or map each site to its own folder: yandro map NAME FOLDER
    [status 2]
    $ yandro map tides.test crew.test depot.test --alias boat.test
    error: aliases belong to one site, and several are given
    fix: map that site by itself: yandro map NAME FOLDER --alias ALIAS
    [status 2]
    $ yandro map tides.test crew.test tides.test
    error: `tides.test` is given twice
    [status 2]
    ");
    assert_eq!(sysroot.read("etc/hosts"), before);
}

#[test]
fn a_port_is_an_upstream_and_aliases_come_and_go_one_by_one() {
    let sysroot = Sysroot::new();
    insta::assert_snapshot!(typed(&sysroot, &[
        "map booking.test :3000 --server built-in --plain --quiet",
        "map crew.test 127.0.0.1:3001 --server built-in --plain --quiet --alias boat.test",
        "map crew.test --alias tides.test --quiet",
        "map crew.test --no-alias boat.test --quiet",
        "map moon.test 3000",
        "map crew.test --no-alias moon.test",
        "sites",
        "map crew.test --no-alias --quiet",
        "open crew.test",
        "open moon.test",
        "sites --json",
    ]), @r#"
    $ yandro map booking.test :3000 --server built-in --plain --quiet
    [status 0]
    $ yandro map crew.test 127.0.0.1:3001 --server built-in --plain --quiet --alias boat.test
    [status 0]
    $ yandro map crew.test --alias tides.test --quiet
    [status 0]
    $ yandro map crew.test --no-alias boat.test --quiet
    [status 0]
    $ yandro map moon.test 3000
    error: no such folder: `$ROOT/3000`
    fix: for the server on port 3000: give it as `:3000`
    fix: correct the path, or create the folder: add `--create`
    [status 2]
    $ yandro map crew.test --no-alias moon.test
    error: `moon.test` is not an alias of `crew.test`
    fix: its aliases are: tides.test
    [status 2]
    $ yandro sites
    SITE  SERVER  ROOT OR UPSTREAM  STATUS
    http://booking.test/  built-in  http://127.0.0.1:3000  mapped
    http://crew.test/  built-in  http://127.0.0.1:3001  mapped
      http://tides.test/

    2 sites; prove that they answer: yandro check
    [status 0]
    $ yandro map crew.test --no-alias --quiet
    [status 0]
    $ yandro open crew.test
    http://crew.test/
    note: no browser was started: a sysroot has no browser
    [status 0]
    $ yandro open moon.test
    error: no such site: `moon.test`
    fix: see which sites there are: yandro sites
    [status 2]
    $ yandro sites --json
    {"sites":[{"address":"127.0.0.1","aliases":[],"content":"http://127.0.0.1:3000","disabled":false,"missing":[],"name":"booking.test","options":{"https":"off"},"server":"built-in","url":"http://booking.test/"},{"address":"127.0.0.1","aliases":[],"content":"http://127.0.0.1:3001","disabled":false,"missing":[],"name":"crew.test","options":{"https":"off"},"server":"built-in","url":"http://crew.test/"}],"version":1}
    [status 0]
    "#);
    assert!(!sysroot.read("etc/hosts").contains("tides.test"));
}

#[test]
fn without_a_command_the_sites_are_listed_or_the_help() {
    let sysroot = Sysroot::new();
    let bare = || steady(&sysroot.yandro(&[]));
    assert!(bare().starts_with("Serve project folders at <https://name> on your own machine"), "{}", bare());
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in", "--quiet"]).succeeds();
    insta::assert_snapshot!(bare(), @"
    SITE  SERVER  ROOT OR UPSTREAM  STATUS
    https://saltmarsh.test/  built-in  $ROOT/saltmarsh  mapped

    1 site; prove that they answer: yandro check
    [status 0]
    ");
}

#[test]
fn a_url_is_explained_whether_it_is_a_site_or_not() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    let own = "server { listen 8081; server_name harbour.test; root /var/www/html; }\n\
               server { listen 8081; server_name tides.test; return 302 https://saltmarsh.test$request_uri; }\n";
    fs::write(machine.path("etc/nginx/conf.d/harbour.conf"), own).unwrap();
    let hosts = machine.hosts() + "127.0.0.1 harbour.test tides.test boat.test\n";
    fs::write(machine.path("hosts"), hosts).unwrap();
    machine.yandro(&["servers", "reload", "nginx"]).succeeds();
    eventually("nginx listens on 8081", || machine.run("curl", &["-s", "http://127.0.0.1:8081/"]).status == 0);
    let without_pids = |text: &str| {
        let number = regex_lite::Regex::new(r"process \d+").unwrap();
        number.replace_all(text, "process PID").into_owned()
    };
    let mut said = String::new();
    for url in [
        "http://harbour.test:8081/",
        "http://tides.test:8081/a?b",
        "http://boat.test:8081/",
        "https://saltmarsh.test/",
        "https://saltmarsh.test:8081/",
        "https://moon.test/",
        "http://harbour.test:9/",
        "http://LOCALHOST:8081/",
        "http://127.0.0.1:8081/",
    ] {
        said += &format!("$ yandro check {url}\n{}\n", without_pids(&steady(&machine.yandro(&["check", url]))));
    }
    insta::assert_snapshot!(said, @"
    $ yandro check http://harbour.test:8081/
    http://harbour.test:8081/  not a site of yours
      hosts file  127.0.0.1 (line 6)
      resolver  127.0.0.1
      127.0.0.1  port 8081 is open, nginx: `nginx` (process PID, user root)
                  status 200, Server: nginx/1.22.1
                  virtual host /etc/nginx/conf.d/harbour.conf:1, /var/www/html
    ✓ It answers.
    [status 0]
    $ yandro check http://tides.test:8081/a?b
    http://tides.test:8081/a?b  not a site of yours
      hosts file  127.0.0.1 (line 6)
      resolver  127.0.0.1
      127.0.0.1  port 8081 is open, nginx: `nginx` (process PID, user root)
                  status 302, redirects to https://saltmarsh.test/a?b, Server: nginx/1.22.1
                  virtual host /etc/nginx/conf.d/harbour.conf:2, redirects to https://saltmarsh.test$request_uri
    ✓ It answers.
    [status 0]
    $ yandro check http://boat.test:8081/
    http://boat.test:8081/  not a site of yours
      hosts file  127.0.0.1 (line 6)
      resolver  127.0.0.1
      127.0.0.1  port 8081 is open, nginx: `nginx` (process PID, user root)
                  status 200, Server: nginx/1.22.1
                  default virtual host /etc/nginx/conf.d/harbour.conf:1, /var/www/html
    ✗ no virtual host on port 8081 has the name `boat.test`: the default one answers, /etc/nginx/conf.d/harbour.conf:1
        fix: to map the name: yandro map boat.test FOLDER
    [status 1]
    $ yandro check https://saltmarsh.test/
    https://saltmarsh.test/  site saltmarsh.test, $ROOT/saltmarsh
      hosts file  ::1 (line 4), 127.0.0.1 (line 3)
      resolver  ::1, 127.0.0.1
      ::1, 127.0.0.1  port 443 is open, nginx: `nginx` (process PID, user root)
                      TLS 1.3, certificate for saltmarsh.test, issued by yandro's authority
                      status 200, Server: nginx/1.22.1
                      virtual host /etc/nginx/sites-enabled/yandro-saltmarsh.test.conf:11, $ROOT/saltmarsh
    ✓ It answers.
    To prove that it is served from there: yandro check saltmarsh.test
    [status 0]
    $ yandro check https://saltmarsh.test:8081/
    https://saltmarsh.test:8081/  site saltmarsh.test, $ROOT/saltmarsh
      hosts file  ::1 (line 4), 127.0.0.1 (line 3)
      resolver  ::1, 127.0.0.1
      ::1  nothing listens on port 8081
      127.0.0.1  port 8081 is open, nginx: `nginx` (process PID, user root)
                  no TLS: received corrupt message of type InvalidContentType
                  default virtual host /etc/nginx/conf.d/harbour.conf:1, /var/www/html
    ✗ no virtual host on port 8081 has the name `saltmarsh.test`: the default one answers, /etc/nginx/conf.d/harbour.conf:1
        fix: the site's own URL is https://saltmarsh.test/: yandro open saltmarsh.test
    To prove that it is served from there: yandro check saltmarsh.test
    [status 1]
    $ yandro check https://moon.test/
    https://moon.test/  not a site of yours
      hosts file  no line
      resolver  failed to lookup address information: Temporary failure in name resolution
    ✗ `moon.test` has no address: the resolver says: failed to lookup address information: Temporary failure in name resolution
        fix: to map it to a folder: yandro map moon.test FOLDER
        fix: to point it to another machine: yandro hosts point moon.test ADDRESS
    [status 1]
    $ yandro check http://harbour.test:9/
    http://harbour.test:9/  not a site of yours
      hosts file  127.0.0.1 (line 6)
      resolver  127.0.0.1
      127.0.0.1  nothing listens on port 9
    ✗ 127.0.0.1: nothing listens on port 9
        fix: to see what listens on which port: yandro ports
        fix: to see which servers run: yandro servers
    [status 1]
    $ yandro check http://LOCALHOST:8081/
    http://localhost:8081/  not a site of yours
      hosts file  127.0.0.1 (line 1)
      resolver  127.0.0.1
      127.0.0.1  port 8081 is open, nginx: `nginx` (process PID, user root)
                  status 200, Server: nginx/1.22.1
                  default virtual host /etc/nginx/conf.d/harbour.conf:1, /var/www/html
    ✓ It answers.
    [status 0]
    $ yandro check http://127.0.0.1:8081/
    http://127.0.0.1:8081/  not a site of yours
      127.0.0.1  port 8081 is open, nginx: `nginx` (process PID, user root)
                 status 200, Server: nginx/1.22.1
                 default virtual host /etc/nginx/conf.d/harbour.conf:1, /var/www/html
    ✓ It answers.
    [status 0]
    ");
    insta::assert_snapshot!(without_pids(&steady(&machine.yandro(&["check", "http://boat.test:8081/", "--json"]))), @r#"
    {"urls":[{"addresses":[{"address":"127.0.0.1","issuer":null,"location":null,"open":true,"server":"nginx","serves":"/var/www/html","status":200,"virtual-host":"/etc/nginx/conf.d/harbour.conf:1"}],"problems":[{"fix":["to map the name: yandro map boat.test FOLDER"],"message":"no virtual host on port 8081 has the name `boat.test`: the default one answers, /etc/nginx/conf.d/harbour.conf:1"}],"url":"http://boat.test:8081/"}],"version":1}
    [status 1]
    "#);
    let shown = machine.yandro(&["cert", "show", "boat.test"]);
    assert!(shown.stdout.starts_with("boat.test:443, as it is served\n  covers     0.invalid"), "{shown}");
    machine.run("nginx", &["-s", "stop"]).succeeds();
}

#[test]
fn a_trace_names_programs_and_files_and_no_key() {
    let sysroot = Sysroot::with_apache();
    let ran = sysroot.yandro(&["-vv", "map", "saltmarsh.test", "./saltmarsh", "--server", "apache"]);
    assert_eq!(ran.status, 0, "{ran}");
    for line in
        ["read: $ROOT/etc/hosts: ", "write: $ROOT/etc/hosts: ", "write: $ROOT/home/ada/.config/yandro/sites.toml: "]
    {
        assert!(ran.stderr.contains(line), "{line}\n{ran}");
    }
    assert!(!ran.stderr.contains("PRIVATE"), "{ran}");
    assert!(!sysroot.yandro(&["-v", "sites"]).stderr.contains("read: "));
}

#[test]
fn a_terminal_gets_tables_that_fit_and_a_pipe_gets_them_whole() {
    if !has(&["script", "stty"], false) {
        return;
    }
    let sysroot = Sysroot::new();
    let long = "a/folder/whose/path/is/much/longer/than/any/terminal/is/wide";
    sysroot.write(&format!("{long}/index.html"), "");
    sysroot.yandro(&["map", "saltmarsh.test", long, "--server", "built-in", "--quiet"]).succeeds();
    let on_terminal = |options: &str| {
        let root = sysroot.root().display();
        let line = format!("stty rows 40 cols 60; {YANDRO} --sysroot {root} {options} sites");
        let mut command = Command::new("script");
        command.args(["--quiet", "--return", "--command", &line, "/dev/null"]).env_clear();
        let ran = command.env("HOME", "/home/ada").env("PATH", "/usr/bin:/bin").env("TERM", "dumb").output().unwrap();
        String::from_utf8(ran.stdout).unwrap()
    };
    let narrow = on_terminal("");
    assert!(narrow.lines().all(|line| line.trim_end().chars().count() <= 60), "{narrow}");
    assert!(narrow.contains("The terminal is too narrow for: SERVER"), "{narrow}");
    let whole = format!("{}/{long}", sysroot.root().display());
    assert!(on_terminal("--plain-output").contains(&whole));
    assert!(
        sysroot.command(&["sites"]).output().unwrap().stdout.windows(whole.len()).any(|own| own == whole.as_bytes())
    );
}

#[test]
fn long_work_shows_a_line_on_a_terminal_that_is_gone_at_the_end() {
    if !has(&["script"], false) {
        return;
    }
    let sysroot = Sysroot::new();
    sysroot.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in", "--quiet"]).succeeds();
    // A port that accepts connections and never answers.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    sysroot.write(
        "home/ada/.config/yandro/settings.toml",
        &format!("[built-in]\nhttp-port = {port}\nhttps-port = {port}\n"),
    );
    let run = |options: &str| {
        let line = format!("{YANDRO} --sysroot {} {options} check --timeout 2", sysroot.root().display());
        let mut command = Command::new("script");
        command.args(["--quiet", "--command", &line, "/dev/null"]).env_clear().env("HOME", "/home/ada");
        String::from_utf8(command.env("PATH", "/usr/bin:/bin").env("TERM", "xterm").output().unwrap().stdout).unwrap()
    };
    let shown = run("");
    assert!(shown.contains("checking: 0 of 1"), "{shown}");
    assert!(shown.rfind("checking").unwrap() < shown.rfind("\x1b[2K").unwrap_or_default(), "{shown:?}");
    assert!(!run("--plain-output").contains("checking"));
}
