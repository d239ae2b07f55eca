//! Virtual hosts of Apache httpd that a person wrote.

use crate::server_path::ServerPath;

use crate::adopt::{BlockAddress, BlockReading, Fate, HandBlock, OWN_CERTIFICATE, OWN_TLS, is_name, upstream};
use crate::config::{Directive, Node, Section};
use crate::host_port::{HostPort, in_brackets};
use crate::site::{
    Content, FastCgi, Http2, Listing, Overrides, Symlinks, UpstreamHost, checked_fallback, checked_index,
};

/// The directives that yandro may add to a person's virtual host without changing what it answers.
const HARMLESS: [&str; 8] = [
    "ServerName",
    "SSLEngine",
    "SSLProtocol",
    "SSLCipherSuite",
    "SSLCertificateFile",
    "SSLCertificateKeyFile",
    "ErrorLog",
    "CustomLog",
];

pub(super) fn may_add(name: &str) -> bool {
    HARMLESS.contains(&name)
}

/// Reads a virtual host.
pub(super) fn read(block: &HandBlock<'_>) -> BlockReading {
    let mut reading = BlockReading::default();
    reading.serving.upstream_host = UpstreamHost::Own;
    let is_secure = block.section.directives("SSLEngine").any(|own| own.values().eq(["on"]));
    reading.addresses = block.section.open.values().filter_map(|text| address(text, is_secure)).collect();
    reading.line(block, &block.section.open, Fate::Understood("addresses and ports"));
    reading.content =
        proxied(block).or_else(|| block.document_root.map(|root| Content::folder(ServerPath::new(root).to_native())));
    for node in &block.section.nodes {
        match node {
            Node::Directive(own) => directive(&mut reading, block, own),
            Node::Section(own) => section(&mut reading, block, own),
        }
    }
    reading.redirects = redirects(block.section);
    reading
}

/// The upstream that all requests are passed on to.
fn proxied(block: &HandBlock<'_>) -> Option<Content> {
    let of = |own: &Directive| {
        let mut words = own.values();
        (words.next() == Some("/")).then(|| words.next().and_then(upstream)).flatten()
    };
    block.section.directives("ProxyPass").find_map(of)
}

fn address(text: &str, is_secure: bool) -> Option<BlockAddress> {
    let (host, port) = HostPort::split(text);
    let port = match port {
        Some(port) => port.parse().ok()?,
        None => 80,
    };
    let address = in_brackets(host).unwrap_or(host).parse().ok();
    Some(BlockAddress { address, port, is_secure })
}

fn directive(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let first = own.values().next().unwrap_or_default();
    match own.name.to_ascii_lowercase().as_str() {
        "servername" => {
            reading.names.insert(0, super::run::bare(first).to_owned());
            reading.replaced(block, own, "ServerName", "name");
        }
        "serveralias" => aliases(reading, block, own),
        "documentroot" if proxied(block).is_none() => {
            reading.replaced(block, own, "DocumentRoot", "document root");
        }
        "protocols" if own.values().all(|word| ["h2", "http/1.1"].contains(&word)) => {
            let offers = own.values().any(|word| word == "h2");
            reading.serving.http2 = if offers { Http2::Auto } else { Http2::Off };
            reading.replaced(block, own, "Protocols", "HTTP/2");
        }
        "sslengine" => reading.replaced(block, own, "SSLEngine", "HTTPS"),
        "sslprotocol" => reading.left(block, own, "SSLProtocol", OWN_TLS),
        "sslciphersuite" => reading.left(block, own, "SSLCipherSuite", OWN_TLS),
        "sslcertificatefile" => {
            reading.certificate = Some(first.to_owned());
            reading.left(block, own, "SSLCertificateFile", OWN_CERTIFICATE);
        }
        "sslcertificatekeyfile" => reading.left(block, own, "SSLCertificateKeyFile", OWN_CERTIFICATE),
        "sslcertificatechainfile" => {
            reading.left(block, own, "SSLCertificateChainFile", OWN_CERTIFICATE);
        }
        "errorlog" | "customlog" => logs(reading, block, own),
        _ => noted(reading, block, own),
    }
}

/// Lines that are the site's and stay as they are: what they say is in the site list, too.
fn noted(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let values: Vec<&str> = own.values().collect();
    let first = values.first().copied().unwrap_or_default();
    match own.name.to_ascii_lowercase().as_str() {
        "redirect" | "rewriteengine" | "rewriterule" | "rewritecond" if redirects(block.section) => {
            reading.noted(block, own, "redirect to HTTPS");
        }
        "directoryindex" => {
            let index: Option<Vec<String>> = values.iter().map(|name| checked_index(name).ok()).collect();
            match index {
                Some(index) => {
                    reading.serving.index = index;
                    reading.noted(block, own, "index");
                }
                None => reading.line(block, own, Fate::Kept),
            }
        }
        "fallbackresource" if first.starts_with('/') && checked_fallback(first).is_ok() => {
            reading.serving.fallback = checked_fallback(first).ok();
            reading.noted(block, own, "fallback");
        }
        "proxypass" if first == "/" && values.get(1).is_some_and(|url| upstream(url).is_some()) => {
            reading.noted(block, own, "upstream");
        }
        "proxypassreverse" if first == "/" => reading.noted(block, own, "upstream"),
        "proxypreservehost" => {
            let is_on = first.eq_ignore_ascii_case("on");
            reading.serving.upstream_host = if is_on { UpstreamHost::Site } else { UpstreamHost::Own };
            reading.noted(block, own, "upstream's host name");
        }
        _ => reading.line(block, own, Fate::Kept),
    }
}

fn aliases(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let names: Vec<String> = own.values().filter(|name| is_name(name)).map(str::to_owned).collect();
    let are_all = names.len() == own.arguments.len();
    reading.names.extend(names);
    if are_all && block.has_one("ServerAlias") {
        reading.replaced(block, own, "ServerAlias", "aliases");
    } else {
        reading.noted(block, own, "aliases");
    }
}

/// Logs in one folder, of which yandro names the files.
fn logs(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let folders: Vec<_> = ["ErrorLog", "CustomLog"]
        .iter()
        .map(|name| block.section.directives(name).next().and_then(|own| block.log_of(own.values().next()?)))
        .collect();
    let is_single = block.has_one("ErrorLog") && block.has_one("CustomLog");
    let format = block.section.directives("CustomLog").next().map(|own| own.values().skip(1).eq(["combined"]));
    match (&folders[0], &folders[1]) {
        (Some(errors), Some(access)) if is_single && errors == access && format == Some(true) => {
            reading.serving.logs.clone_from(errors);
            let name = if own.is("ErrorLog") { "ErrorLog" } else { "CustomLog" };
            reading.replaced(block, own, name, "logs: the files are named after the site");
        }
        _ => reading.line(block, own, Fate::Kept),
    }
}

fn section(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Section) {
    let argument = own.open.values().next().unwrap_or_default();
    let is_root = own.open.is("Directory")
        && block.document_root.is_some_and(|root| ServerPath::new(argument) == ServerPath::new(root));
    if is_root {
        reading.noted(block, &own.open, "folder");
        folder(reading, own);
        return;
    }
    match php(own) {
        Some(php) => {
            reading.serving.php = Some(php);
            reading.noted(block, &own.open, "PHP");
        }
        None => reading.line(block, &own.open, Fate::Kept),
    }
}

/// The options of the site in the section of its document root.
fn folder(reading: &mut BlockReading, own: &Section) {
    let serving = &mut reading.serving;
    for options in own.directives("Options") {
        for word in options.values().map(str::to_ascii_lowercase) {
            match word.trim_start_matches('+') {
                "all" => (serving.listing, serving.symlinks) = (Listing::On, Symlinks::On),
                "none" | "-indexes" => serving.listing = Listing::Off,
                "symlinksifownermatch" => serving.symlinks = Symlinks::Owner,
                _ => {}
            }
        }
    }
    for own in own.directives("AllowOverride") {
        match own.values().next().map(str::to_ascii_lowercase).as_deref() {
            Some("all") => serving.overrides = Overrides::All,
            Some("none") => serving.overrides = Overrides::Off,
            _ => {}
        }
    }
    if let Some(own) = own.directives("DirectoryIndex").last()
        && let Some(index) = own.values().map(|name| checked_index(name).ok()).collect()
    {
        serving.index = index;
    }
    if let Some(own) = own.directives("FallbackResource").last() {
        serving.fallback =
            own.values().next().filter(|path| path.starts_with('/')).and_then(|path| checked_fallback(path).ok());
    }
    if let Some(php) = ["FilesMatch", "Files"].iter().flat_map(|name| own.sections(name)).find_map(php) {
        serving.php = Some(php);
    }
}

/// The address of php-fpm, if a section sends PHP files there.
fn php(own: &Section) -> Option<FastCgi> {
    if !own.open.is("FilesMatch") && !own.open.is("Files") || !own.open.values().any(|text| text.contains("ph")) {
        return None;
    }
    let handler = own.directives("SetHandler").next()?.values().next()?.strip_prefix("proxy:")?;
    match handler.strip_prefix("unix:") {
        Some(socket) => FastCgi::parse(socket.split('|').next()?).ok(),
        None => FastCgi::parse(handler.strip_prefix("fcgi://")?.trim_end_matches('/')).ok(),
    }
}

/// Whether all requests are redirected to HTTPS.
fn redirects(own: &Section) -> bool {
    let secure = |target: &str| target.starts_with("https://");
    let by_alias = own.directives("Redirect").any(|own| {
        let words: Vec<&str> = own.values().collect();
        matches!(&words[..], [.., "/", target] if secure(target))
    });
    let every = ["^", "^(.*)$", "(.*)", ".*", "^.*$", "^/(.*)$", "^/?(.*)", "^/?(.*)$", "^(.*)"];
    let by_rule = own.directives("RewriteRule").any(|own| {
        let words: Vec<&str> = own.values().collect();
        matches!(&words[..], [pattern, target, ..] if every.contains(pattern) && secure(target))
    });
    let conditions: Vec<String> = own
        .directives("RewriteCond")
        .map(|own| own.values().collect::<Vec<_>>().join(" ").to_ascii_lowercase())
        .collect();
    let is_always = conditions.iter().all(|words| words.starts_with("%{https}") || words.starts_with("%{server_name}"));
    by_alias || by_rule && is_always
}
