//! Testing, starting and reloading nginx.

use std::fs;

use camino::{Utf8Path, Utf8PathBuf};
use rustix::process::{Pid, Signal, kill_process};
use yandro_core::site::ServerId;

use crate::changes::{BroughtUp, ServerControl};
use crate::machine::Machine;
use crate::process;
use crate::servers::{self, Found, run_command};
use crate::settings::NamedServer;

/// The control of the nginx of the real machine.
#[derive(Clone, Debug)]
pub struct Nginx {
    program: Utf8PathBuf,
    main: Utf8PathBuf,
    /// Where systemd runs the machine, it starts and stops its services.
    systemctl: Option<(Utf8PathBuf, &'static str)>,
    pid_file: Utf8PathBuf,
    /// What a person said of it.
    named: Option<NamedServer>,
}

impl Nginx {
    /// The control of an nginx of this machine; `None` if it has no program.
    pub fn of(found: &Found) -> Option<Self> {
        let program = super::program(found)?;
        let systemctl = Utf8Path::new("/run/systemd/system")
            .is_dir()
            .then(|| process::find(&["/usr/bin/systemctl", "/bin/systemctl"]))
            .flatten();
        let known = found.layout.known;
        let is_service = !known.service.is_empty() && found.named.is_none();
        let systemctl = systemctl.filter(|_| is_service).map(|own| (own, known.service));
        let pid_file = super::configuration(found).pid_file.or_else(|| {
            // Where nobody says another, it is as the program was built.
            if known.service.is_empty() { Some(super::report(&program)?.pid_file) } else { None }
        });
        let pid_file = pid_file.unwrap_or_else(|| "/run/nginx.pid".into());
        let main = found.layout.main.clone();
        Some(Self { program, main, systemctl, pid_file, named: found.named.clone() })
    }

    /// The control of the one in a known layout, whatever anybody's settings say.
    pub(crate) fn of_known() -> Option<Self> {
        Self::of(&servers::find(&Machine::bare(), ServerId::Nginx)?)
    }

    /// A command that a person named; `None` if they didn't.
    fn command(&self, which: impl Fn(&NamedServer) -> &Vec<String>) -> Option<&[String]> {
        let command = which(self.named.as_ref()?);
        (!command.is_empty()).then_some(command)
    }

    /// Starts it.
    ///
    /// # Errors
    /// The words of the program that failed.
    pub fn start(&self) -> Result<(), String> {
        if let Some(command) = self.command(|named| &named.start) {
            return run_command(command);
        }
        if let Some((systemctl, service)) = &self.systemctl {
            return Self::run(systemctl, &["start", service]);
        }
        let ran = process::run_starter(&self.program, &["-c", self.main.as_str()])
            .map_err(|error| format!("{}: {error}", self.program))?;
        if ran.succeeded { Ok(()) } else { Err(ran.words) }
    }

    /// Has it take its configuration up, and waits until new workers answer.
    ///
    /// # Errors
    /// When it doesn't run, and the words of the program that failed.
    pub fn reload_and_wait(&self) -> Result<(), String> {
        let pid = self.running().ok_or("it doesn't run")?;
        let before = process::children(pid);
        match self.command(|named| &named.reload) {
            Some(command) => run_command(command)?,
            // The documented signal: new workers take the configuration up, the old ones end
            // when their connections do.
            None => kill_process(pid, Signal::HUP)
                .map_err(|error| format!("process {} could not be told to reload: {error}", pid.as_raw_nonzero()))?,
        }
        wait_for_new(pid, &before);
        Ok(())
    }

    /// The main process, if it runs.
    pub fn running(&self) -> Option<Pid> {
        let pid = fs::read_to_string(&self.pid_file).ok()?.trim().parse().ok()?;
        let command = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
        command.starts_with("nginx").then(|| Pid::from_raw(pid)).flatten()
    }

    /// Stops it, and waits until it is gone.
    ///
    /// # Errors
    /// The words of the program that failed.
    pub fn stop(&self) -> Result<(), String> {
        let Some(pid) = self.running() else { return Ok(()) };
        match (self.command(|named| &named.stop), &self.systemctl) {
            (Some(command), _) => run_command(command)?,
            (None, Some((systemctl, service))) => Self::run(systemctl, &["stop", service])?,
            (None, None) => kill_process(pid, Signal::QUIT)
                .map_err(|error| format!("process {} could not be told to end: {error}", pid.as_raw_nonzero()))?,
        }
        for _ in 0..LOOKS {
            if self.running() != Some(pid) {
                return Ok(());
            }
            std::thread::sleep(PAUSE);
        }
        Err(format!("process {} is still there", pid.as_raw_nonzero()))
    }

    fn run(program: &Utf8Path, arguments: &[&str]) -> Result<(), String> {
        let ran = process::run(program, arguments).map_err(|error| format!("{program}: {error}"))?;
        if ran.succeeded { Ok(()) } else { Err(ran.words) }
    }
}

/// Waits until new workers are there, and the old ones take no more connections: they say so in
/// their titles. A configuration that is refused at the last moment has no new ones.
fn wait_for_new(pid: Pid, before: &[String]) {
    let still_answers = |worker: &String| {
        let title = fs::read(format!("/proc/{worker}/cmdline")).unwrap_or_default();
        !title.is_empty() && !String::from_utf8_lossy(&title).contains("shutting down")
    };
    for _ in 0..LOOKS {
        let has_new = process::children(pid).iter().any(|worker| !before.contains(worker));
        if has_new && !before.iter().any(still_answers) {
            return;
        }
        std::thread::sleep(PAUSE);
    }
}

/// How often, and how long apart, to look for new workers: two seconds at most.
const LOOKS: u32 = 400;
const PAUSE: std::time::Duration = std::time::Duration::from_millis(5);

impl ServerControl for Nginx {
    fn test(&self) -> Result<(), String> {
        match self.command(|named| &named.test) {
            Some(command) => run_command(command),
            None => Self::run(&self.program, &["-t", "-q", "-c", self.main.as_str()]),
        }
    }

    fn is_running(&self) -> bool {
        self.running().is_some()
    }

    fn bring_up(&self) -> Result<BroughtUp, String> {
        if self.running().is_some() {
            return self.reload_and_wait().map(|()| BroughtUp::Reloaded);
        }
        self.start().map(|()| BroughtUp::Started)
    }
}
