//! The file of a site, as Apache httpd's.

use std::collections::BTreeSet;

use proptest::prelude::*;

use super::parse;
use super::syntax::ApacheSyntax;
use crate::config::{ServerTraits, SiteFiles, site_file};
use crate::name::HostName;
use crate::server_path::ServerPath;
use crate::site::{Content, FastCgi, Https, Listing, Logs, Overrides, Serving, Site, Symlinks};

fn site(folder: &str, aliases: &[&str]) -> Site {
    let aliases = aliases.iter().map(|name| HostName::parse(name).unwrap()).collect();
    Site { aliases, ..Site::new(HostName::parse("saltmarsh.test").unwrap(), Content::folder(folder)) }
}

fn files(site: &Site) -> SiteFiles {
    SiteFiles {
        list: None,
        document_root: site.document_root().map(Into::into),
        certificate: "/home/ada/certificates/saltmarsh.test/fullchain.pem".into(),
        key: "/home/ada/certificates/saltmarsh.test/key.pem".into(),
        extra: site.serving.extra.clone().map(Into::into),
        logs: site.serving.logs.folder().map(Into::into),
        server: ServerTraits {
            log_folder: "${APACHE_LOG_DIR}".into(),
            log_format: "combined".into(),
            upgrades: true,
            specific: BTreeSet::new(),
            ..ServerTraits::default()
        },
    }
}

fn written(existing: Option<&str>, before: Option<&Site>, now: &Site) -> String {
    let before_files = before.map(files);
    let text =
        site_file(&ApacheSyntax, existing.map(str::as_bytes), before.zip(before_files.as_ref()), (now, &files(now)))
            .unwrap();
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
    		AllowOverride AuthConfig Indexes Limit Options=Indexes,MultiViews,FollowSymLinks,SymLinksIfOwnerMatch
    		AllowOverrideList AddCharset AddDefaultCharset AddEncoding AddLanguage AddOutputFilter AddOutputFilterByType AddType BrowserMatch BrowserMatchNoCase DefaultLanguage ErrorDocument FileETag ForceLanguagePriority Header LanguagePriority PassEnv Redirect RedirectMatch RedirectPermanent RedirectTemp RemoveCharset RemoveEncoding RemoveLanguage RemoveType RequestHeader RewriteBase RewriteCond RewriteEngine RewriteOptions RewriteRule SetEnv SetEnvIf SetEnvIfNoCase SetOutputFilter UnsetEnv AcceptPathInfo
    		Require all granted
    	</Directory>
    	SSLEngine on
    	SSLProtocol -all +TLSv1.2 +TLSv1.3
    	SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20
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
        .replace("Options Indexes FollowSymLinks", "Options FollowSymLinks # quicker")
        .replace("\tSSLEngine on\n", "\tSSLEngine on\n\tHeader set X-Ferry tide\n")
        .replace("\tRequire all granted\n", "\tRequire   all granted\n\t\t<If \"true\">\n\t\t</If>\n")
        + "# the end";
    assert_eq!(written(Some(&by_hand), Some(&first), &first), by_hand);

    let second = site("/srv/tides", &[]);
    let expected =
        by_hand.replace("\"/srv/saltmarsh\"", "\"/srv/tides\"").replace("\tServerAlias www.saltmarsh.test\n", "");
    assert_eq!(written(Some(&by_hand), Some(&first), &second), expected);
    assert_eq!(written(Some(&expected), Some(&second), &first).matches("ServerAlias www.saltmarsh.test").count(), 2);

    let mut third = first.clone();
    third.content = Content::Upstream(crate::site::Upstream::parse("http://127.0.0.1:3000").unwrap());
    let text = written(Some(&by_hand), Some(&first), &third);
    assert!(text.contains("ProxyPass / http://127.0.0.1:3000/") && !text.contains("DocumentRoot"), "{text}");
    assert!(text.contains("\tHeader set X-Ferry tide\n"), "{text}");
}

#[test]
fn every_choice_has_its_directives() {
    let mut site = site("/srv/saltmarsh", &[]);
    site.https = Https::Both;
    site.serving = Serving {
        http_ports: vec![8080],
        https_ports: vec![8443],
        by_address: true,
        listing: Listing::Off,
        only_here: true,
        overrides: Overrides::Off,
        symlinks: Symlinks::Owner,
        fallback: Some("/index.php".into()),
        php: Some(FastCgi::Socket("/run/php/php-fpm.sock".into())),
        variables: vec![crate::site::SiteVariable::parse("FERRY=high \"tide\"").unwrap()],
        extra: Some("/srv/ferry rules.conf".into()),
        logs: Logs::Off,
        ..Serving::default()
    };
    insta::assert_snapshot!(written(None, None, &site), @r#"
    # saltmarsh.test: kept by `yandro map`; lines that you add here stay
    <VirtualHost 127.0.0.1:8080>
    	ServerName saltmarsh.test
    	DocumentRoot "/srv/saltmarsh"
    	<Directory "/srv/saltmarsh">
    		Options SymLinksIfOwnerMatch
    		AllowOverride None
    		Require all granted
    		DirectoryIndex index.php index.html
    		FallbackResource "/index.php"
    		CGIPassAuth on
    		<FilesMatch [.]php$>
    			SetHandler "proxy:unix:/run/php/php-fpm.sock|fcgi://localhost"
    		</FilesMatch>
    	</Directory>
    	SetEnv FERRY "high \"tide\""
    	<Location />
    		AuthMerging And
    		Require local
    	</Location>
    	Include "/srv/ferry rules.conf"
    	ErrorLog "/dev/null"
    	CustomLog "/dev/null" combined
    </VirtualHost>

    <VirtualHost 127.0.0.1:8443>
    	ServerName saltmarsh.test
    	DocumentRoot "/srv/saltmarsh"
    	<Directory "/srv/saltmarsh">
    		Options SymLinksIfOwnerMatch
    		AllowOverride None
    		Require all granted
    		DirectoryIndex index.php index.html
    		FallbackResource "/index.php"
    		CGIPassAuth on
    		<FilesMatch [.]php$>
    			SetHandler "proxy:unix:/run/php/php-fpm.sock|fcgi://localhost"
    		</FilesMatch>
    	</Directory>
    	SetEnv FERRY "high \"tide\""
    	<Location />
    		AuthMerging And
    		Require local
    	</Location>
    	Include "/srv/ferry rules.conf"
    	SSLEngine on
    	SSLProtocol -all +TLSv1.2 +TLSv1.3
    	SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20
    	SSLCertificateFile "/home/ada/certificates/saltmarsh.test/fullchain.pem"
    	SSLCertificateKeyFile "/home/ada/certificates/saltmarsh.test/key.pem"
    	ErrorLog "/dev/null"
    	CustomLog "/dev/null" combined
    </VirtualHost>
    "#);
    // All of it goes again when the choices do.
    let usual = Site { serving: Serving::default(), ..site.clone() };
    let back = written(Some(&written(None, None, &site)), Some(&site), &usual);
    let mut lines: Vec<&str> = back.lines().filter(|line| !line.is_empty()).collect();
    let fresh = written(None, None, &usual);
    let mut expected: Vec<&str> = fresh.lines().filter(|line| !line.is_empty()).collect();
    lines.sort_unstable();
    expected.sort_unstable();
    assert_eq!(lines, expected);
}

#[test]
fn a_virtual_host_of_one_address_is_met_on_that_address() {
    let site = site("/srv/saltmarsh", &[]);
    let mut files = files(&site);
    let before = site_file(&ApacheSyntax, None, None, (&site, &files)).unwrap();
    files.server.specific = ["127.0.0.1:80".into(), "10.0.0.1:443".into()].into();
    let text = site_file(&ApacheSyntax, Some(&before), Some((&site, &self::files(&site))), (&site, &files)).unwrap();
    let text = String::from_utf8(text).unwrap();
    assert!(text.contains("<VirtualHost *:80 127.0.0.1:80>\n") && text.contains("<VirtualHost *:443>\n"), "{text}");
}

proptest! {
    #[test]
    fn paths_can_not_break_out(path in r#"/([a-z \"'\\$%#<>{}*?\[\]|;é\t\n\r]|\$\{[A-Z]\}){0,12}"#, name in "[a-z \"'\\$%#<>\n]{0,6}") {
        let mut site = site("/srv/a", &[]);
        site.serving.logs = Logs::Folder("/srv/logs".into());
        site.serving.php = Some(FastCgi::Socket(path.clone().into()));
        site.serving.index = crate::site::checked_index(&name).into_iter().collect();
        site.serving.fallback = crate::site::checked_fallback(&name).ok();
        // Refused values are reported; written values mean exactly themselves.
        let own = || Some(path.clone().into());
        let files = SiteFiles { document_root: own(), extra: own(), logs: own(), ..files(&site) };
        if files.check(&site.serving).is_err() {
            return Ok(());
        }
        let tree = parse(&site_file(&ApacheSyntax, None, None, (&site, &files)).unwrap()).unwrap();
        prop_assert_eq!(tree.nodes.len(), 2);
        let host = tree.all("VirtualHost")[1];
        let value = |name: &str| host.directives(name).next().unwrap().values().next().unwrap().to_owned();
        prop_assert_eq!(value("DocumentRoot"), path.clone());
        prop_assert_eq!(value("Include"), path.clone());
        prop_assert_eq!(ServerPath::from(value("ErrorLog")), ServerPath::new(&path).join("saltmarsh.test-error.log"));
        prop_assert_eq!(host.nodes.len(), 11);
        let folder = host.sections("Directory").next().unwrap();
        let handler = folder.sections("FilesMatch").next().unwrap().directives("SetHandler").next().unwrap();
        prop_assert_eq!(handler.values().collect::<Vec<_>>(), [format!("proxy:unix:{path}|fcgi://localhost")]);
        prop_assert_eq!(folder.directives("FallbackResource").map(|own| own.arguments.len()).sum::<usize>(), usize::from(site.serving.fallback.is_some()));
    }
}

#[test]
fn odd_paths_are_written_as_they_are() {
    for path in ["/srv/a b", "/srv/a\"b", "/srv/a\\", "/srv/a'b#c", "/srv/fähre", "/srv/$x%y>z", "/srv/[a]*?"] {
        let site = site("/srv/a", &[]);
        let files = SiteFiles { document_root: Some(path.into()), ..files(&site) };
        let tree = parse(&site_file(&ApacheSyntax, None, None, (&site, &files)).unwrap()).unwrap();
        let host = tree.all("VirtualHost")[1];
        assert_eq!(host.directives("DocumentRoot").next().unwrap().values().collect::<Vec<_>>(), [path]);
    }
    for path in ["/srv/a\nb", "/srv/${HOME}"] {
        let site = site("/srv/a", &[]);
        let files = SiteFiles { document_root: Some(path.into()), ..files(&site) };
        assert!(files.check(&site.serving).is_err(), "{path}");
    }
}
