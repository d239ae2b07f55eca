//! Servers that run and that yandro doesn't know yet: a bundle in a folder, by its process.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{ServerKind, ServerPath, shell_word};

use super::kinds::DaemonKind;
use super::present::Present;
use super::program::report;
use crate::machine::Machine;
use crate::os::{self, Process};
use crate::process;

/// A server that runs, and that is in no known layout and in nobody's settings.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunningServer {
    /// Its kind.
    pub kind: ServerKind,
    /// Its program.
    pub program: Utf8PathBuf,
    /// Its main file.
    pub config: Utf8PathBuf,
    /// The number of its main process.
    pub pid: i32,
    /// The user who runs it.
    pub user: String,
}

impl RunningServer {
    /// A name for it: that of the folder that it is in.
    pub fn name(&self) -> String {
        const USUAL: [&str; 7] = ["conf", "etc", "apache", "apache2", "httpd", "nginx", "bin"];
        let folders = self.config.ancestors().skip(1).filter_map(Utf8Path::file_name);
        let is_name = |name: &&str| name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
        folders.into_iter().find(|name| !USUAL.contains(name) && is_name(name)).unwrap_or("bundle").to_owned()
    }

    /// The command that has yandro know it.
    pub fn to_add(&self) -> String {
        let name = self.name();
        let [config, program] = [&self.config, &self.program].map(|path| shell_word(path.as_str()));
        format!("yandro servers add {name} --config {config} --program {program}")
    }
}

/// Every such server.
pub fn running(machine: &Machine, present: &Present) -> Vec<RunningServer> {
    if !machine.is_real() {
        return Vec::new();
    }
    let known: Vec<Utf8PathBuf> = present.all().iter().map(|found| real(&found.layout.main)).collect();
    let rows = ServerKind::ALL.iter().map(|kind| DaemonKind::of(*kind, machine.system));
    let names: Vec<&str> = rows.flat_map(|row| row.processes).copied().collect();
    let mut pids = os::processes_named(&names);
    pids.sort_unstable();
    let found = pids.into_iter().filter_map(|pid| of_process(machine, pid));
    found.filter(|server| !known.contains(&real(&server.config))).collect()
}

fn real(path: &Utf8Path) -> Utf8PathBuf {
    os::real_path(path).unwrap_or_else(|_| path.to_owned())
}

/// The server whose main process this is.
fn of_process(machine: &Machine, pid: i32) -> Option<RunningServer> {
    let Process { name: own, parent, .. } = os::process(pid)?;
    let rows = ServerKind::ALL.iter().map(|kind| DaemonKind::of(*kind, machine.system));
    let row = rows.into_iter().find(|row| row.processes.contains(&own.as_str()))?;
    let kind = row.kind;
    // Workers are children of the one that is meant.
    let is_child = os::process(parent).is_some_and(|parent| parent.name == own);
    if is_child {
        return None;
    }
    let words = command_line(pid).unwrap_or_default();
    let program = program(pid, words.first().map_or("", String::as_str))?;
    let config = main_file(row, &program, &words)?.to_native();
    let user = process::owner_name(pid)?;
    config.is_file().then_some(RunningServer { kind, program, config, pid, user })
}

/// The main file of a server that was started with this command line, which may be unknown.
fn main_file(row: &DaemonKind, program: &Utf8Path, words: &[String]) -> Option<ServerPath> {
    let given = |option: &str| words.iter().position(|word| word == option).and_then(|at| words.get(at + 1));
    let main = given(row.main_option).map(|path| ServerPath::new(path));
    if let Some(main) = main.as_ref().filter(|main| main.is_absolute()) {
        return Some(main.clone());
    }
    let report = report(row.kind, program)?;
    let told = if row.is_told_root { given("-p").map(|root| ServerPath::new(root)) } else { None };
    // A server built without a prefix uses its working directory, mostly its program's folder.
    let folder = ServerPath::from(program.parent()?);
    let root = folder.join(told.unwrap_or(report.root));
    let found = main.into_iter().chain([report.main, ServerPath::new("conf/nginx.conf")]).map(|main| root.join(main));
    let mut found = found.filter(ServerPath::is_absolute);
    found.clone().find(|main| main.to_native().is_file()).or_else(|| found.next())
}

/// The words of a process's command line; nginx puts its own words before them.
fn command_line(pid: i32) -> Option<Vec<String>> {
    let words = os::command_line(pid)?;
    Some(match words.first().and_then(|title| title.strip_prefix("nginx: master process ")) {
        Some(rest) => rest.split(' ').map(str::to_owned).collect(),
        None => words,
    })
}

/// The program of a process: by its link, which only its user and root may read, or by its first word.
fn program(pid: i32, word: &str) -> Option<Utf8PathBuf> {
    if ServerPath::new(word).is_absolute() {
        return Some(word.into());
    }
    os::program(pid)
}
