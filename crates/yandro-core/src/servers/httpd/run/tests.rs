use std::collections::BTreeMap;

use crate::server_path::ServerPath;
use proptest::prelude::*;

use super::*;
use crate::servers::ServerReport;

/// Files in memory.
#[derive(Default)]
struct Memory(BTreeMap<ServerPath, Vec<u8>>);

impl Memory {
    fn of(files: &[(&str, &str)]) -> Self {
        Self(files.iter().map(|(path, text)| ((*path).into(), text.as_bytes().to_vec())).collect())
    }
}

impl Files for Memory {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        self.0.get(path).cloned()
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let below = self.0.keys().filter_map(|path| path.below(folder)?.parts().next().map(str::to_owned));
        let mut names: Vec<String> = below.collect();
        names.dedup();
        (!names.is_empty() && !self.0.contains_key(folder)).then_some(names)
    }
}

fn start() -> Start {
    Start {
        main: "/etc/httpd/httpd.conf".into(),
        report: ServerReport {
            version: [2, 4, 66],
            root: "/etc/httpd".into(),
            main: "/etc/httpd/httpd.conf".into(),
            built_in: vec!["core.c".into(), "mod_so.c".into()],
            pid_file: None,
        },
        environment: [("LOGS".to_owned(), "/var/log/httpd".to_owned())].into(),
        defines: Vec::new(),
    }
}

fn listed(files: &[(&str, &str)]) -> String {
    let done = HttpdRun::run(&start(), &Memory::of(files));
    let lines = done.events.iter().map(|event| {
        let sign = match event.kind {
            EventKind::Directive => "",
            EventKind::Open => "<",
            EventKind::Close => "</",
        };
        let place = event.place.to_string().replace("/etc/httpd/", "");
        format!("{sign}{} {} ({place})", event.name, event.arguments.join("|"))
    });
    lines.chain(done.fault.map(|fault| format!("fault: {fault}"))).collect::<Vec<_>>().join("\n")
}

#[test]
fn directives_come_in_the_servers_order() {
    let main = "Define SITE saltmarsh\n\
        <IfModule !mod_ssl.c>\nListen \"unbalanced\n<Nested>\n</Nested>\nListen 80\n</IfModule>\n\
        LoadModule ssl_module modules/mod_ssl.so\n\
        <ifmodule mod_ssl.c>\nListen 443\n</IFMODULE> \n\
        <IfVersion >= 2.4>\n<IfDefine SITE>\nErrorLog ${LOGS}/${SITE}/${NONE}.log\n</IfDefine>\n</IfVersion>\n\
        <IfVersion < 2.4>\nListen 1\n</IfVersion>\n\
        Include conf.d\nIncludeOptional none/*.conf\nInclude sites/[a-c]*.conf\nUnDefine SITE\n<IfDefine SITE>\nListen 2\n</IfDefine>\n";
    let files = [
        ("/etc/httpd/httpd.conf", main),
        ("/etc/httpd/conf.d/20", "ServerName twenty\n"),
        ("/etc/httpd/conf.d/10/deep", "ServerName deep\n"),
        ("/etc/httpd/sites/b.conf", "<VirtualHost *:80>\nServerName b\n</VirtualHost>\n"),
        ("/etc/httpd/sites/d.conf", "ServerName never\n"),
    ];
    insta::assert_snapshot!(listed(&files), @"
    Listen unbalanced (httpd.conf:3)
    <Nested  (httpd.conf:4)
    </Nested  (httpd.conf:5)
    Listen 80 (httpd.conf:6)
    LoadModule ssl_module|modules/mod_ssl.so (httpd.conf:8)
    Listen 443 (httpd.conf:10)
    ErrorLog /var/log/httpd/saltmarsh/${NONE}.log (httpd.conf:14)
    ServerName deep (conf.d/10/deep:1)
    ServerName twenty (conf.d/20:1)
    <VirtualHost *:80 (sites/b.conf:1)
    ServerName b (sites/b.conf:2)
    </VirtualHost  (sites/b.conf:3)
    ");
}

#[test]
fn macros_are_used_and_their_hosts_are_named_as_the_server_names_them() {
    let main = "LoadModule macro_module m/mod_macro.so\n<Macro Site $n $name>\n<VirtualHost *:80>\nServerName $name\nServerAlias $n\n</VirtualHost>\n</Macro>\nUse site a saltmarsh.test\n<Macro Unused>\n</VirtualHost>\n</Macro>\nUse nothing\n";
    insta::assert_snapshot!(listed(&[("/etc/httpd/httpd.conf", main)]), @r#"
    LoadModule macro_module|m/mod_macro.so (httpd.conf:1)
    <VirtualHost *:80 (macro 'site' (defined on line 2 of "httpd.conf") used on line 8 of "httpd.conf":1)
    ServerName saltmarsh.test (macro 'site' (defined on line 2 of "httpd.conf") used on line 8 of "httpd.conf":2)
    ServerAlias a (macro 'site' (defined on line 2 of "httpd.conf") used on line 8 of "httpd.conf":3)
    </VirtualHost  (macro 'site' (defined on line 2 of "httpd.conf") used on line 8 of "httpd.conf":4)
    fault: /etc/httpd/httpd.conf:12: the macro `nothing` is not defined
    "#);
}

#[test]
fn a_macro_may_open_what_another_closes_and_a_file_may_not() {
    let macros = "LoadModule macro_module m/mod_macro.so\n<Macro Open>\n<VirtualHost *:80>\n</Macro>\n<Macro Shut>\n</VirtualHost>\n</Macro>\n";
    let of = |rest: &str| {
        let main = format!("{macros}{rest}");
        let done = HttpdRun::run(&start(), &Memory::of(&[("/etc/httpd/httpd.conf", &main)]));
        let places = done.virtual_hosts().iter().map(|host| host.place.written().line).collect::<Vec<_>>();
        (places, done.fault.map(|fault| fault.message))
    };
    assert_eq!(of("Use Open\nServerName a.test\nUse Shut\n"), (vec![8], None));
    assert_eq!(of("Use Open\n").1.as_deref(), Some("`<VirtualHost>` is never closed"));
    assert!(of("Use Shut\n").1.unwrap().contains("closes a section that is not open"));
    // Conditions guard what is in them.
    let main = "LoadModule ssl_module m/mod_ssl.so\n<IfModule mod_ssl.c>\n<VirtualHost *:443>\n</VirtualHost>\n</IfModule>\n<VirtualHost *:80>\n</VirtualHost>\n";
    let done = HttpdRun::run(&start(), &Memory::of(&[("/etc/httpd/httpd.conf", main)]));
    let guarded: Vec<bool> = done.virtual_hosts().iter().map(|host| host.is_guarded_by("ssl")).collect();
    assert_eq!(guarded, [true, false]);
}

#[test]
fn faults_end_the_run_and_have_a_place() {
    for (main, fault) in [
        ("Listen 80\n<VirtualHost *:80>\n", "/etc/httpd/httpd.conf:2: `<VirtualHost>` is never closed"),
        ("</VirtualHost>\n", "/etc/httpd/httpd.conf:1: `</VirtualHost>` closes a section that is not open"),
        ("<IfModule x>\nListen 80\n", "/etc/httpd/httpd.conf:1: `<IfModule>` is never closed"),
        ("Include none.conf\n", "/etc/httpd/httpd.conf:1: `none.conf` is included, and there is no such file"),
        ("Include httpd.conf\n", "/etc/httpd/httpd.conf:1: includes are nested too deep: does a file include itself?"),
        (
            "\u{feff}Listen 80\n",
            "/etc/httpd/httpd.conf:1: the file begins with a byte order mark, which the server refuses",
        ),
    ] {
        let done = HttpdRun::run(&start(), &Memory::of(&[("/etc/httpd/httpd.conf", main)]));
        assert_eq!(done.fault.map(|fault| fault.to_string()).as_deref(), Some(fault), "{main:?}");
    }
}

#[test]
fn names_that_collide_are_found() {
    let main = "<VirtualHost *:80>\nServerName a.test\n</VirtualHost>\n<VirtualHost _default_:80 *:81>\nServerName b.test\nServerAlias A.test\n</VirtualHost>\n";
    let done = HttpdRun::run(&start(), &Memory::of(&[("/etc/httpd/httpd.conf", main)]));
    let hosts = done.virtual_hosts();
    let answering = by_address(&hosts);
    assert_eq!(answering.iter().map(|own| own.address.as_str()).collect::<Vec<_>>(), ["*:80", "*:81"]);
    let collisions = answering[0].collisions();
    assert_eq!(collisions.len(), 1);
    assert_eq!((collisions[0].0.as_str(), collisions[0].1.line, collisions[0].2.line), ("a.test", 1, 4));
}

proptest! {
    #[test]
    fn nothing_panics(text in r#"([<>/ "'\\#a\r\n\t=*${}]|VirtualHost|</VirtualHost>|IfModule|Macro|Use a|Include \*|Define a){0,60}"#) {
        HttpdRun::run(&start(), &Memory::of(&[("/etc/httpd/httpd.conf", &text)])).virtual_hosts();
    }
}
