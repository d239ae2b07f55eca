//! The virtual hosts for names that are no sites.
//!
//! Without them the first site would answer for every name that no virtual host has. Over plain
//! HTTP they leave the answer to the main server, as it was before; over HTTPS, where there was
//! none, they refuse. Their file also tells which modules yandro enabled.

use super::parse::Tree;
use super::site::SiteFiles;
use super::want::Want;
use crate::source::{self, Splice};

/// The name under which they are kept, as a site's are. It can be no site: nobody can reach a
/// name below `invalid` (RFC 6761 section 6.4), and it comes before the names of sites.
pub const OTHERS: &str = "0.invalid";

const HEAD: &str = "# Names that are no sites are answered here, and not by the first site; kept by `yandro map`\n";
const MODULES: &str = "# Modules that yandro enabled:";

/// What the file is to hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Others<'a> {
    /// Whether names over plain HTTP need an answer: nobody else has a virtual host there.
    pub over_http: bool,
    /// The same over HTTPS.
    pub over_https: bool,
    /// The modules that yandro enabled.
    pub modules: &'a [String],
}

/// The modules that a file tells of.
pub fn modules_of(file: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(file);
    let line = text.lines().find_map(|line| line.strip_prefix(MODULES));
    line.unwrap_or_default().split_whitespace().filter(|word| *word != "-").map(str::to_owned).collect()
}

/// Whether a file has a virtual host on a port.
pub fn has_port(file: &[u8], port: u16) -> bool {
    let Ok(tree) = Tree::parse(file) else { return false };
    let own = format!(":{port}");
    tree.virtual_hosts().iter().any(|host| host.open.values().any(|address| address.ends_with(&own)))
}

/// The text of the file: a new one, or the existing one with just its modules brought up to
/// date where a person has edited it.
pub fn others_file(existing: Option<&[u8]>, before: &Others<'_>, now: &Others<'_>, files: &SiteFiles) -> Vec<u8> {
    let fresh = rendered(now, files).into_bytes();
    match existing {
        Some(existing) if existing != rendered(before, files).as_bytes() => {
            let line = source::lines(existing).find(|line| existing[line.text.clone()].starts_with(MODULES.as_bytes()));
            match line {
                Some(line) => source::apply(existing, &[Splice::replace(line.text, modules_line(now.modules))]),
                None => existing.to_vec(),
            }
        }
        _ => fresh,
    }
}

fn modules_line(modules: &[String]) -> String {
    format!("{MODULES} {}", if modules.is_empty() { "-".to_owned() } else { modules.join(" ") })
}

fn rendered(others: &Others<'_>, files: &SiteFiles) -> String {
    let name = Want::one("ServerName", "localhost");
    let mut text = format!("{HEAD}{}\n", modules_line(others.modules));
    if others.over_http {
        // Nothing in it: all is as the main server has it.
        text += &Want::Section("VirtualHost", "*:80".into(), vec![name.clone()]).render("", "\n");
    }
    if others.over_https {
        let denied = Want::Directive("Require", vec!["all".into(), "denied".into()]);
        let wants = vec![
            name,
            Want::one("SSLEngine", "on"),
            Want::one("SSLCertificateFile", files.certificate.as_str()),
            Want::one("SSLCertificateKeyFile", files.key.as_str()),
            Want::Section("Location", "/".into(), vec![denied]),
        ];
        text += &Want::Section("VirtualHost", "*:443".into(), wants).render("", "\n");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_file_tells_its_modules_and_keeps_hand_edits() {
        let files = SiteFiles {
            document_root: None,
            certificate: "/c/fullchain.pem".into(),
            key: "/c/key.pem".into(),
            log_folder: "/l".into(),
        };
        let modules = ["rewrite".to_owned(), "ssl".to_owned()];
        let first = Others { over_http: true, over_https: true, modules: &modules[..1] };
        let text = others_file(None, &first, &first, &files);
        insta::assert_snapshot!(String::from_utf8_lossy(&text), @r#"
        # Names that are no sites are answered here, and not by the first site; kept by `yandro map`
        # Modules that yandro enabled: rewrite
        <VirtualHost *:80>
        	ServerName localhost
        </VirtualHost>
        <VirtualHost *:443>
        	ServerName localhost
        	SSLEngine on
        	SSLCertificateFile "/c/fullchain.pem"
        	SSLCertificateKeyFile "/c/key.pem"
        	<Location />
        		Require all denied
        	</Location>
        </VirtualHost>
        "#);
        assert_eq!(modules_of(&text), ["rewrite"]);
        assert!(has_port(&text, 443) && !has_port(&text, 8443));
        let second = Others { over_https: false, modules: &modules, ..first.clone() };
        let next = others_file(Some(&text), &first, &second, &files);
        assert!(!has_port(&next, 443) && modules_of(&next) == modules);
        let edited = String::from_utf8(text).unwrap().replace("denied", "granted");
        let kept = others_file(Some(edited.as_bytes()), &first, &second, &files);
        assert_eq!(String::from_utf8(kept).unwrap(), edited.replace("enabled: rewrite", "enabled: rewrite ssl"));
        let none = Others { over_http: false, over_https: false, modules: &[] };
        assert!(modules_of(&others_file(None, &none, &none, &files)).is_empty());
    }
}
