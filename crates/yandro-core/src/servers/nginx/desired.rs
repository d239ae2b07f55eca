//! The wanted server blocks of a site.

use core::net::{IpAddr, Ipv6Addr};

use crate::config::{SiteFiles, Want};
use crate::name::HostName;
use crate::site::Scheme;
use crate::site::{
    Content, DEFAULT_ADDRESS, FastCgi, Http2, Https, Listing, Logs, Site, SiteVariable, Symlinks, UpstreamHost,
};

/// Every directive and block of a site: the helper under sudo takes no others.
pub(super) const WRITTEN: &[&str] = &[
    "server",
    "listen",
    "http2",
    "server_name",
    "if",
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

/// The `FastCGI` parameters (`fastcgi_param`) that a site has in any case.
pub(super) const PARAMETERS: [&str; 3] = ["SCRIPT_FILENAME", "SERVER_NAME", "HTTP_HOST"];

/// Largest upload on a development machine: nginx's own 1 MB is too small for a picture.
const LARGEST_BODY: &str = "256m";

/// nginx's default size of the buckets of names: a line of the processor's cache.
const USUAL_BUCKET: usize = 64;
/// A pointer and the length, as nginx lays a name out in its bucket, and the pointer that ends it.
const POINTER: usize = 8;

/// The size of the buckets of names (`server_names_hash_bucket_size`) that the longest of these
/// needs; `None` where the usual one does.
pub(crate) fn name_bucket<'n>(names: impl Iterator<Item = &'n HostName>) -> Option<usize> {
    let needs = |name: &HostName| 2 * POINTER + (name.as_str().len() + 2).next_multiple_of(POINTER);
    let needed = names.map(needs).max().unwrap_or_default();
    (needed > USUAL_BUCKET).then(|| needed.next_power_of_two())
}

/// The server blocks of a site, one for each port.
pub(super) fn server_blocks(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let names = Want::Directive("server_name", site.host_patterns().collect());
    let secure_ports = site.https_ports(443);
    let over_plain = |own: u16| match (site.https, secure_ports.first()) {
        (Https::Only, Some(port)) => vec![redirect(files.server.published.here_or_same(*port))],
        _ => content(site, files, &asked_host(files, own, 80)),
    };
    let block = |port: u16, scheme: Scheme| {
        let listens = listens(site, files, port, scheme);
        let inner = match scheme {
            Scheme::Http => over_plain(port),
            Scheme::Https => [tls(files), content(site, files, &asked_host(files, port, 443))].concat(),
        };
        let wants = [listens, vec![names.clone()], inner, logs(site, files)].concat();
        Want::Section("server", Vec::new(), wants)
    };
    let plain = site.http_ports(80).into_iter().map(|port| block(port, Scheme::Http));
    plain.chain(secure_ports.iter().map(|port| block(*port, Scheme::Https))).collect()
}

fn listens(site: &Site, files: &SiteFiles, port: u16, scheme: Scheme) -> Vec<Want> {
    let at = |address: IpAddr| match address {
        IpAddr::V4(address) => format!("{address}:{port}"),
        IpAddr::V6(address) => format!("[{address}]:{port}"),
    };
    let mut addresses = if site.serving.by_address { vec![at(site.address)] } else { vec![port.to_string()] };
    if !site.serving.by_address {
        if files.server.listens_on_v6 {
            addresses.push(format!("[::]:{port}"));
        }
        // A request to an address that has a block of the user goes only to that.
        let v6 = (site.address == DEFAULT_ADDRESS).then_some(IpAddr::V6(Ipv6Addr::LOCALHOST));
        let own = std::iter::once(site.address).chain(v6).map(at);
        addresses.extend(own.filter(|own| files.server.specific.contains(own)));
    }
    let offers = site.serving.http2 != Http2::Off;
    let words: &[&str] = match (scheme, files.server.has_http2_directive || !offers) {
        (Scheme::Http, _) => &[],
        (Scheme::Https, true) => &["ssl"],
        (Scheme::Https, false) => &["ssl", "http2"],
    };
    let words = words.iter().map(|word| (*word).to_owned());
    let listen = |address: String| Want::Directive("listen", std::iter::once(address).chain(words.clone()).collect());
    let mut wants: Vec<Want> = addresses.into_iter().map(listen).collect();
    if scheme == Scheme::Https && files.server.has_http2_directive {
        wants.push(Want::one("http2", if offers { "on" } else { "off" }));
    }
    wants
}

/// To the name that was asked for, path and query kept. 307 keeps the method and, unlike 301, is
/// not remembered by browsers when the site is gone.
fn redirect(port: u16) -> Want {
    let port = if port == 443 { String::new() } else { format!(":{port}") };
    Want::Directive("return", vec!["307".into(), format!("https://$host{port}$request_uri")])
}

/// The directives for TLS in a server block: the protocols and ciphers of RFC 9325 section 4.2.
pub(super) fn tls(files: &SiteFiles) -> Vec<Want> {
    vec![
        Want::one("ssl_certificate", files.certificate.as_str()),
        Want::one("ssl_certificate_key", files.key.as_str()),
        Want::Directive("ssl_protocols", vec!["TLSv1.2".into(), "TLSv1.3".into()]),
        Want::one("ssl_ciphers", "ECDHE+AESGCM:ECDHE+CHACHA20"),
    ]
}

fn logs(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let folder = match (&site.serving.logs, &files.logs) {
        (Logs::Off, _) => return vec![Want::one("access_log", "off"), Want::one("error_log", "/dev/null")],
        (Logs::Folder(_), Some(folder)) => folder.as_str(),
        _ if files.server.log_folder.is_empty() => return Vec::new(),
        _ => files.server.log_folder.as_str(),
    };
    let at = |kind: &str| format!("{folder}/{}-{kind}.log", site.name);
    vec![Want::one("access_log", at("access")), Want::one("error_log", at("error"))]
}

/// The host that was asked for, with its port where that is not the usual one. The `Host` field
/// itself may say something else than the request's target does (RFC 9112 section 3.2.2).
fn asked_host(files: &SiteFiles, port: u16, usual: u16) -> String {
    let port = files.server.published.here_or_same(port);
    if port == usual { "$host".to_owned() } else { format!("$host:{port}") }
}

fn content(site: &Site, files: &SiteFiles, host: &str) -> Vec<Want> {
    let mut wants = vec![Want::one("client_max_body_size", LARGEST_BODY)];
    if site.serving.only_here {
        wants.extend(["127.0.0.0/8", "::1"].map(|own| Want::one("allow", own)));
        wants.push(Want::one("deny", "all"));
    }
    let origin = site.origin(|port| files.server.published.here_or_same(port));
    wants.extend(site.serving.redirect_aliases.iter().map(|alias| {
        let target = Want::Directive("return", vec!["307".into(), format!("{origin}$request_uri")]);
        Want::Section("if", vec!["($host".into(), "=".into(), format!("{alias})")], vec![target])
    }));
    match (&site.content, &files.document_root) {
        (Content::Upstream(upstream), _) => {
            wants.push(passed_on(&upstream.to_string(), host, site.serving.upstream_host));
        }
        (Content::Folder { .. }, Some(root)) => wants.extend(folder(site, root.as_str(), host)),
        (Content::Folder { .. }, None) => {}
    }
    wants.extend(files.extra.as_ref().map(|extra| Want::one("include", extra.as_str())));
    wants
}

/// Everything to an upstream, WebSocket included: the connection's own words are handed on.
fn passed_on(upstream: &str, host: &str, asked: UpstreamHost) -> Want {
    let header = |name: &str, value: &str| Want::Directive("proxy_set_header", vec![name.into(), value.into()]);
    let wants = vec![
        Want::one("proxy_pass", upstream),
        Want::one("proxy_http_version", "1.1"),
        header("Host", if asked == UpstreamHost::Own { "$proxy_host" } else { host }),
        header("Upgrade", "$http_upgrade"),
        header("Connection", "$http_connection"),
        header("X-Forwarded-For", "$proxy_add_x_forwarded_for"),
        header("X-Forwarded-Host", host),
        header("X-Forwarded-Proto", "$scheme"),
    ];
    Want::Section("location", vec!["/".into()], wants)
}

fn folder(site: &Site, root: &str, host: &str) -> Vec<Want> {
    let serving = &site.serving;
    let index = match (&serving.index[..], &serving.php) {
        ([], Some(_)) => vec!["index.php".to_owned(), "index.html".to_owned()],
        ([], None) => vec!["index.html".to_owned(), "index.htm".to_owned()],
        (index, _) => index.to_vec(),
    };
    let mut wants = vec![Want::one("root", root), Want::Directive("index", index)];
    wants.push(Want::one("autoindex", if serving.listing == Listing::On { "on" } else { "off" }));
    match serving.symlinks {
        Symlinks::On | Symlinks::Anywhere => {}
        Symlinks::Owner => wants.push(Want::one("disable_symlinks", "if_not_owner")),
        Symlinks::Off => wants.push(Want::one("disable_symlinks", "on")),
    }
    let last = serving.fallback.as_ref().map_or_else(|| "=404".to_owned(), |path| format!("{path}$is_args$args"));
    let tried = Want::Directive("try_files", vec!["$uri".into(), "$uri/".into(), last]);
    wants.push(Want::Section("location", vec!["/".into()], vec![tried]));
    if let Some(php) = &serving.php {
        let address = match php {
            FastCgi::Socket(path) => format!("unix:{path}"),
            FastCgi::Address(address) => address.to_string(),
        };
        let script = ["SCRIPT_FILENAME".to_owned(), "$document_root$fastcgi_script_name".to_owned()];
        let mut inner = vec![
            // A path without a file doesn't go to PHP: it would run the script above it.
            Want::Directive("try_files", vec!["$uri".into(), "=404".into()]),
            Want::one("include", "fastcgi_params"),
            Want::Directive("fastcgi_param", script.to_vec()),
            // The name that was asked for, and not the first of the block.
            Want::Directive("fastcgi_param", vec!["SERVER_NAME".into(), "$host".into()]),
            Want::Directive("fastcgi_param", vec!["HTTP_HOST".into(), host.into()]),
        ];
        let variables = site.serving.variables.iter();
        inner.extend(
            variables
                .filter_map(SiteVariable::plain)
                .map(|(name, value)| Want::Directive("fastcgi_param", vec![name.to_owned(), value.to_owned()])),
        );
        inner.push(Want::one("fastcgi_pass", address));
        wants.push(Want::Section("location", vec!["~".into(), "[.]php$".into()], inner));
    }
    let hidden = Want::Section("location", vec!["~".into(), "/[.]ht".into()], vec![Want::one("deny", "all")]);
    wants.push(hidden);
    wants
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::config::{ServerTraits, Variable, hand_edits, site_file};
    use crate::name::HostName;
    use crate::server_path::ServerPath;
    use crate::servers::nginx::parse;
    use crate::servers::nginx::syntax::NginxSyntax;
    use crate::site::Upstream;

    fn site(content: Content) -> Site {
        Site::new(HostName::parse("saltmarsh.test").unwrap(), content)
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
                log_folder: "/var/log/nginx".into(),
                listens_on_v6: true,
                variable: Variable::Plain,
                ..ServerTraits::default()
            },
        }
    }

    fn written(existing: Option<&str>, before: Option<&Site>, now: &Site) -> String {
        let before_files = before.map(files);
        let before = before.zip(before_files.as_ref());
        String::from_utf8(site_file(&NginxSyntax, existing.map(str::as_bytes), before, (now, &files(now))).unwrap())
            .unwrap()
    }

    #[test]
    fn long_names_need_larger_buckets() {
        // As the real server was measured: 46 letters fit into 64 bytes, 47 don't; 110 into 128.
        for (length, size) in [(46, None), (47, Some(128)), (110, Some(128)), (111, Some(256))] {
            let label = "a".repeat(length / 2 - 3);
            let text = format!("{label}.{}.test", "b".repeat(length - label.len() - 6));
            let name = HostName::parse(&text).unwrap();
            assert_eq!((text.len(), name_bucket([&name].into_iter())), (length, size), "{text}");
        }
    }

    #[test]
    fn a_new_site_with_php() {
        let mut site = site(Content::folder("/srv/salt marsh"));
        site.serving.php = Some(FastCgi::Socket("/run/php/php-fpm.sock".into()));
        site.serving.fallback = Some("/index.php".into());
        insta::assert_snapshot!(written(None, None, &site), @r#"
        # saltmarsh.test: kept by `yandro map`; lines that you add here stay
        server {
        	listen 80;
        	listen [::]:80;
        	server_name saltmarsh.test;
        	return 307 https://$host$request_uri;
        	access_log /var/log/nginx/saltmarsh.test-access.log;
        	error_log /var/log/nginx/saltmarsh.test-error.log;
        }

        server {
        	listen 443 ssl http2;
        	listen [::]:443 ssl http2;
        	server_name saltmarsh.test;
        	ssl_certificate /home/ada/certificates/saltmarsh.test/fullchain.pem;
        	ssl_certificate_key /home/ada/certificates/saltmarsh.test/key.pem;
        	ssl_protocols TLSv1.2 TLSv1.3;
        	ssl_ciphers ECDHE+AESGCM:ECDHE+CHACHA20;
        	client_max_body_size 256m;
        	root "/srv/salt marsh";
        	index index.php index.html;
        	autoindex on;
        	location / {
        		try_files $uri $uri/ /index.php$is_args$args;
        	}
        	location ~ [.]php$ {
        		try_files $uri =404;
        		include fastcgi_params;
        		fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
        		fastcgi_param SERVER_NAME $host;
        		fastcgi_param HTTP_HOST $host;
        		fastcgi_pass unix:/run/php/php-fpm.sock;
        	}
        	location ~ /[.]ht {
        		deny all;
        	}
        	access_log /var/log/nginx/saltmarsh.test-access.log;
        	error_log /var/log/nginx/saltmarsh.test-error.log;
        }
        "#);
    }

    #[test]
    fn hand_edits_survive_whatever_the_site_becomes() {
        let first = site(Content::folder("/srv/saltmarsh"));
        let by_hand = written(None, None, &first)
            .replace("\tautoindex on;\n", "\tautoindex off; # mine\n\tadd_header X-Ferry tide;\n")
            .replace("\tlocation / {\n", "\tlocation /tides { return 204; }\n\tlocation / {\n");
        assert_eq!(written(Some(&by_hand), Some(&first), &first), by_hand);
        let edits = hand_edits(&NginxSyntax, by_hand.as_bytes(), &first, &files(&first));
        assert_eq!(edits.iter().map(|edit| edit.wanted.as_str()).collect::<Vec<_>>(), ["autoindex on;"]);

        let mut second = site(Content::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap()));
        second.aliases.push(HostName::parse("www.saltmarsh.test").unwrap());
        let text = written(Some(&by_hand), Some(&first), &second);
        assert!(text.contains("proxy_pass http://127.0.0.1:3000;") && !text.contains("\troot "), "{text}");
        assert!(
            text.contains("\tadd_header X-Ferry tide;\n") && text.contains("location /tides { return 204; }"),
            "{text}"
        );
        assert!(text.contains("server_name saltmarsh.test www.saltmarsh.test;"), "{text}");
        let back = written(Some(&text), Some(&second), &first);
        assert!(back.contains("root \"/srv/saltmarsh\"") || back.contains("root /srv/saltmarsh;"), "{back}");
        assert!(parse(back.as_bytes()).is_ok());
        // A line of a person's stops a block from going.
        let mut plain = first.clone();
        plain.https = Https::Off;
        let error =
            site_file(&NginxSyntax, Some(by_hand.as_bytes()), Some((&first, &files(&first))), (&plain, &files(&plain)));
        assert!(error.unwrap_err().to_string().contains("was added by hand"));
    }

    proptest! {
        #[test]
        fn paths_can_not_break_out(path in r#"/([a-z "'\\$%#{};*?\[\]|~é\t\n]|\$\{[a-z]\}){0,12}"#) {
            let mut site = site(Content::folder("/srv/a"));
            site.serving.php = Some(FastCgi::Socket(path.clone().into()));
            site.serving.logs = Logs::Folder("/srv/logs".into());
            let own = || Some(path.clone().into());
            let files = SiteFiles { document_root: own(), extra: own(), logs: own(), ..files(&site) };
            if files.check(&site.serving).is_err() {
                return Ok(());
            }
            let tree = parse(&site_file(&NginxSyntax, None, None, (&site, &files)).unwrap()).unwrap();
            prop_assert_eq!(tree.nodes.len(), 2);
            let host = tree.all("server")[1];
            let value = |name: &str| host.directives(name).next().unwrap().values().next().unwrap().to_owned();
            prop_assert_eq!(value("root"), path.clone());
            prop_assert_eq!(value("include"), path.clone());
            prop_assert_eq!(ServerPath::from(value("access_log")), ServerPath::new(&path).join("saltmarsh.test-access.log"));
            prop_assert_eq!(host.sections("location").count(), 3);
        }
    }
}
