//! The wanted virtual hosts of a site.

use crate::server_path::ServerPath;
use core::net::{IpAddr, Ipv6Addr};

use crate::config::{SiteFiles, Want};
use crate::site::{
    Content, DEFAULT_ADDRESS, FastCgi, Http2, Https, Listing, Logs, Overrides, Scheme, Serving, Site, SiteVariable,
    Symlinks, UpstreamHost,
};

/// Every directive and section of a site: the helper under sudo takes no others.
pub(super) const WRITTEN: &[&str] = &[
    "VirtualHost",
    "ServerName",
    "ServerAlias",
    "RewriteEngine",
    "RewriteCond",
    "RewriteRule",
    "ErrorLog",
    "CustomLog",
    "SetEnv",
    "Protocols",
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

/// The protocols and ciphers that browsers of today speak, and none that are weaker (RFC 9325
/// section 4.2): only ephemeral keys and authenticated encryption.
const TLS_VERSIONS: [&str; 3] = ["-all", "+TLSv1.2", "+TLSv1.3"];
const TLS_CIPHERS: &str = "ECDHE+AESGCM:ECDHE+CHACHA20";

/// The modules that a site needs, by their identifiers without `_module`.
pub(crate) fn required_modules(site: &Site) -> Vec<&'static str> {
    let protocols: &[&str] = match site.https {
        Https::Only => &["ssl", "rewrite"],
        Https::Both => &["ssl"],
        Https::Off => &[],
    };
    let redirects: &[&str] = if site.serving.redirect_aliases.is_empty() { &[] } else { &["rewrite"] };
    let content: &[&str] = match site.content {
        Content::Folder { .. } => &["dir", "mime", "authz_core"],
        Content::Upstream(_) => &["authz_core", "proxy", "proxy_http", "headers"],
    };
    let php: &[&str] = if site.serving.php.is_some() { &["proxy", "proxy_fcgi"] } else { &[] };
    let reach: &[&str] = if site.serving.only_here { &["authz_host"] } else { &[] };
    let logs: &[&str] = &["log_config"];
    let http2: &[&str] = if site.serving.http2 == Http2::On && site.https.is_on() { &["http2"] } else { &[] };
    let env: &[&str] = if has_variables(site) { &["env"] } else { &[] };
    [protocols, redirects, content, php, reach, logs, http2, env].concat()
}

/// Whether the server passes variables on: to PHP and CGI programs of a folder.
fn has_variables(site: &Site) -> bool {
    let is_plain = |own: &SiteVariable| own.plain().is_some();
    matches!(site.content, Content::Folder { .. }) && site.serving.variables.iter().any(is_plain)
}

/// The virtual hosts of a site, one for each port.
pub(super) fn virtual_hosts(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let mut names = vec![Want::one("ServerName", site.name.as_str())];
    let further: Vec<String> = site.host_patterns().skip(1).collect();
    if !further.is_empty() {
        names.push(Want::Directive("ServerAlias", further));
    }
    let logs = logs(site, files);
    let secure_ports = site.https_ports(443);
    let over_plain = match (site.https, secure_ports.first()) {
        (Https::Only, Some(port)) => redirect(files.server.published.here_or_same(*port)),
        _ => content(site, files, "http"),
    };
    let host = |scheme, port: &u16, wants| Want::Section("VirtualHost", addresses(site, files, scheme, *port), wants);
    let plain = [names.clone(), over_plain, logs.clone()].concat();
    let mut hosts: Vec<Want> = site.http_ports(80).iter().map(|port| host(Scheme::Http, port, plain.clone())).collect();
    if !secure_ports.is_empty() {
        let secure = [names, content(site, files, "https"), protocols(site, files), tls(files), logs].concat();
        hosts.extend(secure_ports.iter().map(|port| host(Scheme::Https, port, secure.clone())));
    }
    hosts
}

/// Addresses of a virtual host: every address, and those of the site that have a virtual host
/// of the user.
///
/// A virtual host without a port, `<VirtualHost 127.0.0.1>`, answers on each port on which no other has the address
/// with the port. So the site's one for HTTP has none either, and both answer by their names; the one for HTTPS has
/// the port, since a virtual host without TLS can't answer there.
fn addresses(site: &Site, files: &SiteFiles, scheme: Scheme, port: u16) -> Vec<String> {
    let at = |address: IpAddr, port: &str| match address {
        IpAddr::V4(address) => format!("{address}:{port}"),
        IpAddr::V6(address) => format!("[{address}]:{port}"),
    };
    let number = port.to_string();
    if site.serving.by_address {
        return vec![at(site.address, &number)];
    }
    let own = |address: IpAddr| {
        let (exact, any_port) = (at(address, &number), at(address, "*"));
        match (files.server.specific.contains(&exact), files.server.specific.contains(&any_port), scheme) {
            (true, ..) | (false, true, Scheme::Https) => Some(exact),
            (false, true, Scheme::Http) => Some(any_port),
            (false, false, _) => None,
        }
    };
    let v6 = (site.address == DEFAULT_ADDRESS).then_some(IpAddr::V6(Ipv6Addr::LOCALHOST));
    let own = std::iter::once(site.address).chain(v6).filter_map(own);
    std::iter::once(format!("*:{port}")).chain(own).collect()
}

/// To the name that was asked for, path and query kept. 307 keeps the method and, unlike 301, is
/// not remembered by browsers when the site is gone.
fn redirect(port: u16) -> Vec<Want> {
    let port = if port == 443 { String::new() } else { format!(":{port}") };
    let target = format!("https://%{{SERVER_NAME}}{port}%{{REQUEST_URI}}");
    vec![Want::one("RewriteEngine", "on"), Want::Directive("RewriteRule", vec!["^".into(), target, "[R=307,L]".into()])]
}

fn logs(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let (error, access) = match (&site.serving.logs, &files.logs) {
        (Logs::Off, _) => ("/dev/null".to_owned(), "/dev/null".to_owned()),
        (Logs::Folder(_), Some(folder)) => log_paths(folder.as_str(), site),
        _ if files.server.log_folder.is_empty() => return Vec::new(),
        _ => log_paths(&files.server.log_folder, site),
    };
    vec![Want::one("ErrorLog", error), Want::Directive("CustomLog", vec![access, files.server.log_format.clone()])]
}

fn log_paths(folder: &str, site: &Site) -> (String, String) {
    let at = |kind: &str| format!("{folder}/{}-{kind}.log", site.name);
    (at("error"), at("access"))
}

/// The protocols that a browser may choose from, the first it knows (RFC 7301); as the server has it, if it is left to
/// that and the server has no HTTP/2.
fn protocols(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let words: &[&str] = match site.serving.http2 {
        Http2::Off => &["http/1.1"],
        Http2::On => &["h2", "http/1.1"],
        Http2::Auto if files.server.speaks_http2 => &["h2", "http/1.1"],
        Http2::Auto => return Vec::new(),
    };
    vec![Want::Directive("Protocols", words.iter().map(|word| (*word).to_owned()).collect())]
}

/// The directives for TLS in a virtual host.
pub(super) fn tls(files: &SiteFiles) -> Vec<Want> {
    vec![
        Want::one("SSLEngine", "on"),
        Want::Directive("SSLProtocol", TLS_VERSIONS.map(str::to_owned).to_vec()),
        Want::one("SSLCipherSuite", TLS_CIPHERS),
        Want::one("SSLCertificateFile", files.certificate.as_str()),
        Want::one("SSLCertificateKeyFile", files.key.as_str()),
    ]
}

/// From the aliases that redirect to the site's name, path and query kept.
fn redirected_aliases(site: &Site, files: &SiteFiles) -> Vec<Want> {
    let aliases: Vec<String> =
        site.serving.redirect_aliases.iter().map(|alias| alias.as_str().replace('.', "[.]")).collect();
    if aliases.is_empty() {
        return Vec::new();
    }
    let host = format!("^({})[.]?(:[0-9]+)?$", aliases.join("|"));
    let target = site.origin(|port| files.server.published.here_or_same(port)) + "%{REQUEST_URI}";
    vec![
        Want::one("RewriteEngine", "on"),
        Want::Directive("RewriteCond", vec!["%{HTTP_HOST}".into(), host, "[NC]".into()]),
        Want::Directive("RewriteRule", vec!["^".into(), target, "[R=307,L]".into()]),
    ]
}

fn content(site: &Site, files: &SiteFiles, scheme: &str) -> Vec<Want> {
    let mut wants = redirected_aliases(site, files);
    wants.extend(answer(site, files, scheme));
    if has_variables(site) {
        let variables = site.serving.variables.iter();
        let set = |(name, value): (&str, &str)| Want::Directive("SetEnv", vec![name.to_owned(), value.to_owned()]);
        wants.extend(variables.filter_map(SiteVariable::plain).map(set));
    }
    if site.serving.only_here {
        // Beside what the folder and its override files ask for: neither opens what the other closes.
        let own = vec![Want::one("AuthMerging", "And"), Want::one("Require", "local")];
        wants.push(Want::Section("Location", vec!["/".into()], own));
    }
    wants.extend(files.extra.as_ref().map(|extra| Want::one("Include", extra.as_str())));
    wants
}

/// The source of the answers: an upstream or a folder.
fn answer(site: &Site, files: &SiteFiles, scheme: &str) -> Vec<Want> {
    match (&site.content, &files.document_root) {
        (Content::Upstream(upstream), _) => {
            let passed_on = vec!["/".to_owned(), format!("{upstream}/")];
            let upgraded = files.server.upgrades.then(|| "upgrade=websocket".to_owned());
            let preserves_host = site.serving.upstream_host == UpstreamHost::Site;
            vec![
                Want::one("ProxyPreserveHost", if preserves_host { "on" } else { "off" }),
                Want::Directive("RequestHeader", vec!["set".into(), "X-Forwarded-Proto".into(), scheme.into()]),
                Want::Directive("ProxyPass", passed_on.iter().cloned().chain(upgraded).collect()),
                Want::Directive("ProxyPassReverse", passed_on),
            ]
        }
        (Content::Folder { .. }, Some(root)) => vec![
            Want::one("DocumentRoot", root.as_str()),
            Want::Section("Directory", vec![directory_argument(root)], directory(&site.serving)),
        ],
        (Content::Folder { .. }, None) => Vec::new(),
    }
}

fn directory(serving: &Serving) -> Vec<Want> {
    let listing = (serving.listing == Listing::On).then_some("Indexes");
    let symlinks = match serving.symlinks {
        Symlinks::On | Symlinks::Anywhere => Some("FollowSymLinks"),
        Symlinks::Owner => Some("SymLinksIfOwnerMatch"),
        Symlinks::Off => None,
    };
    let mut options: Vec<String> = listing.into_iter().chain(symlinks).map(str::to_owned).collect();
    if options.is_empty() {
        options.push("None".into());
    }
    let mut wants = vec![Want::Directive("Options", options)];
    wants.extend(overrides(serving));
    wants.push(Want::Directive("Require", vec!["all".into(), "granted".into()]));
    let index = match (&serving.index[..], &serving.php) {
        ([], Some(_)) => vec!["index.php".to_owned(), "index.html".to_owned()],
        (index, _) => index.to_vec(),
    };
    if !index.is_empty() {
        wants.push(Want::Directive("DirectoryIndex", index));
    }
    wants.extend(serving.fallback.as_ref().map(|path| Want::one("FallbackResource", path)));
    if let Some(php) = &serving.php {
        let handler = match php {
            // The server takes what follows the bar for the name that pools connections.
            FastCgi::Socket(path) => format!("proxy:unix:{path}|fcgi://localhost"),
            FastCgi::Address(address) => format!("proxy:fcgi://{address}"),
        };
        // Scripts see who signs in, as they would without a server between.
        wants.push(Want::one("CGIPassAuth", "on"));
        wants.push(Want::Section("FilesMatch", vec!["[.]php$".into()], vec![Want::one("SetHandler", handler)]));
    }
    wants
}

/// The classes of directives that a project's override file may hold, and of options those that run nothing.
const OVERRIDES: [&str; 3] = ["AuthConfig", "Indexes", "Limit"];
/// The directives of the class `FileInfo` that it may hold: all that is usual, but for those that choose the handler of
/// a file, which may be a program.
const FILE_INFO: [&str; 36] = [
    "AddCharset",
    "AddDefaultCharset",
    "AddEncoding",
    "AddLanguage",
    "AddOutputFilter",
    "AddOutputFilterByType",
    "AddType",
    "BrowserMatch",
    "BrowserMatchNoCase",
    "DefaultLanguage",
    "ErrorDocument",
    "FileETag",
    "ForceLanguagePriority",
    "Header",
    "LanguagePriority",
    "PassEnv",
    "Redirect",
    "RedirectMatch",
    "RedirectPermanent",
    "RedirectTemp",
    "RemoveCharset",
    "RemoveEncoding",
    "RemoveLanguage",
    "RemoveType",
    "RequestHeader",
    "RewriteBase",
    "RewriteCond",
    "RewriteEngine",
    "RewriteOptions",
    "RewriteRule",
    "SetEnv",
    "SetEnvIf",
    "SetEnvIfNoCase",
    "SetOutputFilter",
    "UnsetEnv",
    "AcceptPathInfo",
];

/// `AllowOverride` for the site. A site with PHP runs the project's programs anyway, so all of `.htaccess` counts.
fn overrides(serving: &Serving) -> Vec<Want> {
    let all = match serving.overrides {
        Overrides::Off => return vec![Want::one("AllowOverride", "None")],
        Overrides::All => true,
        Overrides::On => serving.php.is_some(),
    };
    if all {
        return vec![Want::one("AllowOverride", "All")];
    }
    let links = match serving.symlinks {
        Symlinks::On | Symlinks::Anywhere => ",FollowSymLinks,SymLinksIfOwnerMatch",
        Symlinks::Owner => ",SymLinksIfOwnerMatch",
        Symlinks::Off => "",
    };
    let options = format!("Options=Indexes,MultiViews{links}");
    let classes = OVERRIDES.into_iter().map(str::to_owned).chain([options]);
    vec![
        Want::Directive("AllowOverride", classes.collect()),
        Want::Directive("AllowOverrideList", FILE_INFO.map(str::to_owned).to_vec()),
    ]
}

/// The argument of `<Directory>`: the server takes `*`, `?` and `[` there for a
/// pattern, so a path that has them is written as a pattern that matches them literally.
fn directory_argument(root: &ServerPath) -> String {
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
