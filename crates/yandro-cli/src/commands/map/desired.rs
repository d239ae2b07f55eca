//! The site that is wanted: the arguments, on top of what it was.

use std::net::IpAddr;

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use yandro_core::{
    Content, DEFAULT_ADDRESS, HostName, Https, OPTIONS, ServerFacts, ServerId, Site, SiteList, SitePatch, SiteRefusal,
    Upstream,
};
use yandro_machine::observe;
use yandro_machine::php::{find, own_address, usual_version};

use super::folder::can_be_made;
use super::php;
use super::request::{MapRequest, upstream_url};
use crate::args::MapArgs;
use crate::context::Context;
use crate::error::{self, CommandError};

/// The site as the arguments want it, on top of what it was.
pub(super) fn desired(
    context: &Context,
    args: &MapArgs,
    request: &MapRequest,
    list: &SiteList,
) -> Result<Site, CommandError> {
    let name = request.name.clone();
    let before = list.site(&name);
    if before.is_none()
        && let Some(owner) = list.owner(&name)
    {
        return Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
            .hint(format!("change that site: yandro map {}", owner.name)));
    }
    let aliases = aliases(args, &name, before)?;
    let content = content(context, args, request.target.as_deref(), before)?;
    let is_own_tls = matches!(&content, Content::Upstream(upstream) if upstream.is_secure());
    let (server, address) = match &content {
        Content::Upstream(upstream) if upstream.is_secure() => speaks_tls(args, upstream)?,
        // The address of a former upstream with TLS says nothing about the new content.
        _ => server_and_address(context, args, before.filter(|before| before.own_tls().is_none()))?,
    };
    let chosen = args.https.map(Into::into).or(args.plain.then_some(Https::Off));
    let site = Site {
        certificate: before.map(|before| before.certificate.clone()).unwrap_or_default(),
        serving: before.map(|before| before.serving.clone()).unwrap_or_default(),
        name,
        aliases,
        content,
        address,
        server: Some(server),
        // A site that is mapped is in use.
        disabled: false,
        https: if is_own_tls {
            Https::default()
        } else {
            chosen.or(before.map(|before| before.https)).unwrap_or_default()
        },
    };
    let mut site = site;
    site.serving.redirect_aliases.retain(|alias| site.aliases.contains(alias));
    let mut patch = patch(context, args, server)?;
    let php = OPTIONS.iter().find(|option| option.key == "php");
    let is_said = args.options.0.iter().any(|(option, _)| option.key == "php");
    if let Some(php) = php.filter(|_| request.finds_php && !is_said) {
        patch.change(php, vec![String::new()]);
    }
    let facts = facts(context, args, request, before, server)?;
    patch.apply(&site, before, &facts).map_err(refused)
}

/// The site's aliases, without those that are to go and with those that are new.
fn aliases(args: &MapArgs, name: &HostName, before: Option<&Site>) -> Result<Vec<HostName>, CommandError> {
    let mut aliases = before.map(|before| before.aliases.clone()).unwrap_or_default();
    for gone in &args.no_alias {
        if gone.is_empty() {
            aliases.clear();
            continue;
        }
        let gone = HostName::parse(gone)?;
        if !aliases.contains(&gone) {
            return Err(no_alias(&gone, name, &aliases));
        }
        aliases.retain(|alias| *alias != gone);
    }
    let added = error::names(&args.aliases)?;
    for (i, alias) in added.iter().enumerate() {
        if alias == name || added[..i].contains(alias) {
            return Err(CommandError::usage(format!("`{alias}` is given twice")));
        }
        if !aliases.contains(alias) {
            aliases.push(alias.clone());
        }
    }
    Ok(aliases)
}

fn no_alias(gone: &HostName, name: &HostName, aliases: &[HostName]) -> CommandError {
    let error = CommandError::usage(format!("`{gone}` is not an alias of `{name}`"));
    match aliases {
        [] => error.hint("leave `--no-alias` out: the site has no aliases"),
        aliases => {
            let names: Vec<&str> = aliases.iter().map(HostName::as_str).collect();
            error.hint(format!("its aliases are: {}", names.join(", ")))
        }
    }
}

/// The options that are given; paths are absolute.
fn patch(context: &Context, args: &MapArgs, server: ServerId) -> Result<SitePatch, CommandError> {
    let mut patch = SitePatch::default();
    for (option, values) in &php::resolved(context, &args.options.0, server)? {
        let known = option.argument.filter(|argument| argument.is_path);
        // These are words, and no paths.
        let is_word = |value: &str| ["off", "usual"].contains(&value);
        let value = |value: &String| match known {
            Some(_) if !is_word(value) => {
                absolute(&context.current, Utf8Path::new(value)).map(Utf8PathBuf::into_string)
            }
            _ => Ok(value.clone()),
        };
        let mut values: Vec<String> = values.iter().map(value).collect::<Result<_, _>>()?;
        if option.key == "env" {
            for value in &mut values {
                *value = variable(context, value)?;
            }
        }
        if option.key == "extra" {
            let is_there = |path: &&String| is_word(path) || Utf8Path::new(path).is_file();
            if let Some(path) = values.iter().find(|path| !is_there(path)) {
                return Err(CommandError::usage(format!("the file `{path}` with further directives doesn't exist"))
                    .hint("make it first, or look for a slip in the path"));
            }
        }
        patch.change(option, values);
    }
    Ok(patch)
}

/// A variable as the site list has it: the file of a secret is there, by its absolute path.
fn variable(context: &Context, text: &str) -> Result<String, CommandError> {
    let at = text.find(['=', '@']).filter(|at| text[*at..].starts_with('@'));
    let Some(at) = at.filter(|at| !text[at + 1..].starts_with("~/")) else { return Ok(text.to_owned()) };
    let (name, file) = (&text[..at], absolute(&context.current, Utf8Path::new(&text[at + 1..]))?);
    if !file.is_file() {
        return Err(CommandError::usage(format!("the file `{file}` with the secret `{name}` doesn't exist"))
            .hint(format!("write the secret into it first: install -m 600 /dev/stdin {file}"))
            .hint(format!("or give a value that is no secret, with `=`: --env {name}=VALUE")));
    }
    Ok(format!("{name}@{file}"))
}

/// Facts about the server of the site.
fn facts(
    context: &Context,
    args: &MapArgs,
    request: &MapRequest,
    before: Option<&Site>,
    server: ServerId,
) -> Result<ServerFacts, CommandError> {
    let is_here = context.present().is_here(server);
    // PHP of the built-in server is of no use to others, nor theirs to it.
    let is_moved = before.is_some_and(|before| before.serving.php.is_some() && before.server != Some(server));
    let is_to_find = is_here && (php::is_asked(args) || request.finds_php || is_moved);
    let address = match server {
        _ if !is_to_find => None,
        ServerId::BuiltIn => own_address(&context.machine, None),
        _ => find(&context.machine).map_or_else(|| php::started_usual(context), |found| Ok(Some(found)))?,
    };
    Ok(ServerFacts {
        server,
        kind: context.server(server).map(|found| found.kind),
        is_here,
        published: context.present().published(server),
        php: address,
        php_version: if is_here { usual_version(&context.machine) } else { None },
        settings: context.machine.places.settings(),
    })
}

pub(super) fn refused(refusal: SiteRefusal) -> CommandError {
    let SiteRefusal { message, hints, is_usage } = refusal;
    let error = if is_usage { CommandError::usage(message) } else { CommandError::not_made(message) };
    hints.into_iter().fold(error, CommandError::hint)
}

/// Server and address of an upstream that speaks TLS itself: it is asked at its own port, without a server
/// of yandro's.
fn speaks_tls(args: &MapArgs, upstream: &Upstream) -> Result<(ServerId, IpAddr), CommandError> {
    let is_other_server = args.server.as_deref().is_some_and(|server| server != ServerId::Elsewhere.word());
    let is_other_protocol = args.plain || args.https.is_some_and(|https| Https::from(https) != Https::Only);
    if is_other_server || is_other_protocol {
        return Err(CommandError::usage(format!(
            "{upstream} speaks TLS itself, and is asked for at its own port: no other server answers for it"
        ))
        .hint("leave `--server`, `--https` and `--plain` out; or give the upstream as http:// and have a server speak TLS for it"));
    }
    Ok((ServerId::Elsewhere, args.address.or(upstream.host_port().address()).unwrap_or(DEFAULT_ADDRESS)))
}

/// The server that the site is to be on, and where its names point to.
fn server_and_address(
    context: &Context,
    args: &MapArgs,
    before: Option<&Site>,
) -> Result<(ServerId, IpAddr), CommandError> {
    // A server that the user added may have a different address.
    let own_address = |id: ServerId| context.server(id).filter(|found| found.is_elsewhere())?.named.as_ref()?.address;
    let is_own = |id: &ServerId| own_address(*id).is_some();
    let server_before = before.and_then(|before| before.server);
    let address_before =
        if server_before.is_some_and(|id| is_own(&id)) { None } else { before.map(|before| before.address) };
    let address = args.address.or(address_before).unwrap_or(DEFAULT_ADDRESS);
    // A site that moves to or from another machine is served by whatever is there.
    let is_same_place = |id: &ServerId| {
        matches!(id, ServerId::Named(_))
            || before.is_some_and(|before| before.address == address)
            || (*id != ServerId::Elsewhere && context.is_own(address))
    };
    let wanted = args.server.as_deref().map(ServerId::parse).transpose()?;
    let server = context.server_of(wanted.or(server_before.filter(is_same_place)), address)?;
    if server.is_configured() && context.server(server).is_none() {
        return Err(match server {
            ServerId::Named(_) => context.no_server(server),
            _ => CommandError::not_made(format!("no {server} was found")).hint(error::no_server()),
        });
    }
    let is_kept = server_before == Some(server) && args.address.is_none();
    let address = match own_address(server) {
        Some(_) if is_kept => before.map_or(address, |before| before.address),
        Some(own) if args.address.is_none() => own,
        _ => address,
    };
    Ok((server, address))
}

fn content(
    context: &Context,
    args: &MapArgs,
    target: Option<&str>,
    before: Option<&Site>,
) -> Result<Content, CommandError> {
    if let Some(url) = target.and_then(|target| upstream_url(context, target)) {
        return upstream(args, &url);
    }
    let (folder, root_before) = match (target, before.map(|before| &before.content)) {
        (Some(target), _) => (absolute(&context.current, Utf8Path::new(target))?, None),
        (None, Some(Content::Folder { folder, document_root })) => (folder.clone(), document_root.clone()),
        (None, Some(upstream)) => return Ok(upstream.clone()),
        (None, None) => (context.current.clone(), None),
    };
    let is_there = |path: &Utf8Path, what: &str| {
        if args.create && !path.exists() { can_be_made(path) } else { folder_there(path, what) }
    };
    is_there(&folder, "folder")?;
    let document_root = match &args.document_root {
        Some(root) if root == "." => None,
        Some(root) => Some(below(root)?),
        None if target.is_some() || before.is_none() => observe::obvious_document_root(&folder),
        None => root_before,
    };
    if let Some(root) = &document_root {
        is_there(&folder.join(root), "document root")?;
    }
    Ok(Content::Folder { folder, document_root })
}

fn upstream(args: &MapArgs, target: &str) -> Result<Content, CommandError> {
    if args.document_root.is_some() {
        return Err(CommandError::usage("an upstream has no document root: leave `--document-root` out"));
    }
    Ok(Content::Upstream(Upstream::parse(target).map_err(CommandError::usage)?))
}

/// An absolute path without `.`; `..` is resolved as the system does.
pub(in crate::commands) fn absolute(current: &Utf8Path, path: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
    let joined = current.join(path);
    if joined.components().any(|part| part == Utf8Component::ParentDir) {
        return joined.canonicalize_utf8().map_err(|_| missing(&joined, "folder"));
    }
    Ok(joined.components().collect())
}

fn below(root: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
    let parts: Utf8PathBuf = root.components().filter(|part| *part != Utf8Component::CurDir).collect();
    if parts.components().all(|part| matches!(part, Utf8Component::Normal(_))) {
        return Ok(parts);
    }
    Err(CommandError::usage(format!(
        "the document root `{root}` is not below the folder: give a path within it, such as `public`"
    )))
}

fn folder_there(path: &Utf8Path, what: &str) -> Result<(), CommandError> {
    match path.metadata() {
        Ok(meta) if meta.is_dir() => Ok(()),
        Ok(_) => Err(CommandError::usage(format!(
            "`{path}` is a file, and a site needs a folder: give the folder that it is in"
        ))),
        Err(_) => Err(missing(path, what)),
    }
}

fn missing(path: &Utf8Path, what: &str) -> CommandError {
    let error = CommandError::usage(format!("no such {what}: `{path}`"));
    let last = path.file_name().unwrap_or_default();
    let is_port = last.parse::<u16>().is_ok_and(|port| port > 0);
    let error =
        if is_port { error.hint(format!("for the server on port {last}: give it as `:{last}`")) } else { error };
    error.hint("correct the path, or create the folder: add `--create`")
}
