//! The virtual hosts of one site.

use camino::{Utf8Path, Utf8PathBuf};

use super::parse::{ParseError, Section, Tree};
use super::want::{Want, changed_by_hand, foreign, update};
use crate::site::{Content, Https, Site};
use crate::source::{self, Excerpt, Splice};

/// Where a site's files are, as the server sees them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteFiles {
    /// The folder that is served; `None` for an upstream.
    pub document_root: Option<Utf8PathBuf>,
    /// The full chain in PEM.
    pub certificate: Utf8PathBuf,
    /// The key in PEM.
    pub key: Utf8PathBuf,
    /// The folder of the logs; may name a variable of the server's.
    pub log_folder: String,
}

/// A path that no quoting brings into an Apache configuration unharmed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the path `{}` can't be written into an Apache configuration: {reason}; rename that folder", .path.escape_debug())]
pub struct PathError {
    path: String,
    reason: &'static str,
}

/// The modules that a site needs, by the names that `mods-available` has.
pub fn required_modules(site: &Site) -> Vec<&'static str> {
    let protocols: &[&str] = match site.https {
        Https::Only => &["ssl", "rewrite"],
        Https::Both => &["ssl"],
        Https::Off => &[],
    };
    let content: &[&str] = match site.content {
        Content::Folder { .. } => &["dir", "mime", "authz_core"],
        Content::Upstream(_) => &["authz_core", "proxy", "proxy_http", "headers"],
    };
    [protocols, content].concat()
}

/// The text of a site's file: a new one, or `existing` with just what changed.
///
/// `before` is the site as it was when yandro last wrote the file.
///
/// # Errors
/// [`ParseError`] when `existing` can't be read as a configuration.
pub fn site_file(
    existing: Option<&[u8]>,
    before: Option<(&Site, &SiteFiles)>,
    now: (&Site, &SiteFiles),
) -> Result<Vec<u8>, ParseError> {
    let wanted = virtual_hosts(now.0, now.1);
    let Some(existing) = existing else {
        return Ok(rendered(now.0, &wanted).into_bytes());
    };
    if existing == rendered(now.0, &wanted).as_bytes() {
        return Ok(existing.to_vec());
    }
    let tree = Tree::parse(existing)?;
    let eol = source::line_end(existing);
    let earlier = before.map(|(site, files)| virtual_hosts(site, files)).unwrap_or_default();
    let mut splices = Vec::new();
    let mut missing = String::new();
    for want in &wanted {
        let Want::Section(_, address, inner) = want else { continue };
        let old = earlier.iter().find_map(|old| match old {
            Want::Section(_, other, inner) if other == address => Some(inner.as_slice()),
            _ => None,
        });
        match find_host(&tree, address, before.map_or(now.0, |(site, _)| site)) {
            Some(section) => splices.extend(update(existing, section, old.unwrap_or_default(), inner, eol)),
            None => missing += &(eol.to_owned() + &want.render("", eol)),
        }
    }
    // What is wanted no more goes whole, unless a person has added to it.
    for old in &earlier {
        let Want::Section(_, address, inner) = old else { continue };
        let is_wanted = wanted.iter().any(|want| matches!(want, Want::Section(_, other, _) if other == address));
        if let Some(section) = find_host(&tree, address, before.map_or(now.0, |(site, _)| site)).filter(|_| !is_wanted)
        {
            splices.push(removal(existing, section, inner)?);
        }
    }
    if !missing.is_empty() {
        if !existing.is_empty() && !existing.ends_with(b"\n") {
            missing.insert_str(0, eol);
        }
        splices.push(Splice::insert(existing.len(), missing));
    }
    Ok(source::apply(existing, &splices))
}

/// A virtual host without what yandro wrote into it.
fn removal(existing: &[u8], section: &Section, written: &[Want]) -> Result<Splice, ParseError> {
    let whole = section.open.span.start..section.close.end;
    if let Some(own) = foreign(section, written) {
        let message = "this line was added by hand, and would be lost with the virtual host that it stands in: move it, then try again";
        return Err(ParseError { message: message.into(), excerpt: Excerpt::new(existing, &own) });
    }
    // The blank line above goes with it.
    let blank = if existing[..whole.start].ends_with(b"\r\n\r\n") {
        2
    } else {
        usize::from(existing[..whole.start].ends_with(b"\n\n"))
    };
    Ok(Splice::remove(whole.start - blank..whole.end))
}

/// A new file.
fn rendered(site: &Site, wanted: &[Want]) -> String {
    let head = format!("# {}: kept by `yandro map`; lines that you add here stay\n", site.name);
    let hosts: Vec<String> = wanted.iter().map(|host| host.render("", "\n")).collect();
    head + &hosts.join("\n")
}

/// A directive or section of yandro's that a person has changed or taken out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HandEdit {
    /// Its line, from 1, or that of the section that it was taken out of.
    pub line: usize,
    /// What stands there; `None` if it was taken out.
    pub found: Option<String>,
    /// What yandro would write.
    pub wanted: String,
}

/// What a person has changed in a site's file or taken out of it; none in a file that can't be read.
pub fn hand_edits(existing: &[u8], site: &Site, files: &SiteFiles) -> Vec<HandEdit> {
    let wanted = virtual_hosts(site, files);
    if existing == rendered(site, &wanted).as_bytes() {
        return Vec::new();
    }
    let Ok(tree) = Tree::parse(existing) else { return Vec::new() };
    let mut found = Vec::new();
    for want in &wanted {
        if let Want::Section(_, address, inner) = want
            && let Some(section) = find_host(&tree, address, site)
        {
            found.extend(changed_by_hand(existing, section, inner));
        }
    }
    found
}

/// The virtual host on this address, by name if there are several.
fn find_host<'t>(tree: &'t Tree, address: &str, site: &Site) -> Option<&'t Section> {
    let port = address.rsplit(':').next().unwrap_or(address);
    let on_port: Vec<&Section> = tree
        .virtual_hosts()
        .into_iter()
        .filter(|host| host.open.values().any(|own| own.rsplit_once(':').is_some_and(|(_, own)| own == port)))
        .collect();
    let named = |host: &&&Section| {
        host.directives("ServerName").any(|own| own.values().any(|name| name.eq_ignore_ascii_case(site.name.as_str())))
    };
    on_port.iter().find(named).or_else(|| on_port.first().filter(|_| on_port.len() == 1)).copied()
}

fn virtual_hosts(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let mut names = vec![Want::one("ServerName", site.name.as_str())];
    if !site.aliases.is_empty() {
        names.push(Want::Directive("ServerAlias", site.aliases.iter().map(ToString::to_string).collect()));
    }
    let log = |kind: &str| format!("{}/{}-{kind}.log", files.log_folder, site.name);
    let logs =
        [Want::one("ErrorLog", log("error")), Want::Directive("CustomLog", vec![log("access"), "combined".into()])];
    let redirect = [
        Want::one("RewriteEngine", "on"),
        // To the name that was asked for, path and query kept. 307 keeps the method
        // and, unlike 301, is not remembered by browsers when the site is gone.
        Want::Directive(
            "RewriteRule",
            vec!["^".into(), "https://%{SERVER_NAME}%{REQUEST_URI}".into(), "[R=307,L]".into()],
        ),
    ];
    let tls = [
        Want::one("SSLEngine", "on"),
        Want::one("SSLCertificateFile", files.certificate.as_str()),
        Want::one("SSLCertificateKeyFile", files.key.as_str()),
    ];
    let over_plain = if site.https == Https::Only { redirect.to_vec() } else { content(site, files, "http") };
    let plain = [names.clone(), over_plain, logs.to_vec()].concat();
    let mut hosts = vec![Want::Section("VirtualHost", "*:80".into(), plain)];
    if site.https.is_on() {
        let secure = [names, content(site, files, "https"), tls.to_vec(), logs.to_vec()].concat();
        hosts.push(Want::Section("VirtualHost", "*:443".into(), secure));
    }
    hosts
}

fn content(site: &Site, files: &SiteFiles, scheme: &str) -> Vec<Want> {
    let passed_on = |upstream: &str| vec!["/".to_owned(), format!("{upstream}/")];
    match (&site.content, &files.document_root) {
        (Content::Upstream(upstream), _) => vec![
            Want::one("ProxyPreserveHost", "on"),
            Want::Directive("RequestHeader", vec!["set".into(), "X-Forwarded-Proto".into(), scheme.into()]),
            Want::Directive("ProxyPass", passed_on(&upstream.to_string())),
            Want::Directive("ProxyPassReverse", passed_on(&upstream.to_string())),
        ],
        (Content::Folder { .. }, Some(root)) => vec![
            Want::one("DocumentRoot", root.as_str()),
            Want::Section(
                "Directory",
                directory_argument(root),
                vec![
                    Want::Directive("Options", vec!["Indexes".into(), "FollowSymLinks".into()]),
                    Want::one("AllowOverride", "All"),
                    Want::Directive("Require", vec!["all".into(), "granted".into()]),
                ],
            ),
        ],
        (Content::Folder { .. }, None) => Vec::new(),
    }
}

/// The argument of `<Directory>`: the server takes `*`, `?` and `[` there for a
/// pattern, so a path that has them is written as one in which they stand for themselves.
fn directory_argument(root: &Utf8Path) -> String {
    let text = root.as_str();
    if !text.contains(['*', '?', '[']) {
        return text.to_owned();
    }
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '*' | '?' | '[' => out.extend(['[', c, ']']),
            '\\' => out.push_str("\\\\"),
            c => out.push(c),
        }
    }
    out
}

impl SiteFiles {
    /// Refuses paths that the server would read as something else.
    ///
    /// # Errors
    /// A [`PathError`] for control characters and for `${`, which begins a variable
    /// and can't be escaped.
    pub fn check(&self) -> Result<(), PathError> {
        let paths = [Some(&self.certificate), Some(&self.key), self.document_root.as_ref()];
        for path in paths.into_iter().flatten() {
            let reason = if path.as_str().chars().any(char::is_control) {
                "it holds a control character"
            } else if path.as_str().contains("${") {
                "`${` begins a variable there"
            } else {
                continue;
            };
            return Err(PathError { path: path.to_string(), reason });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::HostName;
    use crate::site::{DEFAULT_ADDRESS, Https};

    fn site(folder: &str, aliases: &[&str]) -> Site {
        Site {
            name: HostName::parse("saltmarsh.test").unwrap(),
            aliases: aliases.iter().map(|name| HostName::parse(name).unwrap()).collect(),
            content: Content::folder(folder),
            address: DEFAULT_ADDRESS,
            server: None,
            https: Https::default(),
        }
    }

    fn files(site: &Site) -> SiteFiles {
        SiteFiles {
            document_root: site.document_root(),
            certificate: "/home/ada/certificates/saltmarsh.test/fullchain.pem".into(),
            key: "/home/ada/certificates/saltmarsh.test/key.pem".into(),
            log_folder: "${APACHE_LOG_DIR}".into(),
        }
    }

    fn written(existing: Option<&str>, before: Option<&Site>, now: &Site) -> String {
        let before_files = before.map(files);
        let text =
            site_file(existing.map(str::as_bytes), before.zip(before_files.as_ref()), (now, &files(now))).unwrap();
        String::from_utf8(text).unwrap()
    }

    #[test]
    fn a_new_site() {
        insta::assert_snapshot!(written(None, None, &site("/srv/salt marsh", &["www.saltmarsh.test"])), @r#"
        # saltmarsh.test: kept by `yandro map`; lines that you add here stay
        <VirtualHost *:80>
        	ServerName saltmarsh.test
        	ServerAlias www.saltmarsh.test
        	RewriteEngine on
        	RewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI} [R=307,L]
        	ErrorLog ${APACHE_LOG_DIR}/saltmarsh.test-error.log
        	CustomLog ${APACHE_LOG_DIR}/saltmarsh.test-access.log combined
        </VirtualHost>

        <VirtualHost *:443>
        	ServerName saltmarsh.test
        	ServerAlias www.saltmarsh.test
        	DocumentRoot "/srv/salt marsh"
        	<Directory "/srv/salt marsh">
        		Options Indexes FollowSymLinks
        		AllowOverride All
        		Require all granted
        	</Directory>
        	SSLEngine on
        	SSLCertificateFile "/home/ada/certificates/saltmarsh.test/fullchain.pem"
        	SSLCertificateKeyFile "/home/ada/certificates/saltmarsh.test/key.pem"
        	ErrorLog ${APACHE_LOG_DIR}/saltmarsh.test-error.log
        	CustomLog ${APACHE_LOG_DIR}/saltmarsh.test-access.log combined
        </VirtualHost>
        "#);
    }

    #[test]
    fn hand_edits_survive_and_only_the_change_is_written() {
        let first = site("/srv/saltmarsh", &["www.saltmarsh.test"]);
        let by_hand = written(None, None, &first)
            .replace("AllowOverride All", "AllowOverride None # quicker")
            .replace("\tSSLEngine on\n", "\tSSLEngine on\n\tHeader set X-Ferry tide\n")
            .replace("\tRequire all granted\n", "\tRequire   all granted\n\t\t<If \"true\">\n\t\t</If>\n")
            + "# the end";
        assert_eq!(written(Some(&by_hand), Some(&first), &first), by_hand);

        let second = site("/srv/tides", &[]);
        let expected =
            by_hand.replace("\"/srv/saltmarsh\"", "\"/srv/tides\"").replace("\tServerAlias www.saltmarsh.test\n", "");
        assert_eq!(written(Some(&by_hand), Some(&first), &second), expected);
        assert_eq!(
            written(Some(&expected), Some(&second), &first).matches("ServerAlias www.saltmarsh.test").count(),
            2
        );

        let mut third = first.clone();
        third.content = Content::Upstream(crate::site::Upstream::parse("http://127.0.0.1:3000").unwrap());
        let text = written(Some(&by_hand), Some(&first), &third);
        assert!(text.contains("ProxyPass / http://127.0.0.1:3000/") && !text.contains("DocumentRoot"), "{text}");
        assert!(text.contains("\tHeader set X-Ferry tide\n"), "{text}");
    }

    #[test]
    fn paths_can_not_break_out() {
        for path in ["/srv/a b", "/srv/a\"b", "/srv/a\\", "/srv/a'b#c", "/srv/fähre", "/srv/$x%y>z", "/srv/[a]*?"] {
            let text = written(None, None, &site(path, &[]));
            let tree = Tree::parse(text.as_bytes()).unwrap();
            let host = tree.virtual_hosts()[1];
            assert_eq!(host.directives("DocumentRoot").next().unwrap().values().collect::<Vec<_>>(), [path]);
            assert_eq!(host.sections("Directory").count(), 1);
        }
        for path in ["/srv/a\nb", "/srv/${HOME}"] {
            assert!(files(&site(path, &[])).check().is_err(), "{path}");
        }
    }
}
