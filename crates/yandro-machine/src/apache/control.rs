//! Testing, starting, reloading and stopping an Apache httpd.

use std::fs;
use std::os::unix::fs::MetadataExt as _;

use camino::{Utf8Path, Utf8PathBuf};
use rustix::process::{Pid, Signal, kill_process};
use yandro_core::config::Layout;
use yandro_core::httpd::run::Configuration;
use yandro_core::site::ServerId;

use super::{pid_file, start};
use crate::changes::{BroughtUp, ServerControl};
use crate::machine::Machine;
use crate::process::{self, Ran};
use crate::servers::{self, Found, NO_COMMAND, run_command};
use crate::settings::NamedServer;

/// The control of one Apache httpd of the real machine.
#[derive(Clone, Debug)]
pub struct Apache {
    /// The program that takes `-t` and `-k`, with the options that come before.
    control: Vec<String>,
    /// The commands that a person named in the place of the usual ones.
    named: Option<NamedServer>,
    /// Where systemd runs the machine, it starts and stops its services.
    systemd: Option<(Utf8PathBuf, &'static str)>,
    pid_file: Utf8PathBuf,
}

/// The server's program: the one that a person named, or the first usual one that is there.
pub(super) fn program(found: &Found) -> Option<Utf8PathBuf> {
    match found.named.as_ref().and_then(|named| named.program.clone()) {
        Some(program) => program.is_file().then_some(program),
        // Beside the configuration of a bundle lies its own server.
        None => beside(&found.layout).or_else(|| process::find(found.layout.known.programs)).or_else(|| {
            let is_usual = found.layout.known.programs.is_empty();
            if is_usual { process::find(&super::PROGRAMS) } else { None }
        }),
    }
}

fn beside(layout: &Layout) -> Option<Utf8PathBuf> {
    let folder = layout.main.parent()?.parent()?;
    let own = folder.join("bin/httpd");
    own.is_file().then_some(own)
}

/// Whom a process belongs to.
fn owner(pid: &str) -> Option<u32> {
    fs::metadata(format!("/proc/{pid}")).ok().map(|meta| meta.uid())
}

impl Apache {
    /// The control of an Apache httpd of the real machine; `None` if it has no program, and no
    /// commands were named.
    pub fn of(machine: &Machine, found: &Found) -> Option<Self> {
        let has_commands = found.named.as_ref().is_some_and(|named| !named.reload.is_empty());
        let known = found.layout.known;
        let usual = known.control.filter(|control| Utf8Path::new(control).is_file() && found.named.is_none());
        let control = match (usual, program(found)) {
            (Some(control), _) => vec![control.to_owned()],
            (None, Some(program)) => {
                // Some builds look elsewhere by themselves.
                let main = found.layout.main.to_string();
                vec![program.into_string(), "-f".into(), main]
            }
            (None, None) if has_commands => Vec::new(),
            (None, None) => return None,
        };
        let systemctl = Utf8Path::new("/run/systemd/system")
            .is_dir()
            .then(|| process::find(&["/usr/bin/systemctl", "/bin/systemctl"]))
            .flatten();
        let systemd = systemctl.filter(|_| !known.service.is_empty() && found.named.is_none());
        let pid_file = if let Some(path) = known.pid_file {
            path.into()
        } else {
            pid_file(&Configuration::run(&start(machine, found, false), &found.files()))
        };
        Some(Self { control, named: found.named.clone(), systemd: systemd.map(|own| (own, known.service)), pid_file })
    }

    /// The control of the Apache httpd that was found in a known layout, whatever anybody's
    /// settings say.
    pub(crate) fn of_known() -> Option<Self> {
        let machine = Machine::bare();
        Self::of(&machine, &servers::find(&machine, ServerId::Apache)?)
    }

    /// The main process, if it runs.
    pub fn running(&self) -> Option<Pid> {
        let pid = fs::read_to_string(&self.pid_file).ok()?.trim().parse().ok()?;
        let command = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
        let own = self.control.first().and_then(|program| Utf8Path::new(program).file_name()).unwrap_or_default();
        let is_it = ["apache2", "httpd"].iter().any(|name| command.starts_with(name)) || command.trim() == own;
        is_it.then(|| Pid::from_raw(pid)).flatten()
    }

    /// The user of the processes that answer requests, if it runs.
    pub(super) fn answering_user(&self) -> Option<u32> {
        // One that belongs to root writes logs, or nobody has taken its rights away.
        process::children(self.running()?).iter().filter_map(|child| owner(child)).find(|uid| *uid != 0)
    }

    /// Whether it takes root to start and reload it: not for one that this user runs.
    pub fn needs_root(&self) -> bool {
        let own = rustix::process::geteuid();
        match self.running() {
            Some(pid) => !own.is_root() && owner(&pid.as_raw_nonzero().to_string()) != Some(own.as_raw()),
            None => !own.is_root() && self.command(|named| &named.start).is_empty(),
        }
    }

    fn run(command: &[String]) -> Result<(), String> {
        let (program, arguments) = command.split_first().ok_or(NO_COMMAND)?;
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        let ran: Ran =
            process::run(Utf8Path::new(program), &arguments).map_err(|error| format!("{program}: {error}"))?;
        if ran.succeeded { Ok(()) } else { Err(format!("{}: {}", ran.command, ran.words)) }
    }

    /// A command that a person named; empty if they didn't.
    fn command(&self, which: impl Fn(&NamedServer) -> &Vec<String>) -> &[String] {
        self.named.as_ref().map_or(&[], |named| which(named))
    }

    /// The named command, or the program's own way.
    fn do_it(&self, named: &[String], own: &[&str]) -> Result<(), String> {
        if !named.is_empty() {
            return run_command(named);
        }
        if self.control.is_empty() {
            return Err(NO_COMMAND.into());
        }
        let own = own.iter().map(|word| (*word).to_owned());
        Self::run(&self.control.iter().cloned().chain(own).collect::<Vec<_>>())
    }

    fn by_systemd(&self, verb: &str) -> Option<Result<(), String>> {
        let (systemctl, service) = self.systemd.as_ref()?;
        Some(Self::run(&[systemctl.to_string(), verb.to_owned(), (*service).to_owned()]))
    }

    /// Starts the server.
    ///
    /// # Errors
    /// The words of the program that failed.
    pub fn start(&self) -> Result<(), String> {
        let by_systemd = if self.command(|named| &named.start).is_empty() { self.by_systemd("start") } else { None };
        by_systemd.unwrap_or_else(|| self.do_it(self.command(|named| &named.start), &["-k", "start"]))
    }

    /// Has it take its configuration up without cutting connections.
    ///
    /// # Errors
    /// When it doesn't run, and the words of the program that failed.
    pub fn reload(&self) -> Result<(), String> {
        if !self.command(|named| &named.reload).is_empty() {
            return run_command(self.command(|named| &named.reload));
        }
        let pid = self.running().ok_or("it doesn't run")?;
        // The documented signal of a graceful restart. The configuration was
        // tested a moment ago, and `apachectl graceful` would test it again.
        kill_process(pid, Signal::USR1)
            .map_err(|error| format!("process {} could not be told to reload: {error}", pid.as_raw_nonzero()))
    }

    /// Has it take its configuration up, and waits until processes of the new one are there.
    ///
    /// # Errors
    /// As [`Self::reload`].
    pub fn reload_and_wait(&self) -> Result<(), String> {
        let Some(pid) = self.running() else { return self.reload() };
        let before = process::children(pid);
        self.reload()?;
        for _ in 0..LOOKS {
            match self.running() {
                Some(now) if process::children(now).iter().any(|child| !before.contains(child)) => return Ok(()),
                _ => std::thread::sleep(PAUSE),
            }
        }
        match self.running() {
            Some(_) => Ok(()),
            None => Err("it has ended; its error log says why".into()),
        }
    }

    /// Stops it, and waits until it is gone.
    ///
    /// # Errors
    /// The words of the program that failed.
    pub fn stop(&self) -> Result<(), String> {
        let Some(pid) = self.running() else { return Ok(()) };
        let by_systemd = if self.command(|named| &named.stop).is_empty() { self.by_systemd("stop") } else { None };
        by_systemd.unwrap_or_else(|| self.do_it(self.command(|named| &named.stop), &["-k", "stop"]))?;
        for _ in 0..LOOKS {
            if self.running() != Some(pid) {
                return Ok(());
            }
            std::thread::sleep(PAUSE);
        }
        Err(format!("process {} is still there", pid.as_raw_nonzero()))
    }
}

/// How often, and how long apart, to look whether a server has done what it was told.
const LOOKS: u32 = 500;
const PAUSE: std::time::Duration = std::time::Duration::from_millis(20);

impl ServerControl for Apache {
    fn test(&self) -> Result<(), String> {
        self.do_it(self.command(|named| &named.test), &["-t"]).map_err(|words| {
            // Its own words alone, where they say it all.
            words.split_once(": ").map_or(words.clone(), |(_, own)| own.to_owned())
        })
    }

    fn bring_up(&self) -> Result<BroughtUp, String> {
        // A named command may know of a server whose process nobody sees.
        let runs = self.running().is_some() || self.control.is_empty() && self.command(|named| &named.start).is_empty();
        if runs {
            return self.reload().map(|()| BroughtUp::Reloaded);
        }
        self.start().map(|()| BroughtUp::Started)
    }

    fn is_running(&self) -> bool {
        self.running().is_some()
    }

    fn needs_root(&self) -> bool {
        Self::needs_root(self)
    }
}
