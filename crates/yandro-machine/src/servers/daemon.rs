//! Testing, starting, reloading and stopping a web server of this machine, and waiting until it
//! has done so.

use std::time::{Duration, Instant};
use std::{fs, io};

use camino::{Utf8Path, Utf8PathBuf};

use super::found::Found;
use super::generation::Generation;
use super::kinds::Tell;
use super::wait::Wait;
use super::words::{holds_what_it_wants, last_words, with_journal};
use super::{DaemonKind, run_command};
use crate::changes::{ControlError, OnWait, ServerAction, ServerControl};
use crate::files;
use crate::machine::Machine;
use crate::os::{self, Process, UserId};
use crate::process;
use crate::process::{ProgramError, RunAs};
use crate::settings::NamedServer;

/// The control of one server of the real machine.
#[derive(Clone, Debug)]
pub struct Daemon {
    pub(super) kind: &'static DaemonKind,
    /// The machine that it is on, and where it was found.
    pub(super) of: Box<(Machine, Found)>,
    /// The program with the arguments that come before all others; empty where only commands of
    /// the user's own are known.
    pub(crate) program: Vec<String>,
    /// The commands that the user named instead of the usual ones.
    pub(crate) named: Option<NamedServer>,
    /// `systemctl` and the service, where systemd runs the machine.
    pub(crate) service: Option<(Utf8PathBuf, &'static str)>,
    /// The name of the service of Windows's that runs it, with the option that says it.
    pub(crate) windows_service: Option<(&'static str, String)>,
    pub(crate) pid_file: Utf8PathBuf,
}

/// How long one without child processes, of which nothing else can be seen, has to be idle after a
/// reload.
const ALONE_LIMIT: Duration = Duration::from_millis(300);
/// How long old workers of a server without titles may go on after a reload, until it counts as done.
const OLD_LIMIT: Duration = Duration::from_secs(5);
/// How often in a row a server has to be seen idle.
const IDLE_LOOKS: u32 = 3;

impl Daemon {
    /// The `systemctl` program, where systemd runs this machine and starts its services.
    pub(crate) fn systemctl() -> Option<Utf8PathBuf> {
        let runs = Utf8Path::new("/run/systemd/system").is_dir();
        if runs { process::find(&["/usr/bin/systemctl", "/bin/systemctl"]) } else { None }
    }

    /// The main process, if it runs.
    pub fn running(&self) -> Option<i32> {
        let pid = fs::read_to_string(&self.pid_file).ok()?.trim().parse().ok()?;
        let Process { name, user, is_alive, .. } = os::process(pid)?;
        let program = self.program.first().and_then(|program| Utf8Path::new(program).file_name()).unwrap_or_default();
        let is_of_kind = self.kind.processes.iter().any(|own| name.starts_with(own));
        // A user's program name must not make root signal one of root's processes.
        let is_roots = os::is_roots(user) && os::is_root();
        let is_it = is_of_kind || name == program && !(is_roots && self.is_users());
        // A process that ended still has a name until its parent waits for it; in containers without an init, forever.
        (is_it && is_alive).then_some(pid)
    }

    /// The user of the processes that answer requests, if it runs. Children of root's write logs,
    /// or haven't given their rights up yet.
    pub(crate) fn answering_user(&self) -> Option<UserId> {
        let children = os::children(self.running()?);
        children.into_iter().filter_map(|child| Some(os::process(child)?.user)).find(|uid| !os::is_roots(*uid))
    }

    fn run_named(&self, command: &[String]) -> Result<(), ControlError> {
        run_command(self.named.as_ref().ok_or(ControlError::NoCommand)?, command)
    }

    /// With whose rights a program runs: one that a user's settings name and that others than root can change gets
    /// those of the user who called sudo.
    fn rights(&self, program: &Utf8Path) -> RunAs {
        RunAs::unless(!self.is_users() || os::is_roots_file(program))
    }

    /// The program or main file, if others than root can change it.
    pub(super) fn changed_by_others(&self) -> Option<Utf8PathBuf> {
        let program = self.program.first().map(Utf8PathBuf::from);
        let mut files = program.into_iter().chain([self.of.1.layout.main.clone()]);
        files.find(|file| !files::only_root_changes(file))
    }

    /// Whether the server comes from a user's settings.
    fn is_users(&self) -> bool {
        self.named.as_ref().is_some_and(|named| !named.is_systems)
    }

    /// A command that the user named; empty if they didn't.
    fn command(&self, which: impl Fn(&NamedServer) -> &Vec<String>) -> &[String] {
        self.named.as_ref().map_or(&[], |named| which(named))
    }

    fn arguments(&self, more: &[&'static str]) -> Vec<&str> {
        self.program.iter().skip(1).map(String::as_str).chain(more.iter().copied()).collect()
    }

    /// The arguments that tell a running server something, or start one: for a service only those and its name.
    fn telling(&self, arguments: &[&'static str]) -> Vec<&str> {
        match &self.windows_service {
            Some((option, name)) => arguments.iter().copied().chain([*option, name.as_str()]).collect(),
            None => self.arguments(arguments),
        }
    }

    /// Tells the running server something.
    fn tell(&self, pid: i32, tell: Tell, what: &'static str) -> Result<(), ControlError> {
        match tell {
            Tell::Signal(signal) => os::send(pid, signal).map_err(|source| ControlError::Signal { pid, what, source }),
            Tell::Arguments(arguments) => {
                let program = Utf8Path::new(self.program.first().ok_or(ControlError::NoCommand)?);
                ended(program, process::run_server(program, &self.telling(arguments), self.rights(program)))
            }
        }
    }

    /// Waits until a server without process titles has a worker, since its first worker would look like the one of the next
    /// reload. Gives up after the time that old workers have.
    fn wait_for_workers(&self, wait: &mut Wait<'_>) {
        let began = Instant::now();
        let has_none = || self.generation().is_none_or(|now| now.children.is_empty());
        while !self.kind.has_titles && has_none() && began.elapsed() < OLD_LIMIT && wait.goes_on() {}
    }

    fn generation(&self) -> Option<Generation> {
        let pid = self.running()?;
        let written = if self.kind.writes_pid_file { os::stamp(&self.pid_file) } else { None };
        Some(Generation { pid, written, children: os::children(pid) })
    }

    /// Whether `now` is a later generation than `before`, and answers requests.
    fn is_later(&self, before: &Generation, now: &Generation) -> bool {
        let has_new = before.is_followed_by(now);
        if now.pid != before.pid {
            return has_new || !now.children.is_empty();
        }
        if self.kind.writes_pid_file {
            return has_new && now.written != before.written;
        }
        // Workers of the old one say in their titles that they take no more connections, or they end.
        let takes = |child: &&i32| if self.kind.has_titles { takes_connections(**child) } else { is_alive(**child) };
        has_new && before.children.iter().find(takes).is_none()
    }

    /// Sends the reload and waits until the server runs on the files as they are now.
    fn reload_running(&self, before: &Generation, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        let command = self.command(|named| &named.reload);
        if command.is_empty() {
            self.tell(before.pid, self.kind.reload, "reload")?;
        } else {
            self.run_named(command)?;
        }
        let mut wait = Wait::new(on_wait, format!("{} to finish its reload", self.kind.kind));
        let mut idle_since: Option<Instant> = None;
        let mut new_since: Option<Instant> = None;
        loop {
            let now = self.generation();
            // A long answer keeps an old worker, which nothing shows where it has no title.
            let has_new = !self.kind.has_titles && now.as_ref().is_some_and(|now| before.is_followed_by(now));
            new_since = if has_new { new_since.or(Some(Instant::now())) } else { None };
            if new_since.is_some_and(|since| since.elapsed() > OLD_LIMIT) {
                return Ok(());
            }
            match now {
                Some(now) if self.is_later(before, &now) => return Ok(()),
                Some(now) => {
                    let is_idle = os::is_idle(now.pid).unwrap_or(false);
                    idle_since = if is_idle { idle_since.or(Some(Instant::now())) } else { None };
                }
                // A restart by a command of the user's own has a moment without a process.
                None if command.is_empty() && !is_alive(before.pid) => return Err(ControlError::Ended),
                None => {}
            }
            let idle_for = idle_since.map(|since| since.elapsed()).unwrap_or_default();
            if before.children.is_empty() && idle_for > ALONE_LIMIT {
                return Ok(());
            }
            if idle_for > self.kind.idle_limit {
                return Err(ControlError::KeptOld);
            }
            if !wait.goes_on() {
                return Err(if self.running().is_some() { ControlError::KeptOld } else { ControlError::Ended });
            }
        }
    }

    /// The reload, or a restart where the log says that the server itself holds the address that it can't have.
    fn reload_or_restart(&self, before: &Generation, on_wait: OnWait<'_>) -> Result<ServerAction, ControlError> {
        match self.reload_running(before, on_wait) {
            Ok(()) => Ok(ServerAction::Reloaded),
            Err(ControlError::KeptOld) => {
                let (machine, found) = &*self.of;
                let Some(words) = last_words(machine, found, before.pid) else { return Err(ControlError::KeptOld) };
                if !holds_what_it_wants(before.pid, &words) {
                    return Err(ControlError::KeptOldSaying(words));
                }
                self.stop(on_wait)?;
                self.start_stopped(on_wait).map(|()| ServerAction::Restarted)
            }
            Err(error) => Err(error),
        }
    }

    /// Removes the pid file of a server that ended and whose parent never waited for it, as in a
    /// container without an init: httpd takes that process for a running server, and doesn't start.
    fn remove_stale_pid_file(&self) {
        let pid = fs::read_to_string(&self.pid_file).ok().and_then(|text| text.trim().parse().ok());
        if pid.and_then(os::process).is_some_and(|found| !found.is_alive) {
            // If this user can't remove it, the server's own message tells why.
            _ = fs::remove_file(&self.pid_file);
        }
    }

    /// Starts it and waits until it runs.
    fn start_stopped(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        let command = self.command(|named| &named.start);
        if !command.is_empty() {
            self.run_named(command)?;
        } else if let Some((systemctl, service)) = &self.service {
            run_program(systemctl, &["start", service]).map_err(|error| with_journal(error, service))?;
        } else {
            let program = Utf8Path::new(self.program.first().ok_or(ControlError::NoCommand)?);
            self.remove_stale_pid_file();
            let is_up = || self.running().is_some();
            let of_service = self.kind.service_option.filter(|_| self.windows_service.is_some());
            let start = of_service.map_or(self.kind.start, |(_, start)| start);
            let ran = process::run_starter(program, &self.telling(start), self.rights(program), is_up)
                .map_err(|source| ProgramError::NotRun { program: program.to_string(), source })?;
            if !ran.succeeded {
                return Err(ControlError::Said(said(&ran)));
            }
        }
        let mut wait = Wait::new(on_wait, format!("{} to start", self.kind.kind));
        self.wait_for_workers(&mut wait);
        while self.generation().is_none_or(|now| now.children.is_empty() && now.written.is_some()) {
            if !wait.goes_on() {
                return Err(ControlError::NotUp);
            }
        }
        Ok(())
    }
}

impl ServerControl for Daemon {
    fn test(&self) -> Result<(), ControlError> {
        let command = self.command(|named| &named.test);
        if !command.is_empty() {
            return self.run_named(command);
        }
        let program = Utf8Path::new(self.program.first().ok_or(ControlError::NoCommand)?);
        let ran = process::run_server(program, &self.arguments(self.kind.test), self.rights(program));
        ended(program, ran)
    }

    fn is_running(&self) -> bool {
        self.running().is_some()
    }

    fn needs_root(&self) -> bool {
        if os::is_root() {
            return false;
        }
        if let Some(pid) = self.running() {
            return os::process(pid).is_none_or(|found| found.user != os::this_user());
        }
        let is_roots = self.kind.is_started_by_root || self.windows_service.is_some();
        is_roots && self.command(|named| &named.start).is_empty()
    }

    fn wait_until_idle(&self, on_wait: OnWait<'_>) {
        let Some(pid) = self.running() else { return };
        let mut wait = Wait::new(on_wait, format!("{} to finish an earlier reload", self.kind.kind));
        self.wait_for_workers(&mut wait);
        let mut idle = 0;
        // With `hidepid` the state can't be seen: don't wait then.
        while let Some(is_idle) = os::is_idle(pid) {
            idle = if is_idle { idle + 1 } else { 0 };
            if idle == IDLE_LOOKS || !wait.goes_on() {
                return;
            }
        }
    }

    fn reload(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        self.wait_until_idle(on_wait);
        match self.generation() {
            Some(before) => self.reload_or_restart(&before, on_wait).map(|_| ()),
            // A named command may know of a server whose process can't be seen.
            None if !self.command(|named| &named.reload).is_empty() => {
                self.run_named(self.command(|named| &named.reload))
            }
            None => Err(ControlError::NotRunning),
        }
    }

    fn start_or_reload(&self, on_wait: OnWait<'_>) -> Result<ServerAction, ControlError> {
        let is_unseen = self.program.is_empty() && self.command(|named| &named.start).is_empty();
        if self.running().is_some() || is_unseen {
            self.wait_until_idle(on_wait);
            return match self.generation() {
                Some(before) => self.reload_or_restart(&before, on_wait),
                None => self.reload(on_wait).map(|()| ServerAction::Reloaded),
            };
        }
        self.start_stopped(on_wait).map(|()| ServerAction::Started)
    }

    fn start(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        if self.running().is_some() { Ok(()) } else { self.start_stopped(on_wait) }
    }

    fn stop(&self, on_wait: OnWait<'_>) -> Result<(), ControlError> {
        let Some(pid) = self.running() else { return Ok(()) };
        self.wait_until_idle(on_wait);
        let command = self.command(|named| &named.stop);
        match &self.service {
            _ if !command.is_empty() => self.run_named(command)?,
            Some((systemctl, service)) => run_program(systemctl, &["stop", service])?,
            None => self.tell(pid, self.kind.stop, "end")?,
        }
        let mut wait = Wait::new(on_wait, format!("{} to end", self.kind.kind));
        // httpd removes its pid file before it gives its ports back.
        while self.running() == Some(pid) || is_alive(pid) {
            if !wait.goes_on() {
                return Err(ControlError::StillRuns(pid));
            }
        }
        Ok(())
    }
}

/// Whether there is such a process, and it hasn't ended.
fn is_alive(pid: i32) -> bool {
    os::process(pid).is_some_and(|found| found.is_alive)
}

/// Whether a worker of nginx's is there and takes connections.
fn takes_connections(worker: i32) -> bool {
    let title = os::command_line(worker).unwrap_or_default().join(" ");
    !title.is_empty() && !title.contains("shutting down")
}

fn run_program(program: &Utf8Path, arguments: &[&str]) -> Result<(), ControlError> {
    ended(program, process::run(program, arguments))
}

fn ended(program: &Utf8Path, ran: io::Result<process::Ran>) -> Result<(), ControlError> {
    let ran = ran.map_err(|source| ProgramError::NotRun { program: program.to_string(), source })?;
    if ran.succeeded { Ok(()) } else { Err(ControlError::Said(said(&ran))) }
}

/// The output of a program that failed; its command line, if it printed nothing.
fn said(ran: &process::Ran) -> String {
    if ran.words.is_empty() { format!("`{}` failed without a message", ran.command) } else { ran.words.clone() }
}

#[cfg(test)]
mod tests {
    use yandro_core::{Layout, ServerId, ServerKind, System};

    use super::*;

    #[test]
    fn a_service_of_windows_is_told_by_its_name() {
        let machine = Machine::bare();
        let layout = Layout::of_folder(Utf8Path::new("/web/conf"));
        let found = Found::known(ServerId::Found(ServerKind::Apache), ServerKind::Apache, layout, &machine);
        let mut daemon = Daemon {
            kind: DaemonKind::of(ServerKind::Apache, System::Windows),
            of: Box::new((machine, found)),
            program: ["httpd.exe", "-f", "C:/web/httpd.conf"].map(str::to_owned).to_vec(),
            named: None,
            service: None,
            windows_service: None,
            pid_file: "/web/logs/httpd.pid".into(),
        };
        assert_eq!(daemon.telling(&["-k", "restart"]), ["-f", "C:/web/httpd.conf", "-k", "restart"]);
        daemon.windows_service = Some(("-n", "Apache2.4".to_owned()));
        assert_eq!(daemon.telling(&["-k", "restart"]), ["-k", "restart", "-n", "Apache2.4"]);
    }
}
