//! A configuration of 1,000 virtual hosts: `cargo bench -p yandro-core --bench httpd`. With `HTTPD_CONF`
//! set to a path, the file is written there, so that `apachectl -t -f` can be timed on it.

#![allow(clippy::disallowed_methods, reason = "the core is what is measured, and not this")]

use divan::Bencher;
use divan::counter::BytesCount;
use yandro_core::{Files, HttpdRun, ServerPath, ServerReport, Start, by_address, parse_httpd};

fn main() {
    if let Ok(path) = std::env::var("HTTPD_CONF") {
        std::fs::write(path, configuration()).expect("the path can be written");
    }
    divan::main();
}

fn configuration() -> String {
    let mut text = String::from(
        "ServerName localhost\nListen 8080\nPidFile /dev/null\nErrorLog /dev/null\n\
         LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\n\
         LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\n",
    );
    for number in 0..1_000 {
        text += &format!(
            "<VirtualHost *:80>\n\tServerName boat{number}.saltmarsh.test\n\tServerAlias www.boat{number}.saltmarsh.test\n\t\
             DocumentRoot /tmp\n\t<Directory /tmp>\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n"
        );
    }
    text
}

struct One(String);

impl Files for One {
    fn read(&self, _: &ServerPath) -> Option<Vec<u8>> {
        Some(self.0.clone().into_bytes())
    }

    fn list(&self, _: &ServerPath) -> Option<Vec<String>> {
        None
    }
}

#[divan::bench]
fn one_file_to_spans(bencher: Bencher<'_, '_>) {
    let text = configuration();
    let bytes = text.as_bytes();
    bencher.counter(BytesCount::of_slice(bytes)).bench(|| parse_httpd(divan::black_box(bytes)).expect("it parses"));
}

#[divan::bench]
fn run_through_to_virtual_hosts(bencher: Bencher<'_, '_>) {
    let files = One(configuration());
    let report = ServerReport { version: [2, 4, 0], root: "/".into(), main: "/c".into(), ..ServerReport::default() };
    let start =
        Start { main: "/c".into(), report, environment: std::collections::BTreeMap::new(), defines: Vec::new() };
    bencher.counter(BytesCount::of_str(&files.0)).bench(|| {
        let done = HttpdRun::run(divan::black_box(&start), &files);
        let hosts = done.virtual_hosts();
        assert_eq!(by_address(&hosts)[0].hosts.len(), 1_000);
    });
}
