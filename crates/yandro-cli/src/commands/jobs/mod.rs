//! Jobs that the system runs for the user: the timer that renews certificates, and the built-in server as a service.

mod crontab;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Access, Change, ChangeSet, Job, Role, System};
use yandro_machine::{ProgramError, RunAs, files, process};

pub(super) use crontab::Crontab;

use crate::args::ManagerArg;
use crate::as_root::as_root;
use crate::context::Context;
use crate::error::CommandError;

const SYSTEMCTL: [&str; 2] = ["/usr/bin/systemctl", "/bin/systemctl"];
const ENV: &str = "/usr/bin/env";
const LAUNCHCTL: &str = "/bin/launchctl";
const SCHTASKS: &str = "C:\\Windows\\System32\\schtasks.exe";
/// Cron's folder of further tables.
pub(super) const CRON_FOLDER: &str = "/etc/cron.d";
/// Targets whose folders have the links by which systemd starts units.
const TARGETS: [&str; 4] = ["timers.target", "sockets.target", "default.target", "multi-user.target"];
/// The kinds of units that a job may have.
const UNITS: [&str; 3] = ["timer", "socket", "service"];

/// The jobs that yandro knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Renews certificates every day.
    Renewal,
    /// Serves the sites.
    Server,
    /// Resolves the names below sites.
    Names,
}

impl Kind {
    /// Every job.
    pub(super) const ALL: [Self; 3] = [Self::Renewal, Self::Server, Self::Names];
}

/// Paths of a job's files, for each manager of jobs.
pub(super) struct JobFiles<'c> {
    context: &'c Context,
    kind: Kind,
    /// The name of its units, files or task.
    pub(super) name: String,
    /// The folder of units: the user's own, or the system's for root.
    pub(super) units: Utf8PathBuf,
    pub(super) cron: Utf8PathBuf,
    /// The file of launchd's agent.
    pub(super) agent: Utf8PathBuf,
    /// The definition that the Task Scheduler was given.
    task: Utf8PathBuf,
    /// Whether it is a job of the system's own manager.
    pub(super) is_systems: bool,
}

impl<'c> JobFiles<'c> {
    pub(super) fn of(context: &'c Context, kind: Kind) -> Self {
        let machine = &context.machine;
        let is_systems = machine.is_root() && machine.is_real() && System::HERE != System::Windows;
        let base = match kind {
            Kind::Renewal => "yandro-renew",
            Kind::Server => "yandro-serve",
            Kind::Names => "yandro-names",
        };
        // Several users may have such a job among the system's.
        let user = machine.sudo_caller().unwrap_or_else(|| machine.user_id());
        let name = if is_systems { format!("{base}-{user}") } else { base.to_owned() };
        let home = machine.home();
        let (units, agents) = if is_systems {
            (machine.path("/etc/systemd/system"), machine.path("/Library/LaunchDaemons"))
        } else {
            (home.join(".config/systemd/user"), home.join("Library/LaunchAgents"))
        };
        let cron = machine.path(CRON_FOLDER).join(&name);
        let agent = agents.join(format!("{name}.plist"));
        let task = machine.places.data.join(format!("{name}.xml"));
        Self { context, kind, name, units, cron, agent, task, is_systems }
    }

    /// The unit that root installed for this user, which only root can remove.
    pub(super) fn of_root(&self) -> Option<Utf8PathBuf> {
        let machine = &self.context.machine;
        let user = machine.sudo_caller().unwrap_or_else(|| machine.user_id());
        let unit = machine.path("/etc/systemd/system").join(format!("{}-{user}.service", self.name));
        Some(unit).filter(|unit| !self.is_systems && unit.exists())
    }

    fn role(&self) -> Role {
        match self.kind {
            Kind::Renewal => Role::Timer,
            Kind::Server | Kind::Names => Role::Service,
        }
    }

    fn unit(&self, kind: &str) -> Utf8PathBuf {
        self.units.join(format!("{}.{kind}", self.name))
    }

    /// Plans the files of a job.
    pub(super) fn plan(&self, manager: ManagerArg, job: &Job<'_>) -> Result<ChangeSet, CommandError> {
        let mut set = ChangeSet::default();
        let role = self.role();
        let mut file = |path: Utf8PathBuf, text: Vec<u8>| -> Result<(), CommandError> {
            set.folder(role.clone(), parent(&path), Access::Public);
            let content = (files::read_if_there(&path)?, Some(text));
            set.file(role.clone(), path, content, Access::Public);
            Ok(())
        };
        match manager {
            ManagerArg::Systemd => {
                for (name, text) in job.units() {
                    file(self.units.join(name), text.into_bytes())?;
                }
                for (link, target) in job.links() {
                    let link = self.units.join(link);
                    set.folder(role.clone(), parent(&link), Access::Public);
                    let before = files::read_link_if_there(&link)?;
                    set.link(role.clone(), link, before, Some(target.into()));
                }
            }
            ManagerArg::Cron => file(self.cron.clone(), job.cron_file().into_bytes())?,
            ManagerArg::Launchd => file(self.agent.clone(), job.launchd_agent().into_bytes())?,
            ManagerArg::TaskScheduler => {
                let text = job.windows_task(&self.context.machine.user_id().to_string());
                // As the Task Scheduler writes and reads it: UTF-16 with a mark of the byte order.
                let units = std::iter::once(0xfeff).chain(text.encode_utf16());
                file(self.task.clone(), units.flat_map(u16::to_le_bytes).collect())?;
            }
        }
        Ok(set)
    }

    /// Plans to remove all of it.
    pub(super) fn plan_removal(&self) -> Result<ChangeSet, CommandError> {
        let mut set = ChangeSet::default();
        for (target, kind) in TARGETS.iter().flat_map(|target| UNITS.map(|kind| (target, kind))) {
            let link = self.units.join(format!("{target}.wants/{}.{kind}", self.name));
            set.link(self.role(), link.clone(), files::read_link_if_there(&link)?, None);
        }
        let units = UNITS.map(|kind| self.unit(kind));
        for path in units.into_iter().chain([self.cron.clone(), self.agent.clone(), self.task.clone()]) {
            let content = (files::read_if_there(&path)?, None::<Vec<u8>>);
            set.file(self.role(), path, content, Access::Public);
        }
        Ok(set)
    }

    /// The manager that has its files.
    fn manager(&self) -> Option<ManagerArg> {
        if self.unit("service").exists() {
            Some(ManagerArg::Systemd)
        } else if self.agent.exists() {
            Some(ManagerArg::Launchd)
        } else {
            self.task.exists().then_some(ManagerArg::TaskScheduler)
        }
    }

    /// Its units of systemd, the one that starts the other first.
    fn units_that_run(&self) -> Vec<String> {
        let kinds: &[&str] = match self.kind {
            Kind::Renewal => &["timer", "service"],
            Kind::Server => &["socket", "service"],
            Kind::Names => &["service"],
        };
        kinds.iter().map(|kind| format!("{}.{kind}", self.name)).collect()
    }

    /// Whether its files are there.
    pub(super) fn is_installed(&self) -> bool {
        self.manager().is_some() || self.cron.exists()
    }

    /// Has the manager read the files that were written, and starts what they describe.
    ///
    /// # Errors
    /// When it refuses: the job starts with the machine or the next login.
    pub(super) fn start(&self, has_changed: bool) -> Result<(), ProgramError> {
        match self.manager() {
            Some(ManagerArg::Systemd) => {
                self.systemctl(&["daemon-reload"])?;
                if self.kind == Kind::Renewal {
                    return self.systemctl(&["start", &format!("{}.timer", self.name)]);
                }
                let units = self.units_that_run();
                let units: Vec<&str> = units.iter().map(String::as_str).collect();
                if has_changed {
                    _ = self.systemctl(&[&["stop"], &units[..]].concat());
                }
                self.systemctl(&[&["start"], &units[..]].concat())
            }
            Some(ManagerArg::Launchd) => {
                _ = self.launchctl("bootout", &self.name);
                self.launchctl("bootstrap", self.agent.as_str())
            }
            Some(ManagerArg::TaskScheduler) => {
                self.schtasks(&["/Create", "/F", "/TN", &self.name, "/XML", self.task.as_str()])?;
                match self.kind {
                    Kind::Renewal => Ok(()),
                    Kind::Server | Kind::Names => self.schtasks(&["/Run", "/TN", &self.name]),
                }
            }
            Some(ManagerArg::Cron) | None => Ok(()),
        }
    }

    /// Has the manager stop what its files described that are gone now.
    ///
    /// # Errors
    /// When it refuses: the job ends with the session.
    pub(super) fn stop(&self) -> Result<(), ProgramError> {
        let units = self.units_that_run();
        let units: Vec<&str> = units.iter().map(String::as_str).collect();
        let stopped = self.systemctl(&[&["stop"], &units[..]].concat());
        _ = self.systemctl(&["daemon-reload"]);
        _ = self.systemctl(&[&["reset-failed"], &units[..]].concat());
        let stopped = stopped.and_then(|()| self.launchctl("bootout", &self.name));
        _ = self.schtasks(&["/End", "/TN", &self.name]);
        let stopped = stopped.and_then(|()| self.schtasks(&["/Delete", "/F", "/TN", &self.name]));
        match stopped {
            // The manager doesn't know a unit that never started.
            Err(ProgramError::Failed { words, .. }) if words.contains("not loaded") => Ok(()),
            stopped => stopped,
        }
    }

    /// Has the manager stop the server, which stays installed.
    ///
    /// # Errors
    /// When it refuses.
    pub(super) fn pause(&self) -> Result<(), ProgramError> {
        match self.manager() {
            Some(ManagerArg::Systemd) => {
                let units = self.units_that_run();
                let units: Vec<&str> = units.iter().map(String::as_str).collect();
                self.systemctl(&[&["stop"], &units[..]].concat())
            }
            Some(ManagerArg::Launchd) => self.launchctl("bootout", &self.name),
            Some(ManagerArg::TaskScheduler) => self.schtasks(&["/End", "/TN", &self.name]),
            Some(ManagerArg::Cron) | None => Ok(()),
        }
    }

    /// A manager's program, on the system that has it.
    fn program(&self, system: System, candidates: &[&str]) -> Option<Utf8PathBuf> {
        let machine = &self.context.machine;
        let is_here = machine.is_real() && machine.system == system;
        is_here.then(|| process::find(candidates)).flatten()
    }

    /// Runs systemctl, for the user's own systemd or the system's.
    fn systemctl(&self, words: &[&str]) -> Result<(), ProgramError> {
        let Some(program) = self.program(System::Linux, &SYSTEMCTL) else { return Ok(()) };
        let Some(runtime) = self.runtime_folder() else {
            let user = if self.is_systems { &[][..] } else { &["--user"] };
            let words: Vec<&str> = user.iter().chain(words).copied().collect();
            let rights = RunAs::unless(self.is_systems);
            // The user's own systemd is found by variables of the session.
            return ProgramError::check(&program, process::run_with_environment(&program, &words, rights));
        };
        let words: Vec<&str> =
            [&*runtime, program.as_str(), "--user"].into_iter().chain(words.iter().copied()).collect();
        ProgramError::check(&program, process::run_with_environment(Utf8Path::new(ENV), &words, RunAs::Callers))
    }

    /// The variable by which the user's own systemd is found, where the session lacks it, as behind `su`.
    fn runtime_folder(&self) -> Option<String> {
        let folder = format!("/run/user/{}", self.context.machine.user_id());
        let is_missing = !self.is_systems && std::env::var_os("XDG_RUNTIME_DIR").is_none();
        (is_missing && Utf8Path::new(&folder).is_dir()).then(|| format!("XDG_RUNTIME_DIR={folder}"))
    }

    /// Runs launchctl, in the user's own domain or the system's.
    fn launchctl(&self, verb: &str, what: &str) -> Result<(), ProgramError> {
        let Some(program) = self.program(System::MacOs, &[LAUNCHCTL]) else { return Ok(()) };
        let domain =
            if self.is_systems { "system".to_owned() } else { format!("gui/{}", self.context.machine.user_id()) };
        let words = if verb == "bootout" { vec![format!("{domain}/{what}")] } else { vec![domain, what.to_owned()] };
        let words: Vec<&str> = [verb].into_iter().chain(words.iter().map(String::as_str)).collect();
        ProgramError::check(&program, process::run(&program, &words))
    }

    /// Runs the program of Windows that keeps tasks.
    fn schtasks(&self, words: &[&str]) -> Result<(), ProgramError> {
        let Some(program) = self.program(System::Windows, &[SCHTASKS]) else { return Ok(()) };
        ProgramError::check(&program, process::run(&program, words))
    }
}

/// Starts or stops the jobs whose files a change set wrote or removed.
pub(super) fn follow(context: &Context, set: &ChangeSet) {
    for kind in [Kind::Renewal, Kind::Server] {
        let job = JobFiles::of(context, kind);
        let is_its = |path: &Utf8Path| path.file_name().is_some_and(|name| name.starts_with(&job.name));
        let changes = set.steps.iter().any(|step| {
            step.role == job.role() && !matches!(step.change, Change::Folder { .. }) && is_its(step.path())
        });
        if !changes {
            continue;
        }
        // If the manager refuses now, the change counts from the next login on.
        _ = if job.is_installed() { job.start(true) } else { job.stop() };
    }
}

/// The jobs that root installed for this user, each with the command that removes it.
pub(super) fn left_to_root(context: &Context) -> Vec<String> {
    let commands = [
        (Kind::Renewal, &["cert", "renew", "--remove-timer"][..]),
        (Kind::Server, &["serve", "--remove"]),
        (Kind::Names, &["serve", "--names", "--remove"]),
    ];
    let left = commands.into_iter().filter_map(|(kind, command)| {
        let unit = JobFiles::of(context, kind).of_root()?;
        Some(format!("{unit}, which root installed; remove it: {}", as_root(command)))
    });
    left.collect()
}

/// The manager of jobs to use: the named one, or the one that runs here.
pub(super) fn manager_here(context: &Context) -> Option<ManagerArg> {
    let machine = &context.machine;
    if machine.system == System::MacOs {
        Some(ManagerArg::Launchd)
    } else if machine.system == System::Windows {
        Some(ManagerArg::TaskScheduler)
    } else {
        machine.real_path("/run/systemd/system").is_dir().then_some(ManagerArg::Systemd)
    }
}

/// A job's variables: folders that are not in their usual place.
pub(super) fn environment(context: &Context) -> Vec<(&'static str, String)> {
    let caller = context.machine.sudo_caller().map(|uid| ("SUDO_UID", uid.to_string()));
    let own = ["XDG_CONFIG_HOME", "XDG_DATA_HOME"];
    let set = own.into_iter().filter(|_| caller.is_none()).filter_map(|name| Some((name, std::env::var(name).ok()?)));
    let set: Vec<_> = set.filter(|(_, value)| value.starts_with('/')).collect();
    caller.into_iter().chain(set).collect()
}

/// The command of a job: this program with these words, on the same machine.
pub(super) fn command(context: &Context, words: &[&str]) -> Result<Vec<String>, CommandError> {
    let own = std::env::current_exe()
        .map_err(|error| CommandError::not_made(format!("where this program is can't be seen: {error}")))?;
    let own = Utf8PathBuf::from_path_buf(own)
        .map_err(|_| CommandError::not_made("the path of this program is no UTF-8: put it somewhere else"))?;
    let mut command = vec![own.to_string()];
    command.extend(words.iter().map(ToString::to_string));
    if !context.machine.is_real() {
        command.extend(["--sysroot".to_owned(), context.machine.places.sysroot.to_string()]);
    }
    Ok(command)
}

/// Refuses to have root run a program that others can change.
pub(super) fn may_run_as_root(command: &[String], again: &str) -> Result<(), CommandError> {
    match command.first().map(Utf8PathBuf::from).filter(|program| !files::only_root_changes(program)) {
        None => Ok(()),
        Some(program) => Err(CommandError::not_made(format!(
            "root would run {program}, which others than root can change; nothing was changed"
        ))
        .hint(format!("sudo install -m 755 {program} /usr/local/bin/yandro && sudo /usr/local/bin/yandro {again}"))),
    }
}

fn parent(path: &Utf8Path) -> Utf8PathBuf {
    path.parent().map(Utf8Path::to_owned).unwrap_or_default()
}
