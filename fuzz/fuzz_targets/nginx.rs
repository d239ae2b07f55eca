//! Any bytes as an nginx configuration: nothing panics, spans lie in the text, and an include that
//! is put in is taken out again to the byte.

#![no_main]

use libfuzzer_sys::fuzz_target;
use yandro_core::{Files, Journal, NginxRun, NginxShared, Node, ServerPath, parse_nginx};

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
    if let Ok(tree) = parse_nginx(bytes) {
        check(&tree.nodes, bytes);
    }
    let done = NginxRun::run(&ServerPath::new("/c/main"), &One(bytes));
    for at in done.answering() {
        at.collisions();
    }
    let shared = NginxShared::of(&ServerPath::new("/c/main"), &One(bytes));
    if let Some((text, journal)) = shared.include(&ServerPath::new("/c/sites/yandro-*.conf")) {
        let journal = Journal::read(journal.comment().as_bytes());
        assert_eq!(journal.taken_back(&ServerPath::new("/c/main"), &text), bytes);
    }
});
