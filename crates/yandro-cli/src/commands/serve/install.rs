//! `yandro serve --install` and `--remove`.

use std::io::{ErrorKind, Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::time::{Duration, Instant};

use yandro_core::{ChangeSet, Job, ServerId, System, When};
use yandro_machine::ports::{self, Holder};
use yandro_serve::Server;

use super::{addresses, background, no_port};
use crate::args::{ManagerArg, ServeArgs};
use crate::as_root::as_root;
use crate::commands::apply::{Planned, apply, done};
use crate::commands::jobs::{self, JobFiles, Kind};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::change::labelled;
use crate::view::{Data, Outcome, STRONG, Ui, data};

const TITLE: &str = "Serve the local sites (yandro)";

/// The command that keeps a user's services without a session.
const LINGER: &str = "sudo loginctl enable-linger";
/// How long the service may take until it answers.
const ANSWERS: Duration = Duration::from_secs(10);

data! {
    /// Data of `yandro serve --install`.
    struct Installed {
        /// The manager that runs the service.
        manager: String,
        /// The name of the service there.
        service: String,
        /// The sockets that it listens on.
        sockets: Vec<String>,
        /// The command that is run.
        command: Vec<String>,
    }

    /// Data of `yandro serve --remove`.
    struct Removed {
        /// Whether there was a service.
        removed: bool,
    }
}

impl Data for Installed {}
impl Data for Removed {}

pub(super) fn install<'c>(context: &'c Context, args: &ServeArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let files = JobFiles::of(context, Kind::Server);
    let machine = &context.machine;
    let manager = jobs::manager_here(context).ok_or_else(|| {
        CommandError::not_made("no systemd runs here, which could keep the server running")
            .hint("run it in the background: nohup yandro serve --log serve.log &")
    })?;
    let sockets = sockets(context, args)?;
    if !files.is_installed() && !context.preview && machine.is_real() {
        // The one in the background has the ports that the service is to have.
        if background::process(machine).is_some() {
            background::stop(context)?;
        }
        can_listen(context, &sockets)?;
    }
    let command = command(context, args, manager)?;
    let kept = Service { title: TITLE, command: &command, again: "serve --install", sockets: &sockets };
    let plan = || Ok(Planned { set: kept.plan(context, &files, manager)?, starts: false, about: () });
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    let refused = files.start(!done.set.is_empty()).err();
    let answers = machine.is_real() && refused.is_none() && answers(&sockets);
    let is_real = machine.is_real();
    let (service, log, is_users) = (service(&files, manager), log(context, &files, manager), !files.is_systems);
    let data = Installed {
        manager: word(manager).to_owned(),
        service: files.name.clone(),
        sockets: sockets.iter().map(ToString::to_string).collect(),
        command,
    };
    Ok(Outcome::new(data, move |data, ui| {
        let state = if answers { "runs from now on" } else { "is installed" };
        ui.say(&format!("{STRONG}the built-in server {state}{STRONG:#}, as a service of {}", data.manager));
        ui.say(&labelled(&[
            ("service", service),
            ("sockets", data.sockets.join(" ")),
            ("log", log.clone()),
            ("take it away", "yandro serve --remove".into()),
        ]));
        if let Some(words) = refused {
            ui.note(&format!("it starts at your next login, since it could not be started now: {words}"));
        } else if is_real && !answers {
            ui.note(&format!(
                "it was started and does not answer yet. If `yandro check` says so too, read its log: {log}"
            ));
        }
        if is_users && manager == ManagerArg::Systemd {
            ui.note(&until_logout(context));
        }
    }))
}

/// A service that a manager of jobs keeps running.
pub(super) struct Service<'s> {
    pub(super) title: &'s str,
    /// The program, and its arguments.
    pub(super) command: &'s [String],
    /// The arguments of yandro that install it.
    pub(super) again: &'s str,
    /// The sockets that systemd opens for it.
    pub(super) sockets: &'s [SocketAddr],
}

impl Service<'_> {
    /// Plans its files.
    ///
    /// # Errors
    /// When root would run a program that others can change, or a file can't be read.
    pub(super) fn plan(
        &self,
        context: &Context,
        files: &JobFiles<'_>,
        manager: ManagerArg,
    ) -> Result<ChangeSet, CommandError> {
        let user = context.machine.sudo_caller().filter(|_| files.is_systems).map(|uid| uid.to_string());
        if files.is_systems && user.is_none() {
            jobs::may_run_as_root(self.command, self.again)?;
        }
        // It runs as the user, not as root on the user's behalf.
        let environment = jobs::environment(context).into_iter().filter(|(name, _)| *name != "SUDO_UID");
        let job = Job {
            name: &files.name,
            title: self.title,
            command: self.command,
            environment: &environment.collect::<Vec<_>>(),
            user: user.as_deref(),
            when: When::Always { sockets: self.sockets, is_systems: files.is_systems },
        };
        files.plan(manager, &job)
    }
}

/// The note on a service of the user's own systemd.
pub(super) fn until_logout(context: &Context) -> String {
    format!(
        "it starts when you log in and ends with your last session. To have it run as long as the machine does: {LINGER} {}",
        context.machine.user()
    )
}

pub(super) fn remove<'c>(context: &'c Context, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let files = JobFiles::of(context, Kind::Server);
    let plan = || Ok(Planned { set: files.plan_removal()?, starts: false, about: () });
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    let removed = !done.set.is_empty();
    let refused = if removed { files.stop().err() } else { None };
    let is_roots = files.of_root().is_some();
    Ok(Outcome::new(Removed { removed }, move |data, ui| {
        ui.say(match (data.removed, is_roots) {
            (true, _) if refused.is_some() => "the built-in server is no longer a service",
            (true, _) => "the built-in server is no longer a service, and has stopped",
            (false, false) => "the built-in server is not a service here; nothing was changed",
            (false, true) => "you have no service of your own; nothing was changed",
        });
        if let Some(words) = refused {
            ui.note(&format!("it ends with your session, since it could not be stopped now: {words}"));
        }
        if is_roots {
            ui.note(&format!("root installed one for you; to remove it: {}", as_root(&["serve", "--remove"])));
        }
    }))
}

/// The sockets of the server, as its settings and sites are now.
pub(super) fn sockets(context: &Context, args: &ServeArgs) -> Result<Vec<SocketAddr>, CommandError> {
    let list = context.enabled()?;
    let (http, https) = (context.settings.built_in.http_port, context.settings.built_in.https_port);
    let both = |address| [SocketAddr::new(address, http), SocketAddr::new(address, https)];
    Ok(addresses(args, &list).into_iter().flat_map(both).collect())
}

/// Refuses to install a service that couldn't listen.
pub(super) fn can_listen(context: &Context, sockets: &[SocketAddr]) -> Result<(), CommandError> {
    let Err(error) = bound(context, sockets)? else { return Ok(()) };
    // The rights to root's ports wouldn't help where another program has them.
    ports_free(context, sockets)?;
    Err(match error.kind() {
        ErrorKind::PermissionDenied if System::HERE != System::Windows => {
            let settings = context.machine.places.settings();
            CommandError::not_made(format!("the built-in server can't listen: {error}"))
                .hint("let yandro listen on low ports, once and for good: yandro setup ports")
                .hint(format!("or have the system open the ports for it; it runs as you: {}", as_root(&["serve", "--install"])))
                .hint(format!("or choose ports above 1023 in {settings}:\n\n  [built-in]\n  http-port = 8080\n  https-port = 8443\n"))
        }
        _ => no_port(context, &error),
    })
}

/// Tries to listen there.
pub(super) fn bound(context: &Context, sockets: &[SocketAddr]) -> Result<std::io::Result<()>, CommandError> {
    let (http, https) = (context.settings.built_in.http_port, context.settings.built_in.https_port);
    let addresses: Vec<_> = sockets.iter().filter(|socket| socket.port() == http).map(SocketAddr::ip).collect();
    Ok(crate::signals::runtime()?.block_on(Server::bind(&addresses, http, https)).map(drop))
}

/// Refuses if another program listens on one of these sockets.
///
/// # Errors
/// Names the program, and ports that are free.
pub(super) fn ports_free(context: &Context, sockets: &[SocketAddr]) -> Result<(), CommandError> {
    let server_of = |holder: &Holder| context.present().of_holder(&context.machine, holder);
    let is_there = |holder: &Holder| {
        let mut addresses = sockets.iter().map(SocketAddr::ip);
        holder.address.is_unspecified() || addresses.any(|address| address == holder.address)
    };
    let is_in_the_way = |holder: &Holder| is_there(holder) && server_of(holder) != Some(ServerId::BuiltIn);
    let built_in = &context.settings.built_in;
    let held = [built_in.http_port, built_in.https_port].into_iter().flat_map(ports::holders);
    let Some(holder) = held.into_iter().find(is_in_the_way) else { return Ok(()) };
    let (who, end) = match server_of(&holder) {
        Some(other) => (
            format!("{other} (user {})", holder.user),
            format!("stop that server: yandro servers stop {}", other.word()),
        ),
        None if holder.is_own => (holder.to_string(), "end that program".to_owned()),
        None => (holder.to_string(), format!("have user {} end that program", holder.user)),
    };
    let free = |first: u16| (first..first + 100).find(|port| ports::holders(*port).is_empty()).unwrap_or(first);
    let (http, https, settings) = (free(8080), free(8443), context.machine.places.settings());
    Err(CommandError::not_made(format!("the built-in server can't listen on port {}: {who} does", holder.port))
        .hint(format!(
            "choose other ports in {settings}:\n\n  [built-in]\n  http-port = {http}\n  https-port = {https}\n"
        ))
        .hint(format!("or {end}")))
}

/// Whether the service answers within some seconds. systemd accepts connections before it runs.
fn answers(sockets: &[SocketAddr]) -> bool {
    let Some(socket) = sockets.first() else { return false };
    let end = Instant::now() + ANSWERS;
    let asked = || -> std::io::Result<usize> {
        let mut stream = TcpStream::connect_timeout(socket, ANSWERS)?;
        stream.set_read_timeout(Some(ANSWERS))?;
        stream.write_all(b"GET / HTTP/1.0\r\n\r\n")?;
        stream.read(&mut [0; 64])
    };
    loop {
        match asked() {
            Ok(read) if read > 0 => return true,
            _ if Instant::now() > end => return false,
            _ => std::thread::sleep(Duration::from_millis(50)),
        }
    }
}

/// The command of the service. Where nothing keeps its messages, it does.
fn command(context: &Context, args: &ServeArgs, manager: ManagerArg) -> Result<Vec<String>, CommandError> {
    let mut words = vec!["serve".to_owned()];
    words.extend(args.addresses.iter().flat_map(|address| ["--listen".to_owned(), address.to_string()]));
    if manager != ManagerArg::Systemd {
        words.extend(["--log".to_owned(), context.machine.places.serve_log().to_string()]);
    }
    jobs::command(context, &words.iter().map(String::as_str).collect::<Vec<_>>())
}

pub(super) fn word(manager: ManagerArg) -> &'static str {
    match manager {
        ManagerArg::Systemd => "systemd",
        ManagerArg::Cron => "cron",
        ManagerArg::Launchd => "launchd",
        ManagerArg::TaskScheduler => "the Task Scheduler",
    }
}

fn service(files: &JobFiles<'_>, manager: ManagerArg) -> String {
    match manager {
        ManagerArg::Systemd => format!("{}.service, in {}", files.name, files.units),
        ManagerArg::Launchd => format!("{}, in {}", files.name, files.agent),
        ManagerArg::Cron | ManagerArg::TaskScheduler => files.name.clone(),
    }
}

/// The place of its messages.
fn log(context: &Context, files: &JobFiles<'_>, manager: ManagerArg) -> String {
    match manager {
        ManagerArg::Systemd if files.is_systems => format!("journalctl -u {}", files.name),
        ManagerArg::Systemd => format!("journalctl --user -u {}", files.name),
        _ => context.machine.places.serve_log().to_string(),
    }
}
