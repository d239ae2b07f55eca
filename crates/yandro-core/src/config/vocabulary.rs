//! The directives that yandro itself writes into sites' files: what is beyond them, somebody else wrote.

use super::site_file::Dialect;
use super::tree::Node;

/// The directives of a site's file that yandro never writes there, each with its arguments in one line. `None` for a
/// file that can't be read.
pub(crate) fn foreign_directives(dialect: &dyn Dialect, file: &[u8]) -> Option<Vec<String>> {
    let tree = dialect.parse(file).ok()?;
    let mut found = Vec::new();
    collect(dialect, &tree.nodes, &mut found);
    Some(found)
}

fn collect(dialect: &dyn Dialect, nodes: &[Node], found: &mut Vec<String>) {
    for node in nodes {
        let (own, inner) = match node {
            Node::Directive(own) => (own, &[][..]),
            Node::Section(section) => (&section.open, &section.nodes[..]),
        };
        if !dialect.writes(own) {
            found.push(std::iter::once(own.name.as_str()).chain(own.values()).collect::<Vec<_>>().join(" "));
        }
        collect(dialect, inner, found);
    }
}

#[cfg(test)]
mod tests {
    use crate::servers::ServerKind;

    #[test]
    fn directives_that_run_programs_are_foreign() {
        let apache = |line: &str| format!("<VirtualHost *:80>\nServerName a.test\n{line}\n</VirtualHost>\n");
        for line in [
            "CustomLog \"|/bin/sh -c id\" common",
            "ErrorLog |/tmp/x",
            "LoadModule evil_module /tmp/evil.so",
            "Include /etc/shadow",
            "RewriteMap m prg:/tmp/x",
            "SetEnv LD_PRELOAD /tmp/x.so",
            "SetEnv force-proxy-request-1.0 1",
            "IncludeOptional /tmp/*.conf",
            "User root",
        ] {
            assert_eq!(ServerKind::Apache.foreign_directives(apache(line).as_bytes()).unwrap().len(), 1, "{line}");
        }
        let nginx = |line: &str| format!("server {{ listen 80; {line} }}\n");
        for line in [
            "include /tmp/x;",
            "load_module /tmp/x.so;",
            "set $a b;",
            "fastcgi_param PHP_ADMIN_VALUE \"auto_prepend_file=/tmp/x\";",
            "location / { include /etc/shadow; }",
        ] {
            assert_eq!(ServerKind::Nginx.foreign_directives(nginx(line).as_bytes()).unwrap().len(), 1, "{line}");
        }
        let own = "location ~ [.]php$ { include fastcgi_params; fastcgi_pass unix:/run/php.sock; }";
        assert_eq!(ServerKind::Nginx.foreign_directives(nginx(own).as_bytes()), Some(Vec::new()));
        assert_eq!(ServerKind::Nginx.foreign_directives(b"server {"), None);
    }
}
