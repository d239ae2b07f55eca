//! Lines of a person's own within a server block that may answer requests by themselves.

use super::parse;
use crate::config::Node;

/// The first line, from 1, that may answer or redirect a request by itself; `None` if there is none, or
/// the server wouldn't take the text.
pub(crate) fn first_rule(bytes: &[u8]) -> Option<usize> {
    fn first(nodes: &[Node]) -> Option<usize> {
        const ANSWERING: [&str; 6] = ["return", "rewrite", "proxy_pass", "fastcgi_pass", "alias", "try_files"];
        nodes.iter().find_map(|node| match node {
            Node::Directive(own) => ANSWERING.contains(&own.name.as_str()).then_some(own.line),
            Node::Section(own) => first(&own.nodes),
        })
    }
    first(&parse(bytes).ok()?.nodes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_answering_line_is_found_anywhere() {
        for (text, line) in [
            ("gzip on;\nlocation ~ .* {\n  return 200 tides;\n}\n", Some(3)),
            ("# return 200;\nexpires 1d;\n", None),
            ("rewrite ^ /app last;", Some(1)),
            ("location / {", None),
        ] {
            assert_eq!(first_rule(text.as_bytes()), line, "{text}");
        }
    }
}
