//! The sites that the arguments of `yandro map` ask for.

use std::net::Ipv4Addr;

use yandro_core::{HostName, HostPort, NameError, shell_word};
use yandro_machine::ports;

use crate::args::MapArgs;
use crate::context::Context;
use crate::error::CommandError;

/// A site that is asked for.
pub(super) struct MapRequest {
    pub(super) name: HostName,
    /// A folder or an upstream as given; `None` for the site's own, or the current folder.
    pub(super) target: Option<String>,
    /// Whether its PHP runs by the php-fpm that is found here.
    pub(super) finds_php: bool,
}

/// Reads which sites to map: one with its folder, or three and more with the folders of their names.
pub(super) fn requests(context: &Context, args: &MapArgs) -> Result<Vec<MapRequest>, CommandError> {
    let is_folder = |name: &str| context.current.join(name).is_dir();
    let first = args.name.as_deref().unwrap_or_default();
    let second = args.target.as_deref();
    if args.more.is_empty() {
        let name = HostName::parse(first).map_err(|error| no_name(context, (first, second), error))?;
        if let Some(second) = second.filter(|second| is_plain_name(second) && is_folder(second) && is_folder(first)) {
            return Err(CommandError::usage(format!(
                "`{first}` and `{second}` are both folders here: two sites may be meant, or one"
            ))
            .hint(format!("for two sites: yandro map {first} ./{first}, then: yandro map {second} ./{second}"))
            .hint(format!("for one site that serves {second}: yandro map {first} ./{second}")));
        }
        return Ok(vec![MapRequest { name, target: args.target.clone(), finds_php: false }]);
    }
    if !(args.aliases.is_empty() && args.no_alias.is_empty()) {
        return Err(CommandError::usage("aliases belong to one site, and several are given")
            .hint("map that site by itself: yandro map NAME FOLDER --alias ALIAS"));
    }
    if let Some(word) = args.more.iter().find(|word| word.contains(['/', ':'])) {
        return Err(CommandError::usage(format!("`{word}` is not a host name"))
            .hint(format!("if it is the address of php-fpm, write it with `=`: --php={word}")));
    }
    let (_, list) = context.list()?;
    let words = std::iter::once(first).chain(second).chain(args.more.iter().map(String::as_str));
    let mut requests: Vec<MapRequest> = Vec::new();
    for word in words {
        let name = HostName::parse(word)?;
        if requests.iter().any(|request| request.name == name) {
            return Err(CommandError::usage(format!("`{name}` is given twice")));
        }
        let is_kept = list.site(&name).is_some() && !is_folder(word);
        if !is_kept && !is_folder(word) && !args.create {
            return Err(CommandError::usage(format!(
                "no such folder: `{}`: with three names or more, each site has the folder of its name",
                context.current.join(word)
            ))
            .hint("create the folders too: add `--create`")
            .hint("or map each site to its own folder: yandro map NAME FOLDER"));
        }
        requests.push(MapRequest { name, target: (!is_kept).then(|| word.to_owned()), finds_php: false });
    }
    Ok(requests)
}

/// The error for a first word that isn't a host name. If it is a folder, the command with both in their order.
fn no_name(context: &Context, (first, second): (&str, Option<&str>), error: NameError) -> CommandError {
    let begins = matches!(first, "." | "..") || ["./", "../", "/", "~"].iter().any(|start| first.starts_with(start));
    let folder = context.current.join(first);
    if first.is_empty() || first.contains("://") || !(begins || first.contains(['/', '\\']) && folder.is_dir()) {
        return error.into();
    }
    let of_folder = || {
        let own = folder.canonicalize_utf8().unwrap_or(folder);
        let named = HostName::parse(&format!("{}.test", own.file_name()?));
        named.or_else(|error| HostName::parse(error.suggestion().unwrap_or_default())).ok()
    };
    let name = second.and_then(|second| HostName::parse(second).ok());
    // The command as it was typed, with all of its options, in the right order.
    let mut words: Vec<String> = std::env::args().skip(1).collect();
    let place = |words: &[String], word: &str| words.iter().position(|typed| typed == word);
    if let Some(at) = second.filter(|_| name.is_some()).and_then(|second| place(&words, second)) {
        words.remove(at);
    }
    let name = name.or_else(of_folder).map_or_else(|| "NAME".into(), |name| name.to_unicode());
    let at = place(&words, first).unwrap_or(words.len());
    words.insert(at, name);
    let words: Vec<_> = words.iter().map(|word| shell_word(word)).collect();
    CommandError::usage(format!("`{first}` is a folder, not a host name: the name comes before the folder"))
        .hint(format!("yandro {}", words.join(" ")))
}

/// Whether a word could be a host name as well as a folder.
fn is_plain_name(word: &str) -> bool {
    word.contains('.') && !word.contains(['/', ':']) && HostName::parse(word).is_ok()
}

/// The URL of the upstream that a target names: a URL, `HOST:PORT`, or `:PORT` for a server on this computer.
/// `None` for a folder.
pub(super) fn upstream_url(context: &Context, target: &str) -> Option<String> {
    if target.contains("://") {
        return Some(target.to_owned());
    }
    let (host, Some(port)) = HostPort::split(target) else { return None };
    let is_port = !port.is_empty() && port.bytes().all(|byte| byte.is_ascii_digit());
    if !is_port || host.contains('/') || context.current.join(target).exists() {
        return None;
    }
    if !host.is_empty() {
        return Some(format!("http://{host}:{port}"));
    }
    // Some dev servers listen on ::1 only.
    let holders = port.parse().map(ports::holders).unwrap_or_default();
    let is_v4 = |holder: &ports::Holder| holder.address.is_ipv4() || holder.address.is_unspecified();
    let is_v6_only = !holders.is_empty() && !holders.iter().any(is_v4);
    Some(if is_v6_only { format!("http://[::1]:{port}") } else { format!("http://{}:{port}", Ipv4Addr::LOCALHOST) })
}
