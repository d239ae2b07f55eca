//! `yandro lend`: a site for other devices of the network, for a while.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use yandro_core::{Authority, Content, Fresh as _, HostName, Https, KeyKind, Leaf, LeafRequest, Site};
use yandro_machine::multicast::{AnnounceError, Announced};
use yandro_machine::{SystemFresh, observe};
use yandro_serve::{Certificate, Origin, Visit};

use super::authority::device::{chosen, code, pages};
use super::authority::none_yet;
use super::rename::own_site;
use crate::args::LendArgs;
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::signals;
use crate::view::{COMMAND, DIM, Data, Outcome, STRONG, Ui, count, data};

/// Ports that are tried, the best first; 0 is any that is free.
const PORTS: [u16; 3] = [443, 8443, 0];
/// Days of validity of the certificate.
const DAYS: i64 = 2;

pub(crate) fn run<'c>(context: &'c Context, args: &'c LendArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    let (_, list) = context.list()?;
    let site = own_site(&list, &name)?;
    if site.disabled {
        return Err(CommandError::usage(format!("`{name}` is out of use")).hint(format!("first: yandro enable {name}")));
    }
    let lent = lent_name(args.called.as_deref(), &name)?;
    let address = chosen(args.listen)?;
    let runtime = signals::runtime()?;
    runtime.block_on(async {
        let listener = listen(address, args.port).await?;
        let port = listener.local_addr().map_err(CommandError::not_made)?.port();
        let (certificate, root) = certificate(context, &lent)?;
        let authority = Authority::read(&root).map_err(CommandError::not_made)?;
        let shown = if port == 443 { lent.to_string() } else { format!("{lent}:{port}") };
        let (url, page) = (format!("https://{shown}/"), format!("http://{}/", SocketAddr::new(address, port)));
        let pages = pages(&authority, &root.root, Some((name.as_str(), &url)));
        let (told, visits) = tokio::sync::mpsc::unbounded_channel();
        let origin = origin(context, site, args.host.as_deref(), &root.root).await?;
        let lending = yandro_serve::lend(listener, lent.to_string(), &certificate, origin, pages, told)
            .map_err(CommandError::not_made)?;
        // It waits for objections of other devices.
        let announced = tokio::task::spawn_blocking({
            let lent = lent.to_string();
            move || Announced::new(&lent, address, port)
        });
        let announced =
            announced.await.map_err(CommandError::not_made)?.map_err(|error| not_announced(&error, &name))?;
        tell(ui, &name, &Lending { url, page, minutes: args.minutes })?;
        let work = async { tokio::join!(lending, tell_visits(visits, ui)) };
        let limited = tokio::time::timeout(Duration::from_secs(u64::from(args.minutes) * 60), work);
        let ended = signals::unless_interrupted(limited).await;
        drop(announced);
        if ended.is_some() {
            ui.say(&format!("{name} is no longer lent: the time is over"));
        }
        Ok(Outcome::printed())
    })
}

data! {
    /// Data of `yandro lend`.
    struct Lending {
        /// The address of the site for other devices.
        url: String,
        /// The address of the page with the root certificate.
        page: String,
        /// How long it is lent.
        minutes: u16,
    }
}

impl Data for Lending {}

/// The name below `local`: the one that is given, or the site's with its labels joined and without the last one.
fn lent_name(called: Option<&str>, name: &HostName) -> Result<HostName, CommandError> {
    let label = match called {
        Some(called) => called.trim_end_matches(".local").to_owned(),
        None => name.as_str().rsplit_once('.').map_or(name.as_str(), |(first, _)| first).replace('.', "-"),
    };
    if label.contains('.') || label.len() > 63 {
        return Err(CommandError::usage(format!("`{label}` is not one label of at most 63 letters"))
            .hint("give a short word: --called ferries"));
    }
    Ok(HostName::parse(&format!("{label}.local"))?)
}

async fn listen(address: IpAddr, port: Option<u16>) -> Result<tokio::net::TcpListener, CommandError> {
    let mut last = None;
    for port in port.map_or(PORTS.to_vec(), |port| vec![port]) {
        match tokio::net::TcpListener::bind(SocketAddr::new(address, port)).await {
            Ok(listener) => return Ok(listener),
            Err(error) => last = Some((port, error)),
        }
    }
    let words = last.map(|(port, error)| format!("port {port} of {address}: {error}")).unwrap_or_default();
    Err(CommandError::not_made(format!("nothing can be lent there: {words}")).hint("choose another port: --port 9443"))
}

/// A certificate for the lent name with a key that is nowhere written, and those of the authority.
fn certificate(
    context: &Context,
    lent: &HostName,
) -> Result<(Certificate, yandro_core::AuthorityCertificates), CommandError> {
    let files = context.observer().authority()?.ok_or_else(none_yet)?;
    let mut fresh = SystemFresh::new();
    let key = fresh.key(KeyKind::default())?;
    let leaf = &Leaf { names: vec![lent.clone()], wildcards: Vec::new(), addresses: Vec::new(), days: DAYS };
    let chain = files.authority.issue(files.key()?, &LeafRequest { leaf, now: now(), serial: fresh.serial() }, &key)?;
    let certificate = Certificate { chain: chain.into_bytes(), key: key.to_secret_pem().as_bytes().to_vec() };
    let root = observe::authority_certificates(&context.machine)?.ok_or_else(none_yet)?;
    Ok((certificate, root))
}

/// Where the site answers on this computer: at its own server. For another host its running server is asked itself, since a web
/// server answers only for the names of its sites.
async fn origin(context: &Context, site: &Site, host: Option<&str>, root: &str) -> Result<Origin, CommandError> {
    let (http, https) = context.present().ports_of(site, context.server_of_site(site));
    let is_secure = site.https != Https::Off;
    let port = if is_secure { https } else { http };
    let of = |scheme: &str, port: u16, usual: u16, name: &HostName| {
        if port == usual { format!("{scheme}://{name}") } else { format!("{scheme}://{name}:{port}") }
    };
    // The first is the one that the application takes for its own.
    let mut own: Vec<String> = Vec::new();
    for name in site.names() {
        let both = [of("https", https, 443, name), of("http", http, 80, name)];
        own.extend(if is_secure { both.to_vec() } else { both.into_iter().rev().collect() });
    }
    let usual = if is_secure { 443 } else { 80 };
    let host = host.map_or_else(
        || if port == usual { site.name.to_string() } else { format!("{}:{port}", site.name) },
        str::to_owned,
    );
    let usual = Origin {
        address: SocketAddr::new(site.address, port),
        tls: is_secure.then(|| (site.name.to_string(), root.to_owned())),
        host: host.clone(),
        own,
    };
    let is_own = site.names().any(|name| host == name.as_str() || host.starts_with(&format!("{name}:")));
    match &site.content {
        _ if is_own => Ok(usual),
        Content::Upstream(upstream) if !upstream.is_secure() => {
            let mut found = tokio::net::lookup_host(upstream.host_port().to_string()).await.into_iter().flatten();
            let address = found.next().ok_or_else(|| CommandError::not_made(format!("{upstream} has no address")))?;
            Ok(Origin {
                address,
                tls: None,
                own: [vec![format!("https://{host}"), format!("http://{host}")], usual.own].concat(),
                ..usual
            })
        }
        _ => Err(CommandError::usage(format!(
            "the site `{}` doesn't have the name `{host}`, so its web server wouldn't answer for it",
            site.name
        ))
        .hint(format!("make it one first: yandro map {} --alias {host}", site.name))
        .hint("or leave `--as` out: the application is asked for the site's own name")),
    }
}

fn not_announced(error: &AnnounceError, name: &HostName) -> CommandError {
    let words = CommandError::not_made(error);
    match error {
        AnnounceError::Taken(_) => words.hint(format!("lend it by another name: yandro lend {name} --called WORD")),
        AnnounceError::System(_) => {
            words.hint("other devices find no name then; a colleague's computer can have one: yandro hosts export")
        }
    }
}

/// Before the command ends, for the site is lent as long as it runs.
fn tell(ui: &mut Ui, name: &HostName, lending: &Lending) -> Result<(), CommandError> {
    let lines = code(&lending.page)?;
    let Lending { url, page, minutes } = lending;
    let (url, page, minutes) = (url.clone(), page.clone(), *minutes);
    let name = name.clone();
    Outcome::new(Lending { url: url.clone(), page: page.clone(), minutes }, move |_, ui| {
        ui.say(&lines);
        ui.say(&format!("\n{STRONG}{name}{STRONG:#} is lent to your network for {}, as {STRONG}{url}{STRONG:#}", count(usize::from(minutes), "minute")));
        ui.say(&format!("On the other device, point the camera at the code or type {COMMAND}{page}{COMMAND:#}: it shows how to trust the\ncertificate, and leads to the site. Everybody on the network can open both, and nothing else. Ctrl-C ends it."));
        ui.say(&format!("{DIM}Who comes:{DIM:#}"));
    })
    .show(ui);
    Ok(())
}

/// Prints each device's first visit of the page, of each file, and of the site.
async fn tell_visits(mut visits: tokio::sync::mpsc::UnboundedReceiver<Visit>, ui: &mut Ui) {
    let mut seen = BTreeSet::new();
    while let Some(visit) = visits.recv().await {
        // A device may call itself something else each time, and fill the terminal.
        let (who, path) = match &visit {
            Visit::Page(who, path) => (*who, Some(path.clone())),
            Visit::Site(who, _) => (*who, None),
        };
        if !seen.insert((who, path)) {
            continue;
        }
        match visit {
            Visit::Page(who, path) if path == "/" => ui.say(&format!("  {who} opened the page")),
            Visit::Page(who, path) => ui.say(&format!("  {who} fetched {}", path.trim_start_matches('/'))),
            Visit::Site(who, agent) => {
                ui.say(&format!("  {who} opened the site  {DIM}{agent}{DIM:#}"));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lent_name_is_one_label() {
        let of = |called: Option<&str>, name: &str| {
            lent_name(called, &HostName::parse(name).unwrap()).map(|name| name.to_string()).ok()
        };
        assert_eq!(of(None, "saltmarsh.test").as_deref(), Some("saltmarsh.local"));
        assert_eq!(of(None, "depot.saltmarsh.test").as_deref(), Some("depot-saltmarsh.local"));
        assert_eq!(of(Some("ferries"), "saltmarsh.test").as_deref(), Some("ferries.local"));
        assert_eq!(of(Some("ferries.local"), "saltmarsh.test").as_deref(), Some("ferries.local"));
        assert_eq!(of(Some("a.b"), "saltmarsh.test"), None);
        assert_eq!(of(Some("a b"), "saltmarsh.test"), None);
    }
}
