//! `yandro cert renew --install-timer` and `--remove-timer`.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Access, ChangeSet, Job, Role, System, TIMER_NAME, wanted_link};
use yandro_machine::{ProgramError, RunAs, files, process};

use super::crontab::Crontab;
use crate::args::{RenewArgs, TimerArg};
use crate::as_root::as_root;
use crate::commands::apply::{Planned, apply, done};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::change::labelled;
use crate::view::{Data, Outcome, STRONG, Ui, data};

const SYSTEMCTL: [&str; 2] = ["/usr/bin/systemctl", "/bin/systemctl"];
/// Cron's folder of further tables.
const CRON_FOLDER: &str = "/etc/cron.d";
const TITLE: &str = "Renew the certificates of the local sites (yandro)";

/// Paths of the timer's files.
pub(in crate::commands) struct Timer {
    /// The folder of units: the user's own, or the system's for root.
    units: Utf8PathBuf,
    cron: Utf8PathBuf,
    /// The file of launchd's agent.
    agent: Utf8PathBuf,
    is_root: bool,
}

impl Timer {
    pub(in crate::commands) fn of(context: &Context) -> Self {
        let machine = &context.machine;
        let is_root = machine.is_root();
        let units = if is_root && machine.is_real() {
            machine.path("/etc/systemd/system")
        } else {
            machine.home().join(".config/systemd/user")
        };
        let agents = if is_root && machine.is_real() {
            machine.path("/Library/LaunchDaemons")
        } else {
            machine.home().join("Library/LaunchAgents")
        };
        let agent = agents.join(format!("{TIMER_NAME}.plist"));
        Self { units, cron: machine.path(CRON_FOLDER).join(TIMER_NAME), agent, is_root }
    }

    fn unit(&self, kind: &str) -> Utf8PathBuf {
        self.units.join(format!("{TIMER_NAME}.{kind}"))
    }

    /// Plans its files; `user` is who the job of cron runs as, unless root installs it.
    fn plan(&self, which: TimerArg, job: &Job<'_>, user: &str) -> Result<ChangeSet, CommandError> {
        let mut set = ChangeSet::default();
        let mut file = |path: Utf8PathBuf, text: String| -> Result<(), CommandError> {
            set.folder(Role::Timer, parent(&path), Access::Public);
            let content = (files::read_if_there(&path)?, Some(text.into_bytes()));
            set.file(Role::Timer, path.clone(), content, Access::Public);
            Ok(())
        };
        match which {
            TimerArg::Systemd => {
                file(self.unit("service"), job.service_unit())?;
                file(self.unit("timer"), job.timer_unit())?;
                let link = wanted_link(&self.units);
                set.folder(Role::Timer, parent(&link), Access::Public);
                let before = files::read_link_if_there(&link)?;
                set.link(Role::Timer, link, before, Some(format!("../{TIMER_NAME}.timer").into()));
            }
            TimerArg::Cron => file(self.cron.clone(), job.cron_file(if self.is_root { "root" } else { user }))?,
            TimerArg::Launchd => file(self.agent.clone(), job.launchd_agent())?,
        }
        Ok(set)
    }

    /// Takes all of it away.
    pub(in crate::commands) fn plan_removal(&self) -> Result<ChangeSet, CommandError> {
        let mut set = ChangeSet::default();
        let link = wanted_link(&self.units);
        set.link(Role::Timer, link.clone(), files::read_link_if_there(&link)?, None);
        for path in [self.unit("timer"), self.unit("service"), self.cron.clone(), self.agent.clone()] {
            set.file(Role::Timer, path.clone(), (files::read_if_there(&path)?, None::<Vec<u8>>), Access::Public);
        }
        Ok(set)
    }

    /// Takes its line out of the user's crontab. Gives whether there was one.
    pub(in crate::commands) fn leave_table(context: &Context) -> Result<bool, CommandError> {
        Crontab::of(context).map_or(Ok(false), |table| table.remove(TITLE))
    }

    /// Whether the user's crontab has its line.
    pub(in crate::commands) fn is_in_table(context: &Context) -> bool {
        Crontab::of(context).is_some_and(|table| table.has(TITLE))
    }

    /// Has systemd read its units again; says what it said if it refused.
    fn systemctl(&self, context: &Context, words: &[&str]) -> Result<(), ProgramError> {
        let program = if context.machine.is_real() { process::find(&SYSTEMCTL) } else { None };
        let Some(program) = program else { return Ok(()) };
        let user = if self.is_root { &[][..] } else { &["--user"] };
        let words: Vec<&str> = user.iter().chain(words).copied().collect();
        // The user's own systemd is found by variables of the session.
        ProgramError::check(&program, process::run_with_environment(&program, &words, RunAs::unless(self.is_root)))
    }
}

/// Loads or unloads the agent; returns launchctl's error.
fn launchctl(context: &Context, verb: &str, is_root: bool, what: &str) -> Result<(), ProgramError> {
    let program = Utf8Path::new("/bin/launchctl");
    if !context.machine.is_real() || !program.is_file() {
        return Ok(());
    }
    let domain = if is_root { "system".to_owned() } else { format!("gui/{}", context.machine.user_id()) };
    let words = if verb == "bootout" { vec![format!("{domain}/{what}")] } else { vec![domain, what.to_owned()] };
    let words: Vec<&str> = [verb].into_iter().chain(words.iter().map(String::as_str)).collect();
    ProgramError::check(program, process::run(program, &words))
}

pub(super) fn install<'c>(context: &'c Context, args: &'c RenewArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let timer = Timer::of(context);
    let machine = &context.machine;
    let which = which(context, args.timer)?;
    let command = command(args.within, context)?;
    let environment: Vec<(&str, String)> =
        machine.sudo_caller().map(|uid| ("SUDO_UID", uid.to_string())).into_iter().collect();
    let job = Job { title: TITLE, command: &command, environment: &environment };
    let own_table = Crontab::of(context).filter(|_| which == TimerArg::Cron);
    let plan = || {
        let set = if own_table.is_some() { ChangeSet::default() } else { timer.plan(which, &job, machine.user())? };
        Ok(Planned { set, starts: false, about: () })
    };
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    if let Some(table) = &own_table {
        table.install(&job)?;
    }
    let refused = match which {
        TimerArg::Systemd if !done.set.is_empty() => timer
            .systemctl(context, &["daemon-reload"])
            .and_then(|()| timer.systemctl(context, &["start", &format!("{TIMER_NAME}.timer")]))
            .err(),
        TimerArg::Launchd if !done.set.is_empty() => {
            launchctl(context, "bootstrap", timer.is_root, timer.agent.as_str()).err()
        }
        _ => None,
    };
    let (installed, how) = match which {
        TimerArg::Systemd => (&timer.units, format!("{TIMER_NAME}.timer of systemd, in {}", timer.units)),
        TimerArg::Cron if own_table.is_some() => (&timer.cron, "a line of your crontab: crontab -l".to_owned()),
        TimerArg::Cron => (&timer.cron, timer.cron.to_string()),
        TimerArg::Launchd => (&timer.agent, format!("an agent of launchd: {}", timer.agent)),
    };
    let installed = if own_table.is_some() { "crontab".to_owned() } else { installed.to_string() };
    let (_, list) = context.list()?;
    let on_system =
        list.sites.iter().filter_map(|site| site.server).any(|id| id.is_configured() && context.present().is_here(id));
    let needs_root = !timer.is_root && on_system && machine.is_real();
    let data = Installed { installed: vec![installed], command };
    Ok(Outcome::new(data, move |data, ui| {
        ui.say(&format!(
            "{STRONG}certificates are renewed every day{STRONG:#}, those that end within {} days",
            args.within
        ));
        ui.say(&labelled(&[
            ("timer", how),
            ("runs", data.command.join(" ")),
            ("take it away", "yandro cert renew --remove-timer".into()),
        ]));
        if let Some(words) = refused {
            ui.note(&format!("it begins at your next login, since it could not be started now: {words}"));
        }
        if needs_root {
            let command = as_root(&["cert", "renew", "--install-timer"]);
            ui.note(&format!("only root can reload your web server, and a timer can't ask for a password. Install the timer as root: {command}"));
        }
    }))
}

/// The timer to install: the named one, or the one that runs here.
fn which(context: &Context, named: Option<TimerArg>) -> Result<TimerArg, CommandError> {
    let machine = &context.machine;
    match named {
        Some(which) => Ok(which),
        None if machine.system == System::MacOs => Ok(TimerArg::Launchd),
        None if machine.real_path("/run/systemd/system").is_dir() => Ok(TimerArg::Systemd),
        None if machine.real_path(CRON_FOLDER).is_dir() || Crontab::of(context).is_some() => Ok(TimerArg::Cron),
        None if System::HERE == System::Windows => Err(CommandError::not_made("yandro makes no timer on Windows yet")
            .hint("have Windows do it: schtasks /Create /SC DAILY /TN yandro /TR \"yandro cert renew --quiet\"")),
        None => Err(CommandError::not_made("neither systemd nor cron runs here")
            .hint("install cron, or have `yandro cert renew` run daily by whatever this system has for that")
            .hint("or write one of them all the same: --timer systemd, --timer cron")),
    }
}

data! {
    /// Data of `yandro cert renew --install-timer`.
    struct Installed {
        /// The file, or the folder of systemd's units.
        installed: Vec<String>,
        /// The command to run.
        command: Vec<String>,
    }

    /// Data of `yandro cert renew --remove-timer`.
    struct Removed {
        /// Whether there was one.
        removed: bool,
    }
}

impl Data for Installed {}
impl Data for Removed {}

pub(super) fn remove<'c>(context: &'c Context, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let timer = Timer::of(context);
    let plan = || Ok(Planned { set: timer.plan_removal()?, starts: false, about: () });
    let is_running = timer.unit("timer").exists() && !context.preview;
    if is_running {
        _ = timer.systemctl(context, &["stop", &format!("{TIMER_NAME}.timer")]);
    }
    if timer.agent.exists() && !context.preview {
        _ = launchctl(context, "bootout", timer.is_root, TIMER_NAME);
    }
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    if is_running {
        _ = timer.systemctl(context, &["daemon-reload"]);
    }
    let was_in_table = Timer::leave_table(context)?;
    Ok(Outcome::new(Removed { removed: was_in_table || !done.set.is_empty() }, |data, ui| {
        ui.say(if data.removed {
            "certificates are no longer renewed by a timer"
        } else {
            "yandro has no timer here; nothing was changed"
        });
    }))
}

/// The command of the timer: this program.
fn command(within: i64, context: &Context) -> Result<Vec<String>, CommandError> {
    let own = std::env::current_exe()
        .map_err(|error| CommandError::not_made(format!("where this program is can't be seen: {error}")))?;
    let own = Utf8PathBuf::from_path_buf(own)
        .map_err(|_| CommandError::not_made("the path of this program is no UTF-8: put it somewhere else"))?;
    let mut command = vec![own.to_string(), "cert".into(), "renew".into(), "--quiet".into()];
    if within != yandro_core::RENEW_DAYS {
        command.extend(["--within".to_owned(), within.to_string()]);
    }
    if let Some(file) = &context.passphrase_file {
        command.extend(["--passphrase-file".to_owned(), file.to_string()]);
    }
    if !context.machine.is_real() {
        command.extend(["--sysroot".to_owned(), context.machine.places.sysroot.to_string()]);
    }
    Ok(command)
}

fn parent(path: &Utf8Path) -> Utf8PathBuf {
    path.parent().map(Utf8Path::to_owned).unwrap_or_default()
}
