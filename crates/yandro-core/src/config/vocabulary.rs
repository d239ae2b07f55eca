//! The directives that yandro itself writes into sites' files: what is beyond them, somebody else wrote.

use super::tree::{Directive, Node};
use crate::site::ServerKind;

/// Directives and sections for Apache httpd.
const APACHE: &[&str] = &[
    "VirtualHost",
    "ServerName",
    "ServerAlias",
    "RewriteEngine",
    "RewriteRule",
    "ErrorLog",
    "CustomLog",
    "SSLEngine",
    "SSLProtocol",
    "SSLCipherSuite",
    "SSLCertificateFile",
    "SSLCertificateKeyFile",
    "ProxyPreserveHost",
    "RequestHeader",
    "ProxyPass",
    "ProxyPassReverse",
    "DocumentRoot",
    "Directory",
    "Options",
    "AllowOverride",
    "AllowOverrideList",
    "AuthMerging",
    "Require",
    "DirectoryIndex",
    "FallbackResource",
    "CGIPassAuth",
    "FilesMatch",
    "SetHandler",
    "Location",
];

/// Directives and blocks for nginx.
const NGINX: &[&str] = &[
    "server",
    "listen",
    "http2",
    "server_name",
    "return",
    "access_log",
    "error_log",
    "ssl_certificate",
    "ssl_certificate_key",
    "ssl_protocols",
    "ssl_ciphers",
    "client_max_body_size",
    "root",
    "index",
    "autoindex",
    "disable_symlinks",
    "location",
    "try_files",
    "fastcgi_param",
    "fastcgi_pass",
    "allow",
    "deny",
    "proxy_pass",
    "proxy_http_version",
    "proxy_set_header",
    "server_names_hash_bucket_size",
];

impl ServerKind {
    /// The directives of a site's file that yandro never writes there, each with its arguments in one line: those of
    /// other names, programs in the place of logs, and included files. `None` for a file that can't be read.
    pub fn foreign_directives(self, file: &[u8]) -> Option<Vec<String>> {
        let tree = self.dialect().parse(file).ok()?;
        let mut found = Vec::new();
        self.collect(&tree.nodes, &mut found);
        Some(found)
    }

    fn collect(self, nodes: &[Node], found: &mut Vec<String>) {
        for node in nodes {
            match node {
                Node::Directive(own) => self.judge(own, found),
                Node::Section(section) => {
                    self.judge(&section.open, found);
                    self.collect(&section.nodes, found);
                }
            }
        }
    }

    fn judge(self, own: &Directive, found: &mut Vec<String>) {
        let is_known = match self {
            Self::Apache => {
                // A log's name may be a program's; elsewhere the bar is only a character.
                let is_log = own.is("ErrorLog") || own.is("CustomLog");
                let is_program = is_log && own.values().any(|value| value.starts_with('|'));
                APACHE.iter().any(|name| own.is(name)) && !is_program
            }
            Self::Nginx => {
                NGINX.contains(&own.name.as_str()) || own.is("include") && own.values().eq(["fastcgi_params"])
            }
        };
        if !is_known {
            found.push(std::iter::once(own.name.as_str()).chain(own.values()).collect::<Vec<_>>().join(" "));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_hands_over_control_is_foreign() {
        let apache = |line: &str| format!("<VirtualHost *:80>\nServerName a.test\n{line}\n</VirtualHost>\n");
        for line in [
            "CustomLog \"|/bin/sh -c id\" common",
            "ErrorLog |/tmp/x",
            "LoadModule evil_module /tmp/evil.so",
            "Include /etc/shadow",
            "RewriteMap m prg:/tmp/x",
            "SetEnv A b",
            "IncludeOptional /tmp/*.conf",
            "User root",
        ] {
            assert_eq!(ServerKind::Apache.foreign_directives(apache(line).as_bytes()).unwrap().len(), 1, "{line}");
        }
        let nginx = |line: &str| format!("server {{ listen 80; {line} }}\n");
        for line in ["include /tmp/x;", "load_module /tmp/x.so;", "set $a b;", "location / { include /etc/shadow; }"] {
            assert_eq!(ServerKind::Nginx.foreign_directives(nginx(line).as_bytes()).unwrap().len(), 1, "{line}");
        }
        let own = "location ~ [.]php$ { include fastcgi_params; fastcgi_pass unix:/run/php.sock; }";
        assert_eq!(ServerKind::Nginx.foreign_directives(nginx(own).as_bytes()), Some(Vec::new()));
        assert_eq!(ServerKind::Nginx.foreign_directives(b"server {"), None);
    }
}
