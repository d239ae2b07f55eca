//! Where the server listens.

use super::parse::{Directive, Node, Tree};

/// Whether a file's `Listen` directives take in IPv6's loopback: a port alone, `*` and
/// `[::]` do, as does `[::1]` itself. A file that can't be read says nothing.
pub fn listens_on_v6(file: &[u8]) -> bool {
    let Ok(tree) = Tree::parse(file) else { return false };
    any(&tree.nodes, &|own| own.is("Listen") && own.values().next().is_some_and(takes_in_v6))
}

fn any(nodes: &[Node], holds: &impl Fn(&Directive) -> bool) -> bool {
    nodes.iter().any(|node| match node {
        Node::Directive(own) => holds(own),
        Node::Section(own) => any(&own.nodes, holds),
    })
}

fn takes_in_v6(listen: &str) -> bool {
    let address = listen.rsplit_once(':').map_or("*", |(address, _)| address);
    matches!(address, "*" | "[::]" | "[::1]")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_port_alone_takes_in_both_families() {
        for (file, is_v6) in [
            ("Listen 80\n", true),
            ("listen 127.0.0.1:80\n<IfModule ssl_module>\nListen [::1]:443 https\n</IfModule>\n", true),
            ("Listen *:80\n", true),
            ("Listen 0.0.0.0:80\nListen 127.0.0.1:443\n", false),
            ("# Listen 80\n", false),
        ] {
            assert_eq!(listens_on_v6(file.as_bytes()), is_v6, "{file}");
        }
    }
}
