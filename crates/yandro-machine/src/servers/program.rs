//! The program of a server: where it is, what it says of itself, how it is run.

use std::sync::Arc;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Configuration, Files as _, Layout, Place, ServerKind, ServerPath, ServerReport, Start, httpd_environment,
};

use super::daemon::Daemon;
use super::found::{Found, find_or_ask};
use super::kinds::DaemonKind;
use crate::machine::Machine;
use crate::os;
use crate::permissions::User;
use crate::process;

/// The layout of the server of this kind that is there, if there is one: a known one, or what its program says.
pub(super) fn find_layout(machine: &Machine, kind: ServerKind) -> Option<Layout> {
    let (software, row) = (kind.software(), DaemonKind::of(kind, machine.system));
    find_or_ask(machine, software.layouts(), software.site_folders(), || {
        Some(report(kind, &first_of(machine, row.programs)?)?.main.to_native())
    })
}

/// A program's report about itself; `None` if it can't be asked.
pub fn report(kind: ServerKind, program: &Utf8Path) -> Option<ServerReport> {
    let software = kind.software();
    let ask = |arguments: &&[&str]| process::run(program, arguments).ok().map(|answer| answer.words);
    let answers: Option<Vec<String>> = software.questions().iter().map(ask).collect();
    software.report(&answers?)
}

/// The version of a server that was found, such as `2.4.66`. Of one that the user named nothing is run.
pub fn version(machine: &Machine, found: &Found) -> Option<String> {
    let program = if found.named.is_none() { program(machine, found) } else { None };
    let [major, minor, patch] = report(found.kind, &program?)?.version;
    Some(format!("{major}.{minor}.{patch}"))
}

/// The server's program: the one that the user named, one next to the configuration of a bundle, or
/// the first usual one that is there.
fn program(machine: &Machine, found: &Found) -> Option<Utf8PathBuf> {
    if let Some(program) = found.named.as_ref().and_then(|named| named.program.clone()) {
        return program.is_file().then_some(program);
    }
    let (row, known) = (DaemonKind::of(found.kind, machine.system), found.layout.known.programs);
    let beside = || {
        let folders = found.layout.main.ancestors().skip(1).take(2);
        let programs = folders.flat_map(|folder| row.beside.iter().map(|below| folder.join(below)));
        programs.filter(|program| program.is_file()).last()
    };
    let usual = || if known.is_empty() { first_of(machine, row.programs) } else { None };
    beside().or_else(|| first_of(machine, known)).or_else(usual)
}

/// The first of these programs that is there.
fn first_of(machine: &Machine, programs: &[&str]) -> Option<Utf8PathBuf> {
    programs.iter().map(|program| machine.path(program)).find(|program| program.is_file())
}

/// The folder at which a server's relative paths begin that was built without one, as on Windows: that above a folder
/// `conf`, or that of the main file.
fn root_by_main(main: &ServerPath) -> ServerPath {
    let folder = main.parent().unwrap_or_default();
    if folder.file_name() == Some("conf") { folder.parent().unwrap_or(folder) } else { folder }
}

/// The control of a server of the real machine; `None` if it has no program, and no
/// commands were named.
pub(super) fn daemon(machine: &Machine, found: &Found) -> Option<Daemon> {
    let (row, known) = (DaemonKind::of(found.kind, machine.system), found.layout.known);
    let has_commands = found.named.as_ref().is_some_and(|named| !named.reload.is_empty());
    let usual = known.control.filter(|control| Utf8Path::new(control).is_file() && found.named.is_none());
    let program = program(machine, found);
    let command = match (usual, &program) {
        (Some(control), _) => vec![control.to_owned()],
        // Some builds have another default for the main file.
        (None, Some(program)) => {
            let root = row.is_told_root.then(|| ["-p".to_owned(), root_by_main(&found.main()).to_string()]);
            let main = [row.main_option.to_owned(), found.main().to_string()];
            [program.to_string()].into_iter().chain(root.into_iter().flatten()).chain(main).collect()
        }
        (None, None) if has_commands => Vec::new(),
        (None, None) => return None,
    };
    let service_of = |(option, _)| Some((option, os::service_of(program.as_deref()?)?));
    let windows_service = row.service_option.and_then(service_of);
    let configured = || found.kind.software().pid_file(&start(machine, found, false), &found.files());
    let pid_file = known.pid_file.map(ServerPath::new).or_else(configured);
    let pid_file = pid_file.or_else(|| {
        // Without one in the configuration, the program's built-in path counts.
        let own = if known.service.is_empty() { report(found.kind, &program?)?.pid_file } else { None };
        own.map(|path| root_by_main(&found.main()).join(path))
    });
    let is_service = !known.service.is_empty() && found.named.is_none();
    let service = if is_service { Daemon::systemctl() } else { None };
    Some(Daemon {
        kind: row,
        of: Box::new((machine.clone(), found.clone())),
        program: command,
        named: found.named.clone(),
        service: service.map(|systemctl| (systemctl, known.service)),
        windows_service,
        pid_file: pid_file.map_or_else(|| row.pid_file.into(), |path| found.view.here_or_same(&path)),
    })
}

/// Start of a run through the configuration. With `is_asked`, the program is asked for its version and its built-in
/// modules, which takes some time. Within a sysroot no program is asked, and the usual ones are assumed.
pub(super) fn start(machine: &Machine, found: &Found, is_asked: bool) -> Start {
    let (known, main) = (found.layout.known, found.main());
    let asked = if is_asked && machine.is_real() && !found.is_elsewhere() {
        program(machine, found).and_then(|program| report(found.kind, &program))
    } else {
        None
    };
    let report = asked.unwrap_or_else(|| found.kind.software().usual_report(known));
    // A program with another default root gets this one as an argument.
    let root = match known.root {
        "/" if report.main == main => report.root.clone(),
        "/" if DaemonKind::of(found.kind, machine.system).is_told_root => root_by_main(&main),
        "/" => main.parent().unwrap_or_default(),
        root => found.view.there_or_same(&machine.path(root)),
    };
    let report = ServerReport { root, main: main.clone(), ..report };
    let variables = known.environment.and_then(|path| found.files().read(&path.into())).unwrap_or_default();
    let environment = httpd_environment(&String::from_utf8_lossy(&variables));
    Start { main, report, environment, defines: Vec::new() }
}

/// Runs through a server's configuration, with what the program says of itself.
pub fn configuration(machine: &Machine, found: &Found) -> Arc<dyn Configuration> {
    found.kind.software().run(&start(machine, found, true), &found.files())
}

/// The same without asking the program, which takes some time.
pub(crate) fn unasked_configuration(machine: &Machine, found: &Found) -> Arc<dyn Configuration> {
    found.kind.software().run(&start(machine, found, false), &found.files())
}

/// The server's user: that of the worker processes, or, of a stopped server,
/// the configured one. Unknown for a server on another machine.
pub fn user(machine: &Machine, found: &Found) -> Option<User> {
    if found.is_elsewhere() {
        return None;
    }
    let running = if machine.is_real() { daemon(machine, found).and_then(|own| own.answering_user()) } else { None };
    if let Some(user) = running.and_then(User::of_number) {
        return Some(user);
    }
    let configuration = unasked_configuration(machine, found);
    User::of_name(configuration.user().or(DaemonKind::of(found.kind, machine.system).user)?)
}

/// The ports that a server's configuration names, each with the place of the line.
pub fn configured_ports(machine: &Machine, found: &Found) -> Vec<(u16, Place)> {
    let listeners = configuration(machine, found).listeners();
    listeners.into_iter().map(|listener| (listener.port, listener.place)).collect()
}
