//! Any bytes as an Apache httpd configuration: nothing panics, spans lie in the text, and what
//! is switched on is switched off again to the byte.

#![no_main]

use libfuzzer_sys::fuzz_target;
use yandro_core::{FileOwner, Files, HttpdRun, Scheme, HttpdShared, Journal, Needs, Node, ServerReport, ServerPath, Start, by_address, parse_httpd};

struct One<'a>(&'a [u8]);

impl Files for One<'_> {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        matches!(path.as_str(), "/c/main" | "/c/d/x").then(|| self.0.to_vec())
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        match folder.as_str() {
            "/c" => Some(vec!["main".into(), "d".into()]),
            "/c/d" => Some(vec!["x".into()]),
            _ => None,
        }
    }
}

fn check(nodes: &[Node], bytes: &[u8]) {
    for node in nodes {
        let own = match node {
            Node::Directive(own) => own,
            Node::Section(section) => {
                assert!(section.close.end <= bytes.len());
                check(&section.nodes, bytes);
                &section.open
            }
        };
        assert!(own.span.end <= bytes.len());
        for argument in &own.arguments {
            assert!(own.span.start <= argument.span.start && argument.span.end <= own.span.end);
        }
    }
}

fuzz_target!(|bytes: &[u8]| {
    if let Ok(tree) = parse_httpd(bytes) {
        check(&tree.nodes, bytes);
    }
    let start = Start {
        main: "/c/main".into(),
        report: ServerReport { version: [2, 4, 66], root: "/c".into(), main: "/c/main".into(), ..ServerReport::default() },
        environment: [("LOGS".to_owned(), "/l".to_owned())].into(),
        defines: Vec::new(),
    };
    let done = HttpdRun::run(&start, &One(bytes));
    for at in by_address(&done.virtual_hosts()) {
        at.collisions();
    }
    // Lines that are switched on for a site go back to the byte.
    let shared = HttpdShared::of(start, &One(bytes), |_| FileOwner::Other);
    let needs = Needs {
        modules: &["ssl", "rewrite"],
        ports: &[(80, Scheme::Http), (443, Scheme::Https)],
        address: std::net::Ipv4Addr::LOCALHOST.into(),
        sites: &ServerPath::new("/c/d/yandro-*.conf"),
    };
    if let Ok(done) = shared.activate(&needs) {
        let journal = Journal::read(done.journal.comment().as_bytes());
        for (file, text) in &done.files {
            assert_eq!(journal.taken_back(file, text), bytes);
        }
    }
});
