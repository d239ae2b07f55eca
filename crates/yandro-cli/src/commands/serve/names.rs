//! `yandro serve --names`: the responder for the names below sites, and having it run while a site needs it.

use std::io::IsTerminal as _;
use std::net::{IpAddr, SocketAddr, TcpStream};
use std::time::Duration;

use yandro_core::{HostName, HostsFile, Site, SiteList, System, answered_tenants};
use yandro_machine::{files, resolver};
use yandro_serve::{Responder, TenantNames};

use super::install;
use super::keeper::{self, KeeperFiles, Kept};
use super::taken::state;
use crate::args::{ManagerArg, ServeArgs};
use crate::commands::apply::{Planned, apply, done};
use crate::commands::jobs::{self, JobFiles, Kind};
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;
use crate::view::{Outcome, STRONG, Ui, count};

/// The key of the site list by which a site has tenants.
const WORD: &[u8] = b"tenants";

const TITLE: &str = "Resolve the names below local sites (yandro)";

pub(super) fn run<'c>(context: &'c Context, args: &ServeArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    // Read before the list, so that a change in between is seen as one.
    let mut last = (state(context), hosts(context));
    let list = context.enabled()?;
    let sites = count(answered_tenants(&list.sites).count(), "site");
    let address = resolver::responder(&context.machine);
    // As a service it waits until a site has some.
    if answered_tenants(&list.sites).next().is_none() && std::io::stdin().is_terminal() {
        return Err(CommandError::not_made("no site has tenants, so there is no name to answer for")
            .hint("answer all names one label below a site: yandro map NAME --tenants"));
    }
    let is_here = !args.kept && KeeperFiles::of(&context.machine, Kept::Names).is_held();
    if is_here {
        ui.say(&format!("it runs in the background already, at {address}"));
        return Ok(Outcome::printed());
    }
    let runtime = signals::runtime()?;
    runtime.block_on(async {
        let responder = Responder::bind(address).await.map_err(|error| no_address(address, &error))?;
        _ = context.machine.become_caller().map_err(CommandError::not_made)?;
        let responding = responder.start(known(context, &list)?);
        ui.say(&format!("{STRONG}resolving the names below {sites}{STRONG:#} at {address}; Ctrl-C ends it"));
        let follow = async {
            loop {
                tokio::time::sleep(super::LOOK).await;
                if args.kept && !KeeperFiles::of(&context.machine, Kept::Names).is_held() {
                    return;
                }
                let now = (state(context), hosts(context));
                if now == last {
                    continue;
                }
                last = now;
                match context.enabled().and_then(|list| known(context, &list)) {
                    Ok(names) if names.is_empty() && args.kept => return,
                    Ok(names) => responding.exchange(names),
                    // The person may be in the midst of an edit.
                    Err(error) => ui.error(&error),
                }
            }
        };
        signals::unless_interrupted(follow).await;
        Ok(Outcome::printed())
    })
}

/// When the hosts file was last changed.
fn hosts(context: &Context) -> Option<std::time::SystemTime> {
    context.machine.places.hosts.metadata().and_then(|meta| meta.modified()).ok()
}

/// The names of the list, with the addresses that the hosts file gives a site: those of its tenants, too.
fn known(context: &Context, list: &SiteList) -> Result<TenantNames, CommandError> {
    let text = files::read_if_there(&context.machine.places.hosts)?.unwrap_or_default();
    let file = HostsFile::parse(&text);
    let addresses = |site: &Site, name: &str| {
        let mut found: Vec<IpAddr> = file.entries_of_host(name).iter().map(|entry| entry.address).collect();
        if found.is_empty() {
            found.push(site.address);
        }
        found
    };
    let mut names = TenantNames::default();
    let zones: Vec<&Site> = answered_tenants(&list.sites).collect();
    for site in &zones {
        names.add_zone(site.name.as_str(), &addresses(site, site.name.as_str()));
    }
    let is_known = |name: &HostName| zones.iter().any(|zone| name.is_below_or_equal(zone.name.as_str()));
    for site in &list.sites {
        for name in site.names().filter(|name| is_known(name)) {
            names.add_host(name.as_str(), &addresses(site, name.as_str()));
        }
    }
    Ok(names)
}

fn no_address(address: SocketAddr, error: &std::io::Error) -> CommandError {
    let command = CommandError::not_made(format!("the responder for names below sites can't listen at {error}"));
    match error.kind() {
        std::io::ErrorKind::PermissionDenied => {
            command.hint("let yandro listen on low ports, once and for good: yandro setup ports")
        }
        std::io::ErrorKind::AddrInUse => {
            let port = address.port();
            let shown = match System::HERE {
                System::Linux => format!("sudo ss -ltunp 'sport = :{port}'"),
                System::MacOs => format!("sudo lsof -nP -i :{port}"),
                System::Windows => "netstat -ano".to_owned(),
            };
            command.hint(format!("see which program has port {port}, and end it: {shown}"))
        }
        _ => command,
    }
}

/// Whether something takes connections where the responder does.
fn listens(context: &Context) -> bool {
    TcpStream::connect_timeout(&resolver::responder(&context.machine), Duration::from_secs(2)).is_ok()
}

/// Has the responder run if a site of the list needs it, and end otherwise. Gives what is to be told of that.
pub(crate) fn follow_list(context: &Context) -> Option<String> {
    // Most lists have no tenants, and some have thousands of sites.
    let text = files::read_if_there(&context.machine.places.site_list()).ok().flatten().unwrap_or_default();
    let has_word = text.windows(WORD.len()).any(|part| part == WORD);
    let list = if has_word { context.enabled().ok()? } else { SiteList::default() };
    if answered_tenants(&list.sites).next().is_none() {
        return stop(context).err().map(|error| error.message);
    }
    if listens(context) {
        return None;
    }
    match start(context) {
        Ok(told) => told,
        Err(error) => {
            let hints: String = error.hints.iter().map(|hint| format!("\nfix: {hint}")).collect();
            Some(format!("names below sites don't resolve: {}{hints}", error.message))
        }
    }
}

/// Ends it, if it runs in the background.
///
/// # Errors
/// When it doesn't end.
pub(crate) fn stop(context: &Context) -> Result<(), CommandError> {
    if KeeperFiles::of(&context.machine, Kept::Names).is_held() { keeper::stop(context, Kept::Names) } else { Ok(()) }
}

/// Starts it: by its service where that is installed, in the background otherwise. Returns once it listens.
fn start(context: &Context) -> Result<Option<String>, CommandError> {
    let service = JobFiles::of(context, Kind::Names);
    if let Some(unit) = service.of_root() {
        return Err(CommandError::not_made("root installed the responder as a service for you, and it doesn't run")
            .hint(format!("start it: sudo systemctl start {}", unit.file_stem().unwrap_or_default())));
    }
    if service.is_installed() {
        service.start(false).map_err(|error| CommandError::not_made(format!("its service doesn't start: {error}")))?;
        let up = Kept::Names.wait_until_up(context, || listens(context), || None);
        return up.map(|()| Some("the responder's service was started".to_owned()));
    }
    let address = resolver::responder(&context.machine);
    let bound = signals::runtime()?.block_on(Responder::bind(address));
    drop(bound.map_err(|error| no_address(address, &error))?);
    let mut keeper = keeper::start(context, Kept::Names)?;
    let has_ended = || keeper.try_wait().ok().flatten().map(|_| keeper::last_words(context, Kept::Names));
    Kept::Names.wait_until_up(context, || listens(context), has_ended)?;
    Ok(Some(
        "a program of yandro's resolves the names below your sites with tenants. It was started in the background and ends with this computer; to have it start at each login: yandro serve --names --install"
            .to_owned(),
    ))
}

/// `yandro serve --names --install`.
pub(super) fn install<'c>(context: &'c Context, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let (files, machine) = (JobFiles::of(context, Kind::Names), &context.machine);
    let manager = jobs::manager_here(context).ok_or_else(|| {
        CommandError::not_made("no systemd runs here, which could keep the responder running")
            .hint("`yandro settle` starts it in the background, whenever a site needs it")
    })?;
    let log = Kept::Names.log(machine);
    let words: &[&str] = match manager {
        ManagerArg::Systemd => &["serve", "--names"],
        _ => &["serve", "--names", "--log", log.as_str()],
    };
    let command = jobs::command(context, words)?;
    let service = install::Service { title: TITLE, command: &command, again: "serve --names --install", sockets: &[] };
    let plan = || Ok(Planned { set: service.plan(context, &files, manager)?, starts: false, about: () });
    if !context.preview && machine.is_real() && KeeperFiles::of(machine, Kept::Names).is_held() {
        // The one in the background has the address that the service is to have.
        keeper::stop(context, Kept::Names)?;
    }
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    let refused = files.start(!done.set.is_empty()).err();
    let data = install::Installed {
        manager: install::word(manager).to_owned(),
        service: files.name.clone(),
        sockets: vec![resolver::responder(machine).to_string()],
        command,
    };
    let needs_linger = !files.is_systems && manager == ManagerArg::Systemd && System::HERE == System::Linux;
    Ok(Outcome::new(data, move |data, ui| {
        let state = if refused.is_none() { "runs from now on" } else { "is installed" };
        ui.say(&format!(
            "{STRONG}the responder for names below sites {state}{STRONG:#}, as a service of {}",
            data.manager
        ));
        if let Some(words) = refused {
            ui.note(&format!("it starts at your next login, since it could not be started now: {words}"));
        }
        if needs_linger {
            ui.note(&install::until_logout(context));
        }
    }))
}

/// `yandro serve --names --remove`.
pub(super) fn remove<'c>(context: &'c Context, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let files = JobFiles::of(context, Kind::Names);
    let plan = || Ok(Planned { set: files.plan_removal()?, starts: false, about: () });
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    let removed = !done.set.is_empty();
    if removed {
        _ = files.stop();
        let note = if context.machine.is_real() { follow_list(context) } else { None };
        ui.note_later(note);
    }
    Ok(Outcome::new(install::Removed { removed }, |data, ui| {
        ui.say(if data.removed {
            "the responder for names below sites is no longer a service, and has stopped"
        } else {
            "the responder for names below sites is not a service here; nothing was changed"
        });
    }))
}
