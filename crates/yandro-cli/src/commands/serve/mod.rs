//! `yandro serve`.

pub(crate) mod background;
mod install;
mod keeper;
pub(crate) mod names;
pub(crate) mod requests;
pub(crate) mod taken;

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, TcpListener};
use std::time::Duration;

use yandro_core::{FastCgi, SiteList};
use yandro_machine::files;
use yandro_machine::php::OwnPhp;
use yandro_serve::{Certificate, Running, ServedSite, Server, Sites};

use crate::args::ServeArgs;
use crate::as_root::as_root;
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;
use crate::view::{DIM, Outcome, STRONG, Ui, count};

/// How often the site list and the certificates are looked at for changes.
const LOOK: Duration = Duration::from_millis(200);

#[cfg(test)]
pub(crate) use install::{Installed, Removed};

pub(crate) fn run<'c>(context: &'c Context, args: &'c ServeArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let kept = if args.names { keeper::Kept::Names } else { keeper::Kept::Server };
    match (args.names, args.remove, args.install) {
        (true, true, _) => return names::remove(context, ui),
        (true, _, true) => return names::install(context, ui),
        (false, true, _) => return install::remove(context, ui),
        (false, _, true) => return install::install(context, args, ui),
        _ => {}
    }
    if args.keep {
        return keeper::keep(context, kept);
    }
    if let Some(log) = &args.log {
        ui.write_to(log).map_err(|error| {
            CommandError::usage(format!("{log} can't be written: {error}")).hint("name another file: --log FILE")
        })?;
        yandro_machine::process::leave_console();
    }
    if args.names { names::run(context, args, ui) } else { serve(context, args, ui) }
}

fn serve<'c>(context: &'c Context, args: &ServeArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    // Read before the list, so that a change in between is seen as one.
    let state = taken::state(context);
    let list = context.enabled()?;
    let (sites, left_out) = served(context, &list)?;
    tell_left_out(ui, &left_out);
    // Before there are other threads: it changes the environment.
    let opened = yandro_machine::ports::opened_by_systemd().map_err(CommandError::not_made)?;
    let runtime = signals::runtime()?;
    runtime.block_on(async {
        let server = bind(context, &addresses(args, &list), opened).await?;
        let caller = context.machine.become_caller().map_err(CommandError::not_made)?;
        let (http, https) = server.ports().map_err(CommandError::not_made)?;
        let log = requests::RequestLog::open(&context.machine)?;
        let open_files = yandro_machine::process::most_open_files();
        let running = server.start(sites, open_files, Some(&log.taker())).map_err(CommandError::not_made)?;
        ui.say(&format!(
            "{STRONG}serving {}{STRONG:#} on ports {http} (HTTP) and {https} (HTTPS); Ctrl-C ends it",
            count(list.sites.len() - left_out.len(), "site")
        ));
        tell_served(context, &list, caller.as_deref(), ui);
        let mut php = OwnPhp::new(&context.machine);
        let follow = follow(context, args, Serving { running: &running, php: &mut php, list, state }, ui);
        signals::unless_interrupted(follow).await;
        running.stop().await;
        Ok(Outcome::printed())
    })
}

/// Has its ports: those that systemd opened for it, or its own.
async fn bind(context: &Context, addresses: &[IpAddr], opened: Vec<TcpListener>) -> Result<Server, CommandError> {
    let (http, https) = (context.settings.built_in.http_port, context.settings.built_in.https_port);
    if opened.is_empty() {
        let bound = Server::bind(addresses, http, https).await;
        return bound.map_err(|error| no_port(context, &error));
    }
    let fits =
        |listener: &TcpListener| listener.local_addr().is_ok_and(|address| [http, https].contains(&address.port()));
    if !opened.iter().all(fits) {
        return Err(CommandError::not_made(format!("the service has other ports than {http} and {https}"))
            .hint("install it again with the ports of your settings: yandro serve --install"));
    }
    Server::of_listeners(opened, https).map_err(CommandError::not_made)
}

/// The addresses of the sites, and whose rights the server has.
fn tell_served(context: &Context, list: &SiteList, caller: Option<&str>, ui: &mut Ui) {
    if let Some(caller) = caller {
        ui.say(&format!("  {DIM}with the rights of `{caller}`, and no longer with root's{DIM:#}"));
    }
    for site in &list.sites {
        ui.say(&format!("  {}  {DIM}{}{DIM:#}", context.url(site), site.content));
    }
}

/// Loopback of both families, the loopback addresses of the sites, and what was asked for.
fn addresses(args: &ServeArgs, list: &SiteList) -> Vec<IpAddr> {
    let mut addresses = vec![IpAddr::V4(Ipv4Addr::LOCALHOST)];
    // A machine without IPv6 has no such address to listen on.
    if TcpListener::bind((Ipv6Addr::LOCALHOST, 0)).is_ok() {
        addresses.push(IpAddr::V6(Ipv6Addr::LOCALHOST));
    }
    let of_sites = list.sites.iter().map(|site| site.address).filter(IpAddr::is_loopback);
    addresses.extend(of_sites.chain(args.addresses.iter().copied()));
    addresses.sort();
    addresses.dedup();
    // The unspecified address of a family includes all others of it.
    let all_v4 = addresses.contains(&IpAddr::V4(Ipv4Addr::UNSPECIFIED));
    addresses.retain(|address| !(all_v4 && address.is_ipv4() && !address.is_unspecified()));
    let all_v6 = addresses.contains(&IpAddr::V6(Ipv6Addr::UNSPECIFIED));
    addresses.retain(|address| !(all_v6 && address.is_ipv6() && !address.is_unspecified()));
    addresses
}

/// The sites with their certificates, and the names of those that have none.
pub(crate) fn served(context: &Context, list: &SiteList) -> Result<(Sites, Vec<String>), CommandError> {
    let places = &context.machine.places;
    let (mut sites, mut left_out) = (Vec::new(), Vec::new());
    for site in &list.sites {
        let chain = files::read_if_there(&places.chain(&site.name))?;
        let key = files::read_if_there(&places.key(&site.name))?;
        let certificate = chain.zip(key).map(|(chain, key)| Certificate { chain, key });
        match (site.https.is_on(), certificate) {
            (true, None) => left_out.push(site.name.to_string()),
            (true, certificate) => sites.push(ServedSite { site: site.clone(), certificate }),
            (false, _) => sites.push(ServedSite { site: site.clone(), certificate: None }),
        }
    }
    let private = [places.config.clone(), places.data.clone()];
    let sites = Sites::new(sites, &private)
        .map_err(|error| CommandError::not_made(error).hint("map that site again: yandro map NAME"))?;
    Ok((sites, left_out))
}

fn tell_left_out(ui: &mut Ui, left_out: &[String]) {
    if !left_out.is_empty() {
        ui.note(&format!(
            "not served, for want of a certificate: {}; map each again: yandro map NAME",
            left_out.join(", ")
        ));
    }
}

fn no_port(context: &Context, error: &std::io::Error) -> CommandError {
    let settings = context.machine.places.settings();
    let command = CommandError::not_made(format!("the built-in server can't listen: {error}"));
    match error.kind() {
        std::io::ErrorKind::PermissionDenied => command
            .hint("let yandro listen on low ports, once and for good: yandro setup ports")
            .hint(format!(
                "or choose ports above 1023 in {settings}:\n\n  [built-in]\n  http-port = 8080\n  https-port = 8443\n"
            ))
            .hint(format!(
                "or start it as root; it gives up root's rights once it has the ports: {}",
                as_root(&["serve"])
            )),
        std::io::ErrorKind::AddrInUse => command
            .hint(format!("end the program that has the port, or choose other ports under [built-in] in {settings}")),
        _ => command,
    }
}

/// What is served, and with what.
struct Serving<'s, 'm> {
    running: &'s Running,
    php: &'s mut OwnPhp<'m>,
    list: SiteList,
    /// Fingerprint of the list and the certificates, as they were last looked at.
    state: String,
}

/// Takes every change of the site list and of the certificates up, and has PHP run, for ever, or until nobody keeps this
/// server any more.
async fn follow(context: &Context, args: &ServeArgs, mut serving: Serving<'_, '_>, ui: &mut Ui) {
    let taken = taken::Taken::begin(&context.machine);
    let mut told = String::new();
    loop {
        let php: Vec<FastCgi> = serving.list.sites.iter().filter_map(|site| site.serving.php.clone()).collect();
        for fault in serving.php.keep(&php) {
            ui.note(&fault);
        }
        if let Some(taken) = &taken
            && told != serving.state
        {
            taken.tell(&serving.state);
            told.clone_from(&serving.state);
        }
        tokio::time::sleep(LOOK).await;
        if args.kept && background::is_left(&context.machine) {
            return;
        }
        let now = taken::state(context);
        if now == serving.state {
            continue;
        }
        serving.state = now;
        let exchanged = context.enabled().and_then(|list| Ok((served(context, &list)?, list)));
        match exchanged {
            Ok(((sites, left_out), list)) => {
                serving.running.exchange(sites);
                serving.list = list;
                tell_left_out(ui, &left_out);
                ui.say("the site list has changed: serving it as it is now");
            }
            // The person may be in the midst of an edit: what was served stays.
            Err(error) => ui.error(&error),
        }
    }
}
