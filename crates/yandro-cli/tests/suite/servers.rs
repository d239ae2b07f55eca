//! `yandro servers`, with the real Apache httpd.

use std::fs;

use super::kit::{Background, Sysroot, eventually, steady};
use super::namespace::Namespace;

#[test]
fn a_server_is_tested_started_reloaded_and_stopped() {
    let Some(machine) = Namespace::new(&[]) else { return };
    let listed = || machine.yandro(&["servers"]).succeeds().stdout;
    assert!(listed().contains("doesn't run"), "{}", listed());
    assert!(listed().contains("apache  Apache httpd  Debian  /etc/apache2/apache2.conf  80"), "{}", listed());
    let says = |arguments: &[&str], words: &str| {
        let ran = machine.yandro(&[&["servers"], arguments].concat()).succeeds();
        assert!(ran.stdout.contains(words), "{ran}");
    };
    says(&["test"], "apache accepts its configuration");
    says(&["start"], "apache was started");
    says(&["start"], "apache runs already");
    assert!(listed().contains("runs (process "), "{}", listed());
    let pid = || fs::read_to_string(machine.path("apache2.pid")).ok();
    let main = || machine.run("sh", &["-c", "cat /run/apache2/apache2.pid"]).stdout;
    let before = main();
    let children = || machine.run("sh", &["-c", &format!("cat /proc/{0}/task/{0}/children", main().trim())]).stdout;
    let old = children();
    says(&["reload"], "apache was reloaded");
    assert_eq!(main(), before, "the same process");
    assert!(children().split_whitespace().any(|child| !old.contains(child)), "with new children");
    says(&["restart", "apache"], "apache was restarted");
    assert_ne!(main(), before);
    fs::write(machine.path("apache2/sites-enabled/tides.conf"), "TideTable on\n").unwrap();
    let ran = machine.yandro(&["servers", "test"]);
    insta::assert_snapshot!(steady(&ran), @"
    apache refuses its configuration:
    Action '-t' failed.
    The Apache error log may have more information.
    AH00526: Syntax error on line 1 of /etc/apache2/sites-enabled/tides.conf:
    Invalid command 'TideTable', perhaps misspelled or defined by a module not included in the server configuration
    [status 1]
    ");
    let ran = machine.yandro(&["servers", "restart"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: apache refuses its configuration, and was left as it is:
    Action '-t' failed.
    The Apache error log may have more information.
    AH00526: Syntax error on line 1 of /etc/apache2/sites-enabled/tides.conf:
    Invalid command 'TideTable', perhaps misspelled or defined by a module not included in the server configuration
    fix: correct the file and line that it names, then run the command again
    [status 3]
    ");
    assert!(listed().contains("runs (process "), "{}", listed());
    fs::remove_file(machine.path("apache2/sites-enabled/tides.conf")).unwrap();
    says(&["stop"], "apache was stopped");
    assert!(pid().is_none() && listed().contains("doesn't run"));
}

#[test]
fn map_names_the_program_that_holds_a_port() {
    let Some(machine) = Namespace::new(&["python3"]) else { return };
    let mut other = machine.command("python3");
    let _other = Background::start(other.args(["-m", "http.server", "80"]));
    eventually("the other listens", || machine.run("curl", &["--silent", "http://127.0.0.1/"]).status == 0);
    let tree = || machine.run("sh", &["-c", "find apache2 home/.config 2>/dev/null | sort; cat hosts"]).stdout;
    let before = tree();
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]);
    assert_eq!(ran.status, 3, "{ran}");
    insta::assert_snapshot!(steady(&ran), @"
    error: Apache httpd doesn't run, and can't be started: port 80 is held by `python3` (process PID, user root); nothing was changed
    fix: end that program: kill PID; or choose other ports: --http-port, --https-port
    [status 3]
    ");
    assert_eq!(tree(), before);
    let ran = machine.yandro(&["servers", "start"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: the server could not be controlled:
    (98)Address already in use: AH00072: make_sock: could not bind to address [::]:80
    (98)Address already in use: AH00072: make_sock: could not bind to address 0.0.0.0:80
    no listening sockets available, shutting down
    AH00015: Unable to open logs
    fix: port 80 is held by `python3` (process PID, user root): stop it, or let this server listen on another port
    [status 3]
    ");
}

#[test]
fn a_named_server_goes_by_its_own_commands() {
    let Some(machine) = Namespace::new(&[]) else { return };
    // A bundle with a control program that records its arguments.
    fs::create_dir_all(machine.path("opt/ferries")).unwrap();
    let control = "#!/bin/sh\n\
        echo \"$1\" >> /opt/ferries/told\n\
        case \"$1\" in\n\
        graceful) exec /usr/sbin/apache2ctl graceful;;\n\
        start) exec /usr/sbin/apache2ctl start;;\n\
        halt) exec /usr/sbin/apache2ctl stop;;\n\
        *) exec /usr/sbin/apache2ctl configtest;;\n\
        esac\n";
    fs::write(machine.path("opt/ferries/ctl"), control).unwrap();
    fs::set_permissions(machine.path("opt/ferries/ctl"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let add = ["servers", "add", "ferries", "--config", "/etc/apache2/apache2.conf"];
    let ran = machine.yandro(&[&add[..], &["--reload", "ctl graceful"]].concat());
    insta::assert_snapshot!(steady(&ran), @"
    error: `ctl graceful` begins with no program that is there
    fix: give the program by its absolute path; it is run without a shell
    [status 2]
    ");
    let commands = [
        "--test",
        "/opt/ferries/ctl test",
        "--reload",
        "/opt/ferries/ctl graceful",
        "--start",
        "/opt/ferries/ctl start",
        "--stop",
        "/opt/ferries/ctl halt",
    ];
    machine.yandro(&[&add[..], &commands].concat()).succeeds();
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    machine.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]).succeeds();
    machine.yandro(&["servers", "stop", "ferries"]).succeeds();
    let told = fs::read_to_string(machine.path("opt/ferries/told")).unwrap();
    assert_eq!(told, "test\nstart\ntest\ngraceful\nhalt\n");
    // Sites keep the server that they are on.
    let ran = machine.yandro(&["servers", "drop", "ferries"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: sites are on ferries, and they would be left on a server that yandro knows no more: saltmarsh.test
    fix: take them away first, and map them again afterwards: yandro unmap saltmarsh.test
    fix: or move each to another server: yandro map NAME --server WHICH
    [status 3]
    ");
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    machine.yandro(&["servers", "drop", "ferries"]).succeeds();
    assert!(!machine.yandro(&["servers"]).stdout.contains("ferries"));
}

#[test]
fn found_and_added_servers_are_listed() {
    let sysroot = Sysroot::with_apache();
    sysroot.write("opt/ferries/conf/httpd.conf", "ServerRoot /opt/ferries\nListen 127.0.0.1:8080\n");
    insta::assert_snapshot!(sysroot.yandro(&["servers", "add", "Ferries", "--config", "/opt"]), @"
    error: `Ferries` can't be a server's name
    fix: choose one of small letters, digits and hyphens, such as `ferries`
    [status 2]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["servers", "add", "ferries", "--config", "/opt"]), @"
    error: $ROOT/opt doesn't tell what kind of server it is for
    fix: say it: --kind apache, --kind nginx
    [status 2]
    ");
    let main = "/opt/ferries/conf/httpd.conf";
    insta::assert_snapshot!(sysroot.yandro(&["servers", "add", "ferries", "--config", main]), @"
    ferries is known now: Apache httpd with /opt/ferries/conf/httpd.conf

    Map a site on it: yandro map NAME FOLDER --server ferries
    [status 0]
    ");
    insta::assert_snapshot!(sysroot.yandro(&["servers"]), @"
    SERVER   KIND          LAYOUT  CONFIGURATION                 LISTENS ON      STATUS
    ferries  Apache httpd  named   /opt/ferries/conf/httpd.conf  127.0.0.1:8080  not asked: a sysroot
    apache   Apache httpd  Debian  /etc/apache2/apache2.conf     80              not asked: a sysroot

    A site goes on ferries unless another server is said: yandro map NAME --server WHICH
    [status 0]
    ");
    insta::assert_snapshot!(sysroot.read("home/ada/.config/yandro/settings.toml"), @r#"
    # Settings of yandro. Edit this file as you like.

    [[server]]
    name = "ferries"
    kind = "apache"
    config = "/opt/ferries/conf/httpd.conf"
    "#);
    fs::remove_file(sysroot.path(&main[1..])).unwrap();
    insta::assert_snapshot!(sysroot.yandro(&["servers"]), @"
    SERVER  KIND          LAYOUT  CONFIGURATION              LISTENS ON  STATUS
    apache  Apache httpd  Debian  /etc/apache2/apache2.conf  80          not asked: a sysroot
    note: `ferries` is named in $ROOT/home/ada/.config/yandro/settings.toml, and there is no /opt/ferries/conf/httpd.conf; take it out: yandro servers drop ferries
    [status 0]
    ");
    sysroot.yandro(&["servers", "drop", "ferries"]).succeeds();
    assert_eq!(
        sysroot.read("home/ada/.config/yandro/settings.toml"),
        "# Settings of yandro. Edit this file as you like.\n"
    );
    insta::assert_snapshot!(sysroot.yandro(&["servers", "drop", "ferries"]), @"
    error: no server of yours is called `ferries`
    fix: see which there are: yandro servers
    [status 2]
    ");
    insta::assert_snapshot!(Sysroot::new().yandro(&["servers"]), @"
    No web server was found.
    Fix: install Apache httpd (`apt install apache2`) or nginx (`apt install nginx-light`), or use the built-in server: add `--server built-in`
    [status 0]
    ");
}
