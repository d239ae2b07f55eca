//! `yandro cert renew --install-timer` and `--remove-timer`.

use yandro_core::{ChangeSet, Job, System, When};

use crate::args::{ManagerArg, RenewArgs};
use crate::as_root::as_root;
use crate::commands::apply::{Planned, apply, done};
use crate::commands::jobs::{self, CRON_FOLDER, Crontab, JobFiles, Kind};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::change::labelled;
use crate::view::{Data, Outcome, STRONG, Ui, data};

const TITLE: &str = "Renew the certificates of the local sites (yandro)";

/// Takes its line out of the user's crontab. Gives whether there was one.
pub(in crate::commands) fn leave_table(context: &Context) -> Result<bool, CommandError> {
    Crontab::of(context).map_or(Ok(false), |table| table.remove(TITLE))
}

/// Whether the user's crontab has its line.
pub(in crate::commands) fn is_in_table(context: &Context) -> bool {
    Crontab::of(context).is_some_and(|table| table.has(TITLE))
}

pub(super) fn install<'c>(context: &'c Context, args: &'c RenewArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let files = JobFiles::of(context, Kind::Renewal);
    let machine = &context.machine;
    let manager = manager(context, args.timer)?;
    let command = command(args.within, context)?;
    if files.is_systems {
        jobs::may_run_as_root(&command, "cert renew --install-timer")?;
    }
    let environment = jobs::environment(context);
    // In cron's folder a line names its user; the system's systemd and launchd run it as root.
    let user = (manager == ManagerArg::Cron && !files.is_systems).then(|| machine.user());
    let job =
        Job { name: &files.name, title: TITLE, command: &command, environment: &environment, user, when: When::Daily };
    let own_table = Crontab::of(context).filter(|_| manager == ManagerArg::Cron);
    let plan = || {
        let set = if own_table.is_some() { ChangeSet::default() } else { files.plan(manager, &job)? };
        Ok(Planned { set, starts: false, about: () })
    };
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    if let Some(table) = &own_table {
        table.install(&job)?;
    }
    let refused = files.start(!done.set.is_empty()).err();
    let (installed, how) = match manager {
        ManagerArg::Systemd => {
            (files.units.to_string(), format!("{}.timer of systemd, in {}", files.name, files.units))
        }
        ManagerArg::Cron if own_table.is_some() => {
            ("crontab".to_owned(), "a line of your crontab: crontab -l".to_owned())
        }
        ManagerArg::Cron => (files.cron.to_string(), files.cron.to_string()),
        ManagerArg::Launchd => (files.agent.to_string(), format!("an agent of launchd: {}", files.agent)),
        ManagerArg::TaskScheduler => (files.name.clone(), format!("the task {} of the Task Scheduler", files.name)),
    };
    let (_, list) = context.list()?;
    let on_system =
        list.sites.iter().filter_map(|site| site.server).any(|id| id.is_configured() && context.present().is_here(id));
    let needs_root = !files.is_systems && on_system && machine.is_real() && System::HERE != System::Windows;
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

/// The manager of the timer: the named one, or the one that runs here.
fn manager(context: &Context, named: Option<ManagerArg>) -> Result<ManagerArg, CommandError> {
    let is_windows = context.machine.system == System::Windows;
    if named.is_some_and(|named| (named == ManagerArg::TaskScheduler) != is_windows) {
        let what = if is_windows {
            "on Windows only the Task Scheduler runs timers"
        } else {
            "only Windows has a Task Scheduler"
        };
        return Err(CommandError::usage(what).hint("leave `--timer` out, to have the timer that this system has"));
    }
    let has_cron = || context.machine.real_path(CRON_FOLDER).is_dir() || Crontab::of(context).is_some();
    let here = named.or_else(|| jobs::manager_here(context)).or_else(|| has_cron().then_some(ManagerArg::Cron));
    here.ok_or_else(|| {
        CommandError::not_made("neither systemd nor cron runs here")
            .hint("install cron, or have `yandro cert renew` run daily by whatever this system has for that")
            .hint("or write one of them all the same: --timer systemd, --timer cron")
    })
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
    let files = JobFiles::of(context, Kind::Renewal);
    let plan = || Ok(Planned { set: files.plan_removal()?, starts: false, about: () });
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    if !done.set.is_empty() {
        // A timer without its files ends with the session.
        _ = files.stop();
    }
    let was_in_table = leave_table(context)?;
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
    let days = within.to_string();
    let mut words = vec!["cert", "renew", "--quiet"];
    if within != yandro_core::RENEW_DAYS {
        words.extend(["--within", &days]);
    }
    if let Some(file) = &context.passphrase_file {
        words.extend(["--passphrase-file", file.as_str()]);
    }
    jobs::command(context, &words)
}
