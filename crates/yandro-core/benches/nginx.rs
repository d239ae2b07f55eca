//! A configuration of 1,000 sites, two server blocks each: `cargo bench -p yandro-core --bench nginx`. With
//! `NGINX_CONF` set to a path, the file is written there, so that `nginx -t -c` can be timed on it.

#![allow(clippy::disallowed_methods, reason = "the core is what is measured, and not this")]

use divan::Bencher;
use divan::counter::BytesCount;
use yandro_core::{Files, NginxRun, ServerPath, parse_nginx};

fn main() {
    if let Ok(path) = std::env::var("NGINX_CONF") {
        std::fs::write(path, configuration()).expect("the path can be written");
    }
    divan::main();
}

fn configuration() -> String {
    let mut text = String::from("pid /dev/null;\nerror_log /dev/null;\nevents {}\nhttp {\n\taccess_log off;\n");
    for number in 0..1_000 {
        text += &format!(
            "\tserver {{\n\t\tlisten 8080;\n\t\tserver_name boat{number}.saltmarsh.test www.boat{number}.saltmarsh.test;\n\t\t\
             return 307 https://$host$request_uri;\n\t}}\n\
             \tserver {{\n\t\tlisten 8081;\n\t\tserver_name boat{number}.saltmarsh.test www.boat{number}.saltmarsh.test;\n\t\t\
             root /tmp;\n\t\tlocation / {{\n\t\t\ttry_files $uri $uri/ =404;\n\t\t}}\n\t}}\n"
        );
    }
    text + "}\n"
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
    bencher.counter(BytesCount::of_slice(bytes)).bench(|| parse_nginx(divan::black_box(bytes)).expect("it parses"));
}

#[divan::bench]
fn run_through_to_server_blocks(bencher: Bencher<'_, '_>) {
    let files = One(configuration());
    bencher.counter(BytesCount::of_str(&files.0)).bench(|| {
        let done = NginxRun::run(divan::black_box(&ServerPath::new("/c")), &files);
        assert_eq!(done.answering()[0].hosts.len(), 1_000);
    });
}
