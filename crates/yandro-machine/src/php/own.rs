//! The php-fpm that the built-in server runs itself, with the rights of its user: nobody else's pool is needed, and no
//! root.

use std::io;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use camino::Utf8PathBuf;
use yandro_core::FastCgi;

use super::installed::program_of;
use super::programs::programs;
use crate::machine::Machine;
use crate::os::{self, Signal};
use crate::process;

/// How long it may take to end.
const PATIENCE: Duration = Duration::from_secs(3);
/// How long to wait before one that ended is started again.
const PAUSE: Duration = Duration::from_secs(2);

/// The address of the php-fpm that the built-in server runs: of a version such as `8.2`, or of the highest. `None` if no
/// such program is installed.
pub fn own_address(machine: &Machine, version: Option<&str>) -> Option<FastCgi> {
    let name = match version {
        Some(version) => program_of(machine, version).map(|_| format!("fpm-{version}"))?,
        None => programs(machine).first().map(|_| "fpm".to_owned())?,
    };
    Some(FastCgi::Socket(folder(machine).join(format!("{name}.sock")).into_string().into()))
}

fn folder(machine: &Machine) -> Utf8PathBuf {
    machine.places.data.join("php")
}

/// Those that run, each for one address. They end when this is dropped.
#[derive(Debug)]
pub struct OwnPhp<'m> {
    machine: &'m Machine,
    all: Vec<Kept>,
}

#[derive(Debug)]
struct Kept {
    address: FastCgi,
    /// `None` when it couldn't be started.
    child: Option<Child>,
    began: Instant,
}

impl<'m> OwnPhp<'m> {
    /// None yet.
    pub fn new(machine: &'m Machine) -> Self {
        Self { machine, all: Vec::new() }
    }

    /// Has those run whose address is among these, and no others. One that ended is started again. Gives what went wrong,
    /// once for each try.
    pub fn keep(&mut self, addresses: &[FastCgi]) -> Vec<String> {
        let mut faults = Vec::new();
        self.all.retain_mut(|kept| {
            let is_wanted = addresses.contains(&kept.address);
            if !is_wanted && let Some(child) = &mut kept.child {
                process::end(child, PATIENCE);
            }
            is_wanted
        });
        for address in addresses {
            let Some((socket, version)) = self.own(address) else { continue };
            let known = self.all.iter_mut().find(|kept| kept.address == *address);
            let rests = known.as_ref().is_some_and(|kept| kept.began.elapsed() <= PAUSE);
            if rests || known.is_some_and(|kept| !kept.has_ended()) {
                continue;
            }
            let child = start(self.machine, &socket, version.as_deref());
            let child =
                child.map_err(|error| faults.push(format!("php-fpm for {address} can't be started: {error}"))).ok();
            self.all.retain(|kept| kept.address != *address);
            self.all.push(Kept { address: address.clone(), child, began: Instant::now() });
        }
        faults
    }

    /// The socket and the version of an address of ours.
    fn own(&self, address: &FastCgi) -> Option<(Utf8PathBuf, Option<String>)> {
        let FastCgi::Socket(socket) = address else { return None };
        let socket = Utf8PathBuf::from(socket.as_str());
        let name = socket.strip_prefix(folder(self.machine)).ok()?.as_str().strip_suffix(".sock")?.to_owned();
        match name.strip_prefix("fpm")? {
            "" => Some((socket, None)),
            version => Some((socket, Some(version.strip_prefix('-')?.to_owned()))),
        }
    }
}

impl Kept {
    fn has_ended(&mut self) -> bool {
        self.child.as_mut().is_none_or(|child| !matches!(child.try_wait(), Ok(None)))
    }
}

impl Drop for OwnPhp<'_> {
    fn drop(&mut self) {
        for child in self.all.iter_mut().filter_map(|kept| kept.child.as_mut()) {
            process::end(child, PATIENCE);
        }
    }
}

fn start(machine: &Machine, socket: &Utf8PathBuf, version: Option<&str>) -> io::Result<Child> {
    let program = match version {
        Some(version) => program_of(machine, version),
        None => programs(machine).into_iter().next(),
    };
    let program = program.ok_or_else(|| io::Error::new(io::ErrorKind::NotFound, "it is not installed"))?;
    end_former(&socket.with_extension("pid"));
    let file = socket.with_extension("conf");
    machine.write_private(&file, configuration(machine, socket).as_bytes()).map_err(io::Error::other)?;
    let mut command = Command::new(program.path());
    command.args(["--nodaemonize", "--fpm-config", file.as_str()]);
    if os::is_root() {
        // The server that asks it has root's rights, too.
        command.arg("--allow-to-run-as-root");
    }
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn()
}

/// Its configuration: processes come as they are needed, and nobody else may ask them. A file that was edited counts
/// from the next request on; PHP itself looks every two seconds.
fn configuration(machine: &Machine, socket: &Utf8PathBuf) -> String {
    let pid = socket.with_extension("pid");
    let log = machine.places.data.join("logs/php-fpm.log");
    let user = if os::is_root() { "user = root\ngroup = root\n" } else { "" };
    format!(
        "; Made by yandro for the built-in server, anew each time it starts.\n[global]\npid = {pid}\nerror_log = {log}\n\
         log_limit = 8192\n\n[yandro]\n{user}listen = {socket}\nlisten.mode = 0600\npm = ondemand\npm.max_children = 10\n\
         pm.process_idle_timeout = 30s\nphp_value[opcache.revalidate_freq] = 0\n"
    )
}

/// Ends the one that a killed server left behind: it has the socket.
fn end_former(pid: &Utf8PathBuf) {
    let Ok(text) = std::fs::read_to_string(pid) else { return };
    let Ok(number) = text.trim().parse::<i32>() else { return };
    if process::program(number).is_some_and(|path| path.file_name().is_some_and(|name| name.starts_with("php-fpm"))) {
        // It may be another user's by now, who keeps it.
        _ = os::send(number, Signal::Term);
        let began = Instant::now();
        while process::program(number).is_some() && began.elapsed() < PATIENCE {
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}
