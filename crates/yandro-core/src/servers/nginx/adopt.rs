//! Server blocks of nginx that a person wrote.

use crate::server_path::ServerPath;

use crate::adopt::{BlockAddress, BlockReading, Fate, HandBlock, OWN_CERTIFICATE, OWN_TLS, is_name, upstream};
use crate::config::{Directive, Node, Section};
use crate::host_port::{HostPort, in_brackets};
use crate::site::{Content, FastCgi, Listing, UpstreamHost, checked_fallback, checked_index};

/// The directives that yandro may add to a person's block without changing what it answers.
const HARMLESS: [&str; 9] = [
    "listen",
    "http2",
    "server_name",
    "ssl_certificate",
    "ssl_certificate_key",
    "ssl_protocols",
    "ssl_ciphers",
    "access_log",
    "error_log",
];

pub(super) fn may_add(name: &str) -> bool {
    HARMLESS.contains(&name)
}

/// Reads a server block.
pub(super) fn read(block: &HandBlock<'_>) -> BlockReading {
    let mut reading = BlockReading::default();
    reading.serving.listing = Listing::Off;
    reading.serving.index = vec!["index.html".into()];
    reading.serving.upstream_host = UpstreamHost::Own;
    let root = block.section.sections("location").find_map(|own| proxied(own, &mut reading));
    reading.content =
        root.or_else(|| block.document_root.map(|root| Content::folder(ServerPath::new(root).to_native())));
    for node in &block.section.nodes {
        match node {
            Node::Directive(own) => directive(&mut reading, block, own),
            Node::Section(own) => location(&mut reading, block, own),
        }
    }
    if reading.addresses.is_empty() {
        // Without `listen` it is on port 80 of all addresses.
        reading.addresses.push(BlockAddress { address: None, port: 80, is_secure: false });
    }
    reading
}

fn directive(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let values: Vec<&str> = own.values().collect();
    let first = values.first().copied().unwrap_or_default();
    match own.name.as_str() {
        "listen" => listen(reading, block, own),
        "server_name" => {
            let names: Vec<String> =
                values.iter().filter(|name| is_name(name)).map(|name| (*name).to_owned()).collect();
            let are_all = names.len() == values.len() && block.has_one("server_name");
            reading.names.extend(names);
            if are_all {
                reading.replaced(block, own, "server_name", "names");
            } else {
                reading.noted(block, own, "names");
            }
        }
        "root" if matches!(reading.content, Some(Content::Folder { .. })) => {
            reading.replaced(block, own, "root", "document root");
        }
        "http2" => reading.replaced(block, own, "http2", "HTTPS"),
        "ssl_certificate" => {
            reading.certificate = Some(first.to_owned());
            reading.left(block, own, "ssl_certificate", OWN_CERTIFICATE);
        }
        "ssl_certificate_key" => reading.left(block, own, "ssl_certificate_key", OWN_CERTIFICATE),
        "ssl_protocols" => reading.left(block, own, "ssl_protocols", OWN_TLS),
        "ssl_ciphers" => reading.left(block, own, "ssl_ciphers", OWN_TLS),
        "include" if holds_a_certificate(block, first) => {
            reading.left(block, own, "include", OWN_CERTIFICATE);
        }
        "access_log" | "error_log" => logs(reading, block, own),
        "index" => match values.iter().map(|name| checked_index(name).ok()).collect() {
            Some(index) => {
                reading.serving.index = index;
                reading.noted(block, own, "index");
            }
            None => reading.line(block, own, Fate::Kept),
        },
        "autoindex" => {
            reading.serving.listing = if first == "on" { Listing::On } else { Listing::Off };
            reading.noted(block, own, "listing");
        }
        "return" if values.last().is_some_and(|target| target.starts_with("https://")) => {
            reading.redirects = true;
            reading.noted(block, own, "redirect to HTTPS");
        }
        "try_files" => {
            reading.serving.fallback = fallback(&values);
            reading.line(block, own, Fate::Kept);
        }
        _ => reading.line(block, own, Fate::Kept),
    }
}

/// Whether a `listen` is one that yandro would write: all addresses, and no words but those of HTTPS.
pub(super) fn is_plain_listen(own: &Directive) -> bool {
    let words: Vec<&str> = own.values().collect();
    let (first, rest) = words.split_first().map_or(("", &[][..]), |(first, rest)| (*first, rest));
    let host = if first.parse::<u16>().is_ok() { "*" } else { HostPort::split(first).0 };
    ["*", "0.0.0.0", "[::]"].contains(&host) && rest.iter().all(|word| ["ssl", "http2"].contains(word))
}

fn listen(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let words: Vec<&str> = own.values().collect();
    let (first, rest) = words.split_first().map_or(("", &[][..]), |(first, rest)| (*first, rest));
    let (host, port) = match HostPort::split(first) {
        _ if first.parse::<u16>().is_ok() => (None, first.parse().ok()),
        (host, Some(port)) => (Some(host), port.parse().ok()),
        (host, None) => (Some(host), Some(80)),
    };
    let is_secure = rest.contains(&"ssl");
    let address = host.and_then(|host| in_brackets(host).unwrap_or(host).parse::<core::net::IpAddr>().ok());
    if let Some(port) = port {
        let address = address.filter(|address| !address.is_unspecified());
        reading.addresses.push(BlockAddress { address, port, is_secure });
    }
    if is_plain_listen(own) {
        reading.replaced(block, own, "listen", "ports");
    } else {
        reading.noted(block, own, "addresses and ports");
    }
}

/// Whether a file has nothing but a certificate and its key in it.
fn holds_a_certificate(block: &HandBlock<'_>, path: &str) -> bool {
    let Some(text) = block.files.read(&block.root.join(path)) else { return false };
    let Ok(tree) = super::parse::parse(&text) else { return false };
    let is_part = |node: &Node| matches!(node, Node::Directive(own) if ["ssl_certificate", "ssl_certificate_key"].contains(&own.name.as_str()));
    !tree.nodes.is_empty() && tree.nodes.iter().all(is_part)
}

fn logs(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Directive) {
    let folder = |name: &'static str| {
        let own = block.section.directives(name).next().filter(|_| block.has_one(name))?;
        let is_plain = own.arguments.len() == 1;
        own.values().next().filter(|_| is_plain).and_then(|path| block.log_of(path))
    };
    match (folder("access_log"), folder("error_log")) {
        (Some(access), Some(errors)) if access == errors => {
            reading.serving.logs = access;
            let name = if own.is("access_log") { "access_log" } else { "error_log" };
            reading.replaced(block, own, name, "logs: the files are named after the site");
        }
        _ => reading.line(block, own, Fate::Kept),
    }
}

/// The upstream that all requests are passed on to.
fn proxied(own: &Section, reading: &mut BlockReading) -> Option<Content> {
    if !own.open.values().eq(["/"]) {
        return None;
    }
    let content = own.directives("proxy_pass").next().and_then(|own| upstream(own.values().next()?))?;
    let host = own.directives("proxy_set_header").find(|own| own.values().next() == Some("Host"));
    let host = host.and_then(|own| own.values().nth(1));
    if host.is_some_and(|host| host.starts_with("$host") || host == "$http_host") {
        reading.serving.upstream_host = UpstreamHost::Site;
    }
    Some(content)
}

fn location(reading: &mut BlockReading, block: &HandBlock<'_>, own: &Section) {
    let php = own.directives("fastcgi_pass").next().filter(|_| own.open.values().any(|text| text.contains("php")));
    if let Some(pass) = php {
        let address = pass.values().next().unwrap_or_default();
        reading.serving.php = FastCgi::parse(address.strip_prefix("unix:").unwrap_or(address)).ok();
        reading.noted(block, &own.open, "PHP");
        return;
    }
    let is_root = own.open.is("location") && own.open.values().eq(["/"]);
    if is_root && matches!(reading.content, Some(Content::Upstream(_))) {
        reading.noted(block, &own.open, "upstream");
        return;
    }
    let tried = own.directives("try_files").next().filter(|_| is_root);
    if let Some(tried) = tried {
        reading.serving.fallback = fallback(&tried.values().collect::<Vec<_>>());
        reading.noted(block, &own.open, "folder");
        return;
    }
    reading.line(block, &own.open, Fate::Kept);
}

/// The path of the site that answers for missing files.
fn fallback(values: &[&str]) -> Option<String> {
    let last = values.last()?.split('?').next()?.trim_end_matches("$is_args$args");
    let is_path = last.starts_with('/') && !last.contains('$');
    is_path.then(|| checked_fallback(last).ok()).flatten()
}
