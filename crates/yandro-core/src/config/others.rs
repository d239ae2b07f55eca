//! The default virtual hosts, for unknown host names.
//!
//! Without them the first site would answer for every name that no virtual host has. Over plain
//! HTTP they leave the answer to the main server, as it was before; over HTTPS, where there was
//! none, they refuse. Their file also tells which modules yandro enabled.

use std::collections::BTreeSet;

use crate::server_path::ServerPath;

use super::Node;
use super::journal::Journal;
use super::site_file::Dialect;
use super::site_files::SiteFiles;
use crate::host_port::HostPort;
use crate::site::Scheme;

const HEAD: &str = "# Default virtual hosts for unknown host names, shared by all site lists; kept by `yandro map`\n";
/// The first line as builds before this one wrote it.
const FORMER_HEAD: &str =
    "# The default virtual host: it answers unknown host names, instead of the first site. `yandro map` manages it\n";
const MODULES: &str = "# Modules that yandro enabled:";

/// The directive for the size of the buckets of names (nginx, in its `http` context).
const NAME_BUCKET: &str = "server_names_hash_bucket_size";

/// Wanted content of the file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Others {
    /// The ports on which names over plain HTTP need an answer: nobody else has a virtual host
    /// there.
    pub http: BTreeSet<u16>,
    /// The same over HTTPS.
    pub https: BTreeSet<u16>,
    /// The size of the buckets of names, where the longest needs more than nginx gives.
    pub name_bucket: Option<usize>,
    /// The modules that yandro enabled by links.
    pub modules: Vec<String>,
    /// The lines of other files that yandro changed.
    pub journal: Journal,
}

impl Others {
    /// Content of an existing file; empty for one that can't be read.
    pub fn read(dialect: &dyn Dialect, file: &[u8]) -> Self {
        let mut others = Self { modules: modules_of(file), journal: Journal::read(file), ..Self::default() };
        let Ok(tree) = dialect.parse(file) else { return others };
        others.name_bucket = tree.nodes.iter().find_map(|node| match node {
            Node::Directive(own) if own.name == NAME_BUCKET => own.values().next()?.parse().ok(),
            _ => None,
        });
        for host in tree.all(dialect.host()) {
            let ports = dialect.ports(host);
            if dialect.is_secure(host) { others.https.extend(ports) } else { others.http.extend(ports) }
        }
        others
    }
}

/// The port of a line that has a server listen, as yandro adds them to files that sites share.
pub(crate) fn listened_port(line: &str) -> Option<u16> {
    let mut words = line.split_whitespace();
    if !words.next()?.eq_ignore_ascii_case("listen") {
        return None;
    }
    let address = words.next()?;
    address.parse().ok().or_else(|| HostPort::port_of(address))
}

/// The certificate and key that the file of the virtual hosts for other names has, as the server sees
/// them: those of the site list whose site came first.
pub fn others_certificate(dialect: &dyn Dialect, file: &[u8]) -> Option<[ServerPath; 2]> {
    let tree = dialect.parse(file).ok()?;
    let host = tree.all(dialect.host()).into_iter().find(|host| dialect.is_secure(host))?;
    let value = |name: &'static str| host.directives(name).next()?.values().next().map(ServerPath::from);
    let [certificate, key] = dialect.certificate_names();
    Some([value(certificate)?, value(key)?])
}

/// The modules that a file tells of.
fn modules_of(file: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(file);
    let line = text.lines().find_map(|line| line.strip_prefix(MODULES));
    line.unwrap_or_default().split_whitespace().map(str::to_owned).collect()
}

/// The text of the file: a new one, or the existing one with only its head
/// updated if the user has edited it.
pub(crate) fn others_file(
    dialect: &dyn Dialect,
    existing: Option<&[u8]>,
    before: &Others,
    now: &Others,
    files: &SiteFiles,
) -> Vec<u8> {
    let fresh = rendered(dialect, now, files).into_bytes();
    let Some(existing) = existing else { return fresh };
    if existing == rendered(dialect, before, files).as_bytes() {
        return fresh;
    }
    // The head is yandro's, whatever the user has done to the rest.
    let text = String::from_utf8_lossy(existing);
    let former = text.strip_prefix(FORMER_HEAD).map(|rest| HEAD.to_owned() + rest);
    let text = former.as_deref().unwrap_or(&text);
    match text.strip_prefix(&head(dialect, before)) {
        Some(rest) => (head(dialect, now) + rest).into_bytes(),
        None => existing.to_vec(),
    }
}

fn head(dialect: &dyn Dialect, others: &Others) -> String {
    let modules = match &others.modules[..] {
        [] => String::new(),
        modules => format!("{MODULES} {}\n", modules.join(" ")),
    };
    let size = others.name_bucket.map(|size| dialect.directive(NAME_BUCKET, &[size.to_string()]) + "\n");
    format!("{HEAD}{modules}{}{}", others.journal.comment(), size.unwrap_or_default())
}

fn rendered(dialect: &dyn Dialect, others: &Others, files: &SiteFiles) -> String {
    let plain = others.http.iter().map(|port| dialect.others(*port, files, Scheme::Http));
    let secure = others.https.iter().map(|port| dialect.others(*port, files, Scheme::Https));
    let hosts: String = plain.chain(secure).map(|want| want.render(dialect, "", "\n")).collect();
    head(dialect, others) + &hosts
}

#[cfg(test)]
mod tests {
    use crate::server_path::ServerPath;

    use super::super::ServerTraits;
    use super::*;
    use crate::servers::httpd::syntax::ApacheSyntax;

    #[test]
    fn the_file_tells_what_was_changed_and_keeps_hand_edits() {
        let files = SiteFiles {
            document_root: None,
            certificate: "/c/fullchain.pem".into(),
            key: "/c/key.pem".into(),
            extra: None,
            logs: None,
            server: ServerTraits::default(),
            list: None,
        };
        let mut journal = Journal::default();
        journal.put_down(&ServerPath::new("/etc/apache2/ports.conf"), None, b"Listen 8080", 0);
        let first = Others {
            http: [80, 8080].into(),
            https: [443].into(),
            name_bucket: None,
            modules: vec!["rewrite".into()],
            journal: journal.clone(),
        };
        let text = others_file(&ApacheSyntax, None, &first, &first, &files);
        insta::assert_snapshot!(String::from_utf8_lossy(&text), @r#"
        # Default virtual hosts for unknown host names, shared by all site lists; kept by `yandro map`
        # Modules that yandro enabled: rewrite
        # Lines that yandro changed in other files, to be changed back with the last site:
        # --- /etc/apache2/ports.conf
        # +Listen 8080.
        <VirtualHost *:80>
        	ServerName localhost
        </VirtualHost>
        <VirtualHost *:8080>
        	ServerName localhost
        </VirtualHost>
        <VirtualHost *:443>
        	ServerName localhost
        	SSLEngine on
        	SSLProtocol -all +TLSv1.2 +TLSv1.3
        	SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20
        	SSLCertificateFile "/c/fullchain.pem"
        	SSLCertificateKeyFile "/c/key.pem"
        	<Location />
        		Require all denied
        	</Location>
        </VirtualHost>
        "#);
        assert_eq!(Others::read(&ApacheSyntax, &text), first);
        let mut second = Others { https: BTreeSet::new(), ..first.clone() };
        second.modules.push("ssl".into());
        second.journal.put_down(&ServerPath::new("/etc/apache2/ports.conf"), None, b"Listen 8081", 0);
        assert_eq!(
            Others::read(&ApacheSyntax, &others_file(&ApacheSyntax, Some(&text), &first, &second, &files)),
            second
        );
        let edited = String::from_utf8(text).unwrap().replace("denied", "granted");
        let kept =
            String::from_utf8(others_file(&ApacheSyntax, Some(edited.as_bytes()), &first, &second, &files)).unwrap();
        assert!(kept.contains("granted"), "{kept}");
        assert_eq!(
            (
                Others::read(&ApacheSyntax, kept.as_bytes()).modules,
                Others::read(&ApacheSyntax, kept.as_bytes()).journal
            ),
            (second.modules, second.journal)
        );
        let none = Others::default();
        assert_eq!(Others::read(&ApacheSyntax, &others_file(&ApacheSyntax, None, &none, &none, &files)), none);
    }
}
