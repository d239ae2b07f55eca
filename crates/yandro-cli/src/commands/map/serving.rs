//! How the site is to be served: the arguments, on top of what it was.

use std::net::IpAddr;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::site::{
    Content, FastCgi, Listing, Logs, Overrides, ServerId, Serving, Site, Symlinks, UpstreamHost, checked_fallback,
    checked_index,
};
use yandro_machine::php;

use super::desired::absolute;
use crate::args::{OnOff, OverridesArg, ServingArgs, SymlinksArg, UpstreamHostArg};
use crate::context::Context;
use crate::error::CommandError;

/// The word that takes a choice back.
const OFF: &str = "off";

pub(super) fn serving(
    context: &Context,
    args: &ServingArgs,
    before: Option<&Site>,
    (server, address): (ServerId, IpAddr),
    content: &Content,
) -> Result<Serving, CommandError> {
    let mut serving = before.map(|before| before.serving.clone()).unwrap_or_default();
    let is_moved = before.is_some_and(|before| before.server != Some(server));
    let is_configured = server.is_configured();
    if !is_configured && is_moved {
        // What the other server did not know it can't keep.
        serving = Serving::default();
    }
    refused(context, args, server, content)?;
    let kind = context.server(server).map(|found| found.kind);
    if let Some(kind) = kind.filter(|kind| args.overrides.is_some() && kind.software().override_file().is_none()) {
        return Err(CommandError::usage(format!("{kind} has no override files: leave `--overrides` out")));
    }
    let of_folders = [args.php.is_some(), !args.index.is_empty(), args.fallback.is_some()];
    if matches!(content, Content::Upstream(_)) && of_folders.contains(&true) {
        return Err(CommandError::usage("an upstream has no files: leave `--php`, `--index` and `--fallback` out"));
    }
    if !args.http_ports.is_empty() {
        serving.http_ports = ports(&args.http_ports, 80)?;
    }
    if !args.https_ports.is_empty() {
        serving.https_ports = ports(&args.https_ports, 443)?;
    }
    if args.by_address == Some(OnOff::On) && !context.published(server).0.is_empty() {
        let message = format!("the address that `{}` has for itself can't be seen from here", server.word());
        return Err(CommandError::usage(message).hint("leave `--by-address` out"));
    }
    if let Some(choice) = args.by_address {
        serving.by_address = choice == OnOff::On;
    }
    serving.only_here = only_here(context, args, before, (server, address))?;
    if let Some(choice) = args.listing {
        serving.listing = if choice == OnOff::On { Listing::On } else { Listing::Off };
    }
    if let Some(choice) = args.overrides {
        serving.overrides = match choice {
            OverridesArg::On => Overrides::On,
            OverridesArg::All => Overrides::All,
            OverridesArg::Off => Overrides::Off,
        };
    }
    if let Some(choice) = args.symlinks {
        serving.symlinks = match choice {
            SymlinksArg::On => Symlinks::On,
            SymlinksArg::Anywhere => Symlinks::Anywhere,
            SymlinksArg::Owner => Symlinks::Owner,
            SymlinksArg::Off => Symlinks::Off,
        };
    }
    if let Some(choice) = args.upstream_host {
        serving.upstream_host = upstream_host(choice, content)?;
    }
    match &args.index[..] {
        [] => {}
        [off] if off == OFF => serving.index.clear(),
        names => {
            serving.index =
                names.iter().map(|name| checked_index(name)).collect::<Result<_, _>>().map_err(CommandError::usage)?;
        }
    }
    match args.fallback.as_deref() {
        None => {}
        Some(OFF) => serving.fallback = None,
        Some(path) => serving.fallback = Some(checked_fallback(path).map_err(CommandError::usage)?),
    }
    match args.php.as_deref() {
        None => {}
        Some(OFF) => serving.php = None,
        Some("") if !context.is_here(server) => {
            return Err(CommandError::usage(format!("where PHP is on `{}` can't be seen from here", server.word()))
                .hint("name its socket or address as the server sees it: --php=SOCKET, --php=HOST:PORT"));
        }
        Some("") => serving.php = Some(found_php(context)?),
        Some(text) => serving.php = Some(FastCgi::parse(text).map_err(CommandError::usage)?),
    }
    match args.extra.as_deref() {
        None => {}
        Some(OFF) => serving.extra = None,
        Some(path) => serving.extra = Some(extra(context, Utf8Path::new(path))?),
    }
    match args.logs.as_deref() {
        None => {}
        Some("usual") => serving.logs = Logs::Usual,
        Some(OFF) => serving.logs = Logs::Off,
        Some(path) => serving.logs = Logs::Folder(absolute(&context.current, Utf8Path::new(path))?),
    }
    if matches!(content, Content::Upstream(_)) {
        serving.php = None;
        serving.fallback = None;
        serving.index.clear();
    } else {
        serving.upstream_host = UpstreamHost::default();
    }
    Ok(serving)
}

/// Whether the site answers this computer only: a new one does, where all who are to reach it are here.
fn only_here(
    context: &Context,
    args: &ServingArgs,
    before: Option<&Site>,
    (server, address): (ServerId, IpAddr),
) -> Result<bool, CommandError> {
    // Requests to a remote or containerised server come from outside it.
    let is_here = server.is_configured() && context.is_here(server);
    if args.only_here == Some(OnOff::On) && !is_here {
        let message = format!("`{}` is not on this computer, so every request comes from outside", server.word());
        return Err(CommandError::usage(message).hint("leave `--only-here` out"));
    }
    let may_be = is_here && address.is_loopback();
    let is_same = |before: &Site| before.address == address && before.server == Some(server);
    Ok(match (args.only_here, before) {
        (Some(choice), _) => choice == OnOff::On,
        (None, None) => may_be,
        // With another address or server it goes by that.
        (None, Some(before)) => before.serving.only_here && (may_be || is_same(before)),
    })
}

/// Refuses what the server can't do.
fn refused(context: &Context, args: &ServingArgs, server: ServerId, content: &Content) -> Result<(), CommandError> {
    // A server elsewhere may listen on other ports, unless it is the upstream itself.
    let is_own_tls = matches!(content, Content::Upstream(upstream) if upstream.is_secure());
    let has_ports = server == ServerId::Elsewhere && !is_own_tls;
    let is_refused = |option: &&str| match server {
        ServerId::BuiltIn => !["--upstream-host", "--symlinks"].contains(option),
        _ => !(has_ports && ["--http-port", "--https-port"].contains(option)),
    };
    if let Some(option) = args.given().find(is_refused)
        && !server.is_configured()
    {
        let error = CommandError::usage(format!("{server} has no `{option}`"));
        return Err(match (server, option) {
            (ServerId::BuiltIn, "--http-port" | "--https-port") => {
                error.hint(format!("set its ports under [built-in] in {}", context.machine.places.settings()))
            }
            (ServerId::Elsewhere, _) => error.hint("set it up there"),
            _ => error.hint(format!(
                "leave `{option}` out, or map the site on Apache httpd or nginx: --server apache, --server nginx"
            )),
        });
    }
    Ok(())
}

fn upstream_host(choice: UpstreamHostArg, content: &Content) -> Result<UpstreamHost, CommandError> {
    if !matches!(content, Content::Upstream(upstream) if !upstream.is_secure()) {
        let message = "nothing of this site is passed on to an upstream: leave `--upstream-host` out";
        return Err(CommandError::usage(message));
    }
    Ok(match choice {
        UpstreamHostArg::Site => UpstreamHost::Site,
        UpstreamHostArg::Own => UpstreamHost::Own,
    })
}

/// The ports; the usual one alone is as good as none said.
fn ports(given: &[u16], usual: u16) -> Result<Vec<u16>, CommandError> {
    let mut sorted = given.to_vec();
    sorted.sort_unstable();
    if let Some(twice) = sorted.windows(2).find_map(|pair| (pair[0] == pair[1]).then_some(pair[0])) {
        return Err(CommandError::usage(format!("port {twice} is given twice")));
    }
    Ok(if given == [usual] { Vec::new() } else { given.to_vec() })
}

fn found_php(context: &Context) -> Result<FastCgi, CommandError> {
    php::find(&context.machine).ok_or_else(|| {
        CommandError::not_made("no PHP was found: there is no socket of php-fpm where systems have it")
            .hint("install and start it (`apt install php-fpm`), or name its socket: --php=SOCKET")
    })
}

/// A file with further directives: it has to be there, as a file.
fn extra(context: &Context, path: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
    let path = absolute(&context.current, path)?;
    if path.is_file() {
        return Ok(path);
    }
    Err(CommandError::usage(format!("there is no file `{path}` with further directives"))
        .hint("make it first, or look for a slip in the path"))
}
