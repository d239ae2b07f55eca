//! The built-in server in the background, where no service of the system runs it.
//!
//! A process keeps the server running: it holds a lock, starts the server again when that ends unasked, and ends both
//! when a file says so. The file, unlike a signal, works on each system, and also where `sudo` started the server.

use std::fs::{File, OpenOptions};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use camino::Utf8PathBuf;
use yandro_core::{ServerId, Site};
use yandro_machine::ports::Holder;
use yandro_machine::{Machine, caller, interrupt, ports, process as programs};

use super::install::{can_listen, sockets};
use crate::args::ServeArgs;
use crate::commands::jobs::{self, JobFiles, Kind};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::Outcome;

/// How often is looked whether something ended.
const LOOK: Duration = Duration::from_millis(50);
/// How long the server may take until it listens, and until it has ended.
const PATIENCE: Duration = Duration::from_secs(15);
/// A server that ends sooner is taken to have failed.
const SOON: Duration = Duration::from_secs(5);
/// How often it may fail in a row.
const FAILURES: u32 = 5;

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

/// The files of a server in the background.
struct BackgroundFiles {
    /// Locked while the keeper of the server runs.
    lock: Utf8PathBuf,
    /// The number of the server's process.
    pid: Utf8PathBuf,
    /// There when the server is to end.
    stop: Utf8PathBuf,
}

impl BackgroundFiles {
    fn of(machine: &Machine) -> Self {
        let file = |name: &str| machine.places.data.join(name);
        Self { lock: file("serve.lock"), pid: file("serve.pid"), stop: file("serve.stop") }
    }

    /// The lock, if nobody has it.
    fn lock(&self) -> Option<File> {
        let _rights = caller::rights_for(&self.lock);
        let file = OpenOptions::new().write(true).create(true).truncate(false).open(&self.lock).ok()?;
        file.try_lock().is_ok().then_some(file)
    }

    /// Whether a keeper has the lock.
    fn is_held(&self) -> bool {
        let file = OpenOptions::new().read(true).open(&self.lock);
        file.is_ok_and(|file| file.try_lock_shared().is_err())
    }
}

/// Whether no process keeps the server running any more; then it ends itself.
pub(super) fn is_left(machine: &Machine) -> bool {
    !BackgroundFiles::of(machine).is_held()
}

/// The number of the server's process, if it runs in the background.
pub(crate) fn process(machine: &Machine) -> Option<i32> {
    let files = BackgroundFiles::of(machine);
    let text = files.is_held().then(|| std::fs::read_to_string(&files.pid).ok())??;
    text.trim().parse().ok()
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
        return wait_until_up(context, || None).map(|()| Running::Service);
    }
    can_listen(context, &sockets(context, &ServeArgs::default())?)?;
    let own = BackgroundFiles::of(&context.machine);
    context.machine.write_private(&own.lock, b"")?;
    remove(&own.stop);
    let words = jobs::command(context, &["serve", "--keep"])?;
    let mut command = Command::new(&words[0]);
    command.args(&words[1..]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let mut keeper = command.spawn().map_err(CommandError::not_made)?;
    wait_until_up(context, || keeper.try_wait().ok().flatten().map(|_| last_words(context)))?;
    Ok(Running::Background)
}

fn wait_until_up(context: &Context, mut has_ended: impl FnMut() -> Option<String>) -> Result<(), CommandError> {
    let began = Instant::now();
    while !listens(context) {
        let log = context.machine.places.serve_log();
        if let Some(words) = has_ended() {
            return Err(CommandError::not_made(format!("the built-in server ended again{words}"))
                .hint(format!("see why: yandro serve; its log is {log}")));
        }
        if began.elapsed() > PATIENCE {
            return Err(CommandError::not_made("the built-in server was started, and doesn't listen yet")
                .hint(format!("look into its log: {log}")));
        }
        std::thread::sleep(LOOK);
    }
    Ok(())
}

/// The last error in the log.
fn last_words(context: &Context) -> String {
    let text = std::fs::read_to_string(context.machine.places.serve_log()).unwrap_or_default();
    let line = text.lines().rev().find(|line| line.contains("error:"));
    line.map(|line| format!(": {line}")).unwrap_or_default()
}

/// Ends the server that runs in the background or as the user's service; `false` if none does.
///
/// # Errors
/// When it doesn't end.
pub(crate) fn stop(context: &Context) -> Result<bool, CommandError> {
    let own = BackgroundFiles::of(&context.machine);
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
    context.machine.write_private(&own.stop, b"")?;
    let began = Instant::now();
    while own.is_held() {
        if began.elapsed() > PATIENCE {
            return Err(CommandError::not_made("the built-in server doesn't end")
                .hint(format!("look into its log: {}", context.machine.places.serve_log())));
        }
        std::thread::sleep(LOOK);
    }
    remove(&own.stop);
    Ok(true)
}

/// `yandro serve --keep`: keeps the server running until it is told to end.
pub(super) fn keep(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let own = BackgroundFiles::of(&context.machine);
    let lock = own.lock().ok_or_else(|| CommandError::not_made("it runs in the background already"))?;
    programs::leave_session();
    let _held = interrupt::HeldSignals::new();
    let log = context.machine.places.serve_log();
    let words = jobs::command(context, &["serve", "--kept", "--log", log.as_str()])?;
    let mut failures = 0;
    let ended = loop {
        let began = Instant::now();
        let mut server = spawn(&words).map_err(CommandError::not_made)?;
        context.machine.write_private(&own.pid, server.id().to_string().as_bytes())?;
        let status = loop {
            if interrupt::came() || own.stop.exists() {
                programs::end(&mut server, PATIENCE);
                break None;
            }
            if let Ok(Some(status)) = server.try_wait() {
                break Some(status);
            }
            std::thread::sleep(LOOK);
        };
        let Some(status) = status.filter(|status| !status.success()) else { break Ok(Outcome::printed()) };
        failures = if began.elapsed() < SOON { failures + 1 } else { 0 };
        if failures >= FAILURES {
            break Err(CommandError::not_made(format!("the server ended {failures} times: {status}")));
        }
        let pause = Instant::now() + Duration::from_millis(100) * 4_u32.pow(failures);
        while failures > 0 && Instant::now() < pause && !interrupt::came() && !own.stop.exists() {
            std::thread::sleep(LOOK);
        }
    };
    remove(&own.pid);
    drop(lock);
    ended
}

fn spawn(words: &[String]) -> io::Result<Child> {
    Command::new(&words[0]).args(&words[1..]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn()
}

/// Removes a file of the server's; one that is gone already needs none.
fn remove(path: &Utf8PathBuf) {
    let _rights = caller::rights_for(path);
    _ = std::fs::remove_file(path);
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
    // Another server there is for the proof to find, which says whose it is.
    if listens(context) {
        return None;
    }
    match start(context) {
        Ok(running) => told(running),
        Err(error) => {
            let hints: String = error.hints.iter().map(|hint| format!("\nfix: {hint}")).collect();
            Some(format!("{}{hints}", error.message))
        }
    }
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
