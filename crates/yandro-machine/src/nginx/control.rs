//! Testing, starting and reloading nginx.

use std::fs;

use camino::{Utf8Path, Utf8PathBuf};
use rustix::process::{Pid, Signal, kill_process};

use crate::changes::{BroughtUp, ServerControl};
use crate::machine::Machine;
use crate::process;

/// The control of the nginx of the real machine.
#[derive(Clone, Debug)]
pub struct Nginx {
    program: Utf8PathBuf,
    main: Utf8PathBuf,
    /// Where systemd runs the machine, it starts and stops its services.
    systemctl: Option<(Utf8PathBuf, &'static str)>,
    pid_file: Utf8PathBuf,
}

impl Nginx {
    /// The control of the nginx that was found; `None` if it has no program.
    pub fn find(machine: &Machine) -> Option<Self> {
        let layout = super::find_layout(machine)?;
        let program = super::program(&layout)?;
        let systemctl = Utf8Path::new("/run/systemd/system")
            .is_dir()
            .then(|| process::find(&["/usr/bin/systemctl", "/bin/systemctl"]))
            .flatten();
        let systemctl = systemctl.filter(|_| !layout.known.service.is_empty()).map(|own| (own, layout.known.service));
        let named = super::configuration(machine, &layout).pid_file;
        let pid_file = named.unwrap_or_else(|| "/run/nginx.pid".into());
        Some(Self { program, main: layout.main, systemctl, pid_file })
    }

    /// The control of the one in a known layout, whatever anybody's settings say.
    pub(crate) fn of_known() -> Option<Self> {
        Self::find(&Machine::bare())
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
        match &self.systemctl {
            Some((systemctl, service)) => Self::run(systemctl, &["stop", service])?,
            None => kill_process(pid, Signal::QUIT)
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
        Self::run(&self.program, &["-t", "-q", "-c", self.main.as_str()])
    }

    fn is_running(&self) -> bool {
        self.running().is_some()
    }

    fn bring_up(&self) -> Result<BroughtUp, String> {
        if let Some(pid) = self.running() {
            // The documented signal: new workers take the configuration up, the old ones end
            // when their connections do.
            let before = process::children(pid);
            kill_process(pid, Signal::HUP)
                .map_err(|error| format!("process {} could not be told to reload: {error}", pid.as_raw_nonzero()))?;
            wait_for_new(pid, &before);
            return Ok(BroughtUp::Reloaded);
        }
        if let Some((systemctl, service)) = &self.systemctl {
            return Self::run(systemctl, &["start", service]).map(|()| BroughtUp::Started);
        }
        let ran = process::run_starter(&self.program, &["-c", self.main.as_str()])
            .map_err(|error| format!("{}: {error}", self.program))?;
        if ran.succeeded { Ok(BroughtUp::Started) } else { Err(ran.words) }
    }
}
