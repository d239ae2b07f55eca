//! The site that is wanted: the arguments, on top of what it was.

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use yandro_core::name::HostName;
use yandro_core::site::{Content, DEFAULT_ADDRESS, Https, ServerKind, Site, SiteList, Upstream};
use yandro_machine::observe;

use super::folder::can_be_made;
use super::serving::serving;
use crate::args::MapArgs;
use crate::context::Context;
use crate::error::{self, CommandError};

/// The site as the arguments want it, on top of what it was.
pub(super) fn desired(context: &Context, args: &MapArgs, list: &SiteList) -> Result<Site, CommandError> {
    let name = HostName::parse(&args.name)?;
    let before = list.site(&name);
    if before.is_none()
        && let Some(owner) = list.owner(&name)
    {
        return Err(CommandError::usage(format!("`{name}` is an alias of the site `{}`", owner.name))
            .hint(format!("change that site: yandro map {}", owner.name)));
    }
    let aliases = match before {
        _ if args.no_alias => Vec::new(),
        Some(before) if args.aliases.is_empty() => before.aliases.clone(),
        _ => error::names(&args.aliases)?,
    };
    let mut names: Vec<_> = std::iter::once(&name).chain(&aliases).collect();
    names.sort();
    if let Some(twice) = names.windows(2).find_map(|pair| (pair[0] == pair[1]).then_some(pair[0])) {
        return Err(CommandError::usage(format!("`{twice}` is given twice")));
    }
    let address = args.address.or(before.map(|before| before.address)).unwrap_or(DEFAULT_ADDRESS);
    // A site that moves to or from another machine is served by whatever is there.
    let is_same_place = |before: &&Site| {
        before.address == address || (before.server != Some(ServerKind::Elsewhere) && context.is_own(address))
    };
    let server_before = before.filter(is_same_place).and_then(|before| before.server);
    let chosen = args.https.map(Into::into).or(args.plain.then_some(Https::Off));
    let server = context.server_of(args.server.map(Into::into).or(server_before), address)?;
    let content = content(context, args, before)?;
    Ok(Site {
        serving: serving(context, &args.serving, before, server, &content)?,
        name,
        aliases,
        content,
        address,
        server: Some(server),
        https: chosen.or(before.map(|before| before.https)).unwrap_or_default(),
    })
}

fn content(context: &Context, args: &MapArgs, before: Option<&Site>) -> Result<Content, CommandError> {
    let (folder, root_before) = match (&args.target, before.map(|before| &before.content)) {
        (Some(target), _) if target.contains("://") => {
            if args.document_root.is_some() {
                return Err(CommandError::usage("an upstream has no document root: leave `--document-root` out"));
            }
            return Ok(Content::Upstream(Upstream::parse(target).map_err(CommandError::usage)?));
        }
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
        None if args.target.is_some() || before.is_none() => observe::obvious_document_root(&folder),
        None => root_before,
    };
    if let Some(root) = &document_root {
        is_there(&folder.join(root), "document root")?;
    }
    Ok(Content::Folder { folder, document_root })
}

/// An absolute path without `.`; `..` is resolved as the system does.
pub(super) fn absolute(current: &Utf8Path, path: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
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
    CommandError::usage(format!("there is no {what} `{path}`"))
        .hint("look for a slip in the path, or have it made: add `--create`")
}
