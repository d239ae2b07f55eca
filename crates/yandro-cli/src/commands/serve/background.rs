//! The built-in server in the background, where no service of the system runs it.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream};
use std::time::Duration;

use yandro_core::{ServerId, Site};
use yandro_machine::ports::Holder;
use yandro_machine::{Machine, ports};

use super::install::{bound, can_listen, ports_free, sockets};
use super::keeper::{self, KeeperFiles, Kept};
use crate::args::ServeArgs;
use crate::commands::jobs::{JobFiles, Kind};
use crate::context::Context;
use crate::error::CommandError;

/// How the server came to run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Running {
    /// It did already.
    Already,
    /// A service of the system was started.
    Service,
    /// In the background, until the machine or the person ends it.
    Background,
}

/// Whether no process keeps the server running any more; then it ends itself.
pub(super) fn is_left(machine: &Machine) -> bool {
    !KeeperFiles::of(machine, Kept::Server).is_held()
}

/// The number of the server's process, if it runs in the background.
pub(crate) fn process(machine: &Machine) -> Option<i32> {
    KeeperFiles::of(machine, Kept::Server).process()
}

/// Whether the built-in server runs, whoever started it.
pub(crate) fn runs(context: &Context) -> bool {
    if process(&context.machine).is_some() {
        return true;
    }
    if !listens(context) {
        return false;
    }
    // Of a service's ports systemd is the holder.
    let of_holder = |holder: &Holder| context.present().of_holder(&context.machine, holder);
    let is_own = |holder: &Holder| of_holder(holder) == Some(ServerId::BuiltIn);
    let is_service = JobFiles::of(context, Kind::Server).of_root().is_some();
    is_service || ports::holders(context.settings.built_in.http_port).iter().all(is_own)
}

/// Whether something listens on the server's port.
fn listens(context: &Context) -> bool {
    listens_at(context, IpAddr::V4(Ipv4Addr::LOCALHOST))
}

fn listens_at(context: &Context, address: IpAddr) -> bool {
    let at = SocketAddr::new(address, context.settings.built_in.http_port);
    TcpStream::connect_timeout(&at, Duration::from_secs(2)).is_ok()
}

/// Has the built-in server run: by its service where that is installed, in the background otherwise. Returns once it
/// listens.
///
/// # Errors
/// When it can't have its ports, or ends again, with its own words.
pub(crate) fn start(context: &Context) -> Result<Running, CommandError> {
    if runs(context) {
        return Ok(Running::Already);
    }
    let service = JobFiles::of(context, Kind::Server);
    if let Some(unit) = service.of_root() {
        return Err(CommandError::not_made(
            "root installed the built-in server as a service for you, and it doesn't run",
        )
        .hint(format!("start it: sudo systemctl start {}", unit.file_stem().unwrap_or_default())));
    }
    if service.is_installed() && context.machine.is_real() {
        service.start(false).map_err(|error| CommandError::not_made(format!("the service doesn't start: {error}")))?;
        let up = Kept::Server.wait_until_up(context, || listens(context), || None);
        return up.map(|()| Running::Service);
    }
    can_listen(context, &sockets(context, &ServeArgs::default())?)?;
    let mut keeper = keeper::start(context, Kept::Server)?;
    let has_ended = || keeper.try_wait().ok().flatten().map(|_| keeper::last_words(context, Kept::Server));
    Kept::Server.wait_until_up(context, || listens(context), has_ended)?;
    Ok(Running::Background)
}

/// Ends the server that runs in the background or as the user's service; `false` if none does.
///
/// # Errors
/// When it doesn't end.
pub(crate) fn stop(context: &Context) -> Result<bool, CommandError> {
    let own = KeeperFiles::of(&context.machine, Kept::Server);
    let service = JobFiles::of(context, Kind::Server);
    if !own.is_held() {
        if !runs(context) {
            return Ok(false);
        }
        if service.is_installed() && context.machine.is_real() {
            let paused = service.pause();
            return paused.map(|()| true).map_err(|error| CommandError::not_made(format!("it doesn't stop: {error}")));
        }
        let error = CommandError::not_made("the built-in server is neither a service of yours nor in the background");
        return Err(match service.of_root() {
            Some(unit) => {
                error.hint(format!("root started it: sudo systemctl stop {}", unit.file_stem().unwrap_or_default()))
            }
            None => {
                error.hint("see who has its ports: yandro ports; `yandro serve` in a terminal ends by Ctrl-C there")
            }
        });
    }
    keeper::stop(context, Kept::Server)?;
    Ok(true)
}

/// Has the server of mapped sites run, and listen at their addresses; gives what is to be told of that, also where it
/// can't be.
pub(crate) fn bring_up(context: &Context, sites: &[Site]) -> Option<String> {
    let own = sites.iter().filter(|site| site.server == Some(ServerId::BuiltIn) && !site.disabled);
    let addresses: Vec<IpAddr> = own.map(|site| site.address).filter(IpAddr::is_loopback).collect();
    if addresses.is_empty() {
        return None;
    }
    // It takes its addresses when it starts.
    let is_unheard = |address: &IpAddr| !listens_at(context, *address);
    if process(&context.machine).is_some() && addresses.iter().any(is_unheard) {
        _ = stop(context);
        return start(context).err().map(|error| error.message);
    }
    let started = if listens(context) { can_start(context).map(|()| None) } else { start(context).map(told) };
    started.unwrap_or_else(|error| {
        let hints: String = error.hints.iter().map(|hint| format!("\nfix: {hint}")).collect();
        Some(format!("{}{hints}", error.message))
    })
}

/// Refuses if the server doesn't run and another program has one of its ports.
///
/// # Errors
/// Names the program, and ports that are free.
pub(crate) fn can_start(context: &Context) -> Result<(), CommandError> {
    let service = JobFiles::of(context, Kind::Server);
    // The system holds the ports of a service.
    if service.is_installed() || service.of_root().is_some() || runs(context) {
        return Ok(());
    }
    let sockets = sockets(context, &ServeArgs::default())?;
    // Some systems let it have an address of a port that another program has at all others.
    if bound(context, &sockets)?.is_ok() { Ok(()) } else { ports_free(context, &sockets) }
}

/// The line about a server that `map` started.
pub(crate) fn told(running: Running) -> Option<String> {
    match running {
        Running::Already => None,
        Running::Service => Some(format!("{}: its service was started", ServerId::BuiltIn)),
        Running::Background => Some(format!(
            "{} was started in the background, and ends with this computer or by: yandro servers stop built-in; to have it start at each login: yandro serve --install",
            ServerId::BuiltIn
        )),
    }
}
