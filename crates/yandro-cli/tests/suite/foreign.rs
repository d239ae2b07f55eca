//! Other people's virtual hosts next to yandro's sites: modules that bring them to life, addresses that a server has in
//! another width, sections that macros open and close.

use super::causes::shell;
use super::namespace::Namespace;

/// Their virtual host in a section that asks for the module for TLS.
const GUARDED: &str = r"
openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout /etc/ssl/tide.key -out /etc/ssl/tide.pem -subj /CN=x -days 9 2>/dev/null
printf '<IfModule mod_rewrite.c>\nRewriteEngine on\n</IfModule>\n<IfModule mod_ssl.c>\n<VirtualHost *:443>\nServerName depot.test\nSSLEngine on\nSSLCertificateFile /etc/ssl/tide.pem\nSSLCertificateKeyFile /etc/ssl/tide.key\n</VirtualHost>\n</IfModule>\n' > /etc/apache2/sites-enabled/zz.conf
ls /etc/apache2/mods-enabled > $HOME/before";

#[test]
fn a_module_that_others_ask_for_by_a_condition_goes_again_and_both_is_said() {
    let Some(machine) = Namespace::new(&["openssl"]) else { return };
    shell(&machine, GUARDED);
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    let note = "the module ssl is on now, and with it your own virtual hosts of /etc/apache2/sites-enabled/zz.conf:5 answer: depot.test";
    assert!(ran.stderr.contains(note), "{ran}");
    let ran = machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert!(ran.stderr.contains("`depot.test` of /etc/apache2/sites-enabled/zz.conf:5 is no longer answered"), "{ran}");
    assert!(!ran.stderr.contains("stays on"), "{ran}");
    shell(&machine, "ls /etc/apache2/mods-enabled | diff $HOME/before -");
    // A directive without a condition keeps the module.
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh"]).succeeds();
    shell(
        &machine,
        "printf '<VirtualHost *:80>\\nServerName tide.test\\nRewriteEngine on\\n</VirtualHost>\\n' > /etc/apache2/sites-enabled/zy.conf",
    );
    let ran = machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    let note = "the module rewrite stays on: /etc/apache2/sites-enabled/zy.conf:3 needs it";
    assert!(ran.stderr.contains(note) && !ran.stderr.contains("module ssl stays"), "{ran}");
    machine.run("apache2ctl", &["configtest"]).succeeds();
}

#[test]
fn an_nginx_that_has_the_address_in_another_width_is_restarted() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    shell(
        &machine,
        "rm /etc/nginx/sites-enabled/*; printf 'server {\\n listen 127.0.0.1:80;\\n server_name harbour.test;\\n return 200 harbour;\\n}\\n' > /etc/nginx/sites-enabled/h; nginx; opened 80",
    );
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]).succeeds();
    assert!(ran.stdout.contains("nginx: configuration tested, restarted"), "{ran}");
    let harbour = || machine.run("curl", &["--silent", "--header", "Host: harbour.test", "http://127.0.0.1/"]).stdout;
    assert_eq!(harbour(), "harbour");
    machine.yandro(&["check"]).succeeds();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(harbour(), "harbour");
    // A port of another program is named.
    shell(&machine, "nginx -s stop; gone; nginx; opened 80");
    let held = super::causes::listener(&machine, &[443]);
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]);
    assert!(ran.status == 3 && ran.stderr.contains("443"), "{ran}");
    assert_eq!(harbour(), "harbour");
    drop(held);
}

#[test]
fn an_nginx_whose_log_goes_to_its_terminal_is_not_waited_for() {
    let Some(machine) = Namespace::new(&["nginx"]) else { return };
    shell(
        &machine,
        "ln -sf /dev/stderr /var/log/nginx/error.log; rm /etc/nginx/sites-enabled/*; printf 'server {\\n listen 127.0.0.1:80;\\n}\\n' > /etc/nginx/sites-enabled/h; nginx 2>/dev/null; opened 80",
    );
    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "nginx"]);
    assert!(ran.status == 3 && ran.stderr.contains("its error log says why"), "{ran}");
}

#[test]
fn a_section_that_one_macro_opens_and_another_closes_is_read() {
    let Some(machine) = Namespace::new(&[]) else { return };
    shell(
        &machine,
        "ln -sf ../mods-available/macro.load /etc/apache2/mods-enabled/; printf '<Macro Open $n>\\n<VirtualHost *:80>\\nServerName $n\\n</Macro>\\n<Macro Shut>\\n</VirtualHost>\\n</Macro>\\nUse Open depot.test\\nDocumentRoot /var/www\\nUse Shut\\n' > /etc/apache2/sites-enabled/zz.conf; apache2ctl configtest",
    );
    let ran = machine.yandro(&["vhosts"]).succeeds();
    let line = ran.stdout.lines().find(|line| line.contains("depot.test")).unwrap_or_default();
    assert!(line.contains("/var/www") && line.contains("/etc/apache2/sites-enabled/zz.conf:8"), "{ran}");
    assert!(!ran.stdout.contains('✗'), "{ran}");
    // Their name is theirs.
    let ran = machine.yandro(&["map", "depot.test", "./saltmarsh"]);
    assert!(ran.status != 0 && ran.stderr.contains("zz.conf"), "{ran}");
}
