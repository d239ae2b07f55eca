//! Apache httpd on this machine: where it is, what it has, its control.

mod observe;

pub use observe::observe;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::{FileOwner, Files as _, Layout};
use yandro_core::httpd::run::{
    Configuration, Place, ServerReport, Start, VirtualHost, by_address, environment as environment_of,
};
use yandro_core::httpd::{KNOWN, USUAL_FOLDERS};

use crate::machine::Machine;
use crate::permissions::User;
use crate::process;
use crate::servers::{self, Daemon, Found, find_or_ask};

/// What is built into every server.
const BUILT_IN: [&str; 3] = ["core.c", "mod_so.c", "http_core.c"];
/// A version that is taken for granted where no server can be asked.
const USUAL_VERSION: [u32; 3] = [2, 4, 62];

/// Programs that tell where their main file is, if it is in no layout that is known.
pub(crate) const PROGRAMS: [&str; 4] =
    ["/usr/sbin/httpd", "/usr/sbin/apache2", "/usr/bin/httpd", "/usr/local/bin/httpd"];

/// The layout of the Apache httpd that is there, if there is one: a known one, or what its program
/// says.
pub fn find_layout(machine: &Machine) -> Option<Layout> {
    find_or_ask(machine, KNOWN, USUAL_FOLDERS, || Some(report(&process::find(&PROGRAMS)?)?.main))
}

/// What an Apache httpd says of itself; `None` if it can't be asked.
pub fn report(program: &Utf8Path) -> Option<ServerReport> {
    let version = process::run(program, &["-V"]).ok()?;
    let modules = process::run(program, &["-l"]).ok()?;
    let report = ServerReport::read(&version.words, &modules.words);
    (!report.main.as_str().is_empty()).then_some(report)
}

/// The server's program: the one that the user named, or the first usual one that is there.
fn program(found: &Found) -> Option<Utf8PathBuf> {
    match found.named.as_ref().and_then(|named| named.program.clone()) {
        Some(program) => program.is_file().then_some(program),
        // Beside the configuration of a bundle lies its own server.
        None => beside(&found.layout).or_else(|| process::find(found.layout.known.programs)).or_else(|| {
            let is_usual = found.layout.known.programs.is_empty();
            if is_usual { process::find(&PROGRAMS) } else { None }
        }),
    }
}

fn beside(layout: &Layout) -> Option<Utf8PathBuf> {
    let program = layout.main.parent()?.parent()?.join("bin/httpd");
    program.is_file().then_some(program)
}

/// The control of an Apache httpd of the real machine; `None` if it has no program, and no
/// commands were named.
pub(crate) fn daemon(machine: &Machine, found: &Found) -> Option<Daemon> {
    let known = found.layout.known;
    let has_commands = found.named.as_ref().is_some_and(|named| !named.reload.is_empty());
    let usual = known.control.filter(|control| Utf8Path::new(control).is_file() && found.named.is_none());
    let command = match (usual, program(found)) {
        (Some(control), _) => vec![control.to_owned()],
        // Some builds look elsewhere for their main file.
        (None, Some(program)) => vec![program.into_string(), "-f".into(), found.layout.main.to_string()],
        (None, None) if has_commands => Vec::new(),
        (None, None) => return None,
    };
    let pid_file = match known.pid_file {
        Some(path) => path.into(),
        None => pid_file(&unasked_configuration(machine, found)),
    };
    let service = Daemon::systemctl().filter(|_| !known.service.is_empty() && found.named.is_none());
    Some(Daemon {
        kind: &servers::APACHE,
        program: command,
        named: found.named.clone(),
        service: service.map(|systemctl| (systemctl, known.service)),
        pid_file,
    })
}

/// Runs through the configuration of an Apache httpd, with what the program says of itself.
/// Within a sysroot no program is asked: what is usual is taken for granted.
pub fn configuration(machine: &Machine, found: &Found) -> Configuration {
    Configuration::run(&start(machine, found, true), &found.files())
}

/// Where a run begins. `is_asked` has the program asked for its version and what is built in,
/// which takes some time.
fn start(machine: &Machine, found: &Found, is_asked: bool) -> Start {
    let known = found.layout.known;
    let main = found.main();
    let asked = if is_asked && machine.is_real() && !found.is_elsewhere() {
        program(found).and_then(|own| report(&own))
    } else {
        None
    };
    let report = asked.unwrap_or_else(|| {
        let built_in = BUILT_IN.iter().chain(known.built_in).map(|source| (*source).to_owned()).collect();
        ServerReport { version: USUAL_VERSION, built_in, ..ServerReport::default() }
    });
    // Where the program says another place it is started with this one's.
    let root = match known.root {
        "/" if report.main == main => report.root.clone(),
        "/" => main.parent().map(Utf8Path::to_owned).unwrap_or_default(),
        root => root.into(),
    };
    let report = ServerReport { root, main: main.clone(), ..report };
    let environment = match known.environment {
        Some(path) => found.files().read(path.into()).unwrap_or_default(),
        None => Vec::new(),
    };
    let environment = environment_of(&String::from_utf8_lossy(&environment));
    Start { main, report, environment, defines: Vec::new() }
}

/// The same without asking the program what is built in, which takes some time.
pub(crate) fn unasked_configuration(machine: &Machine, found: &Found) -> Configuration {
    Configuration::run(&start(machine, found, false), &found.files())
}

/// The virtual hosts of other people that answered for names without a site, and whose place a
/// site of yandro's has taken, since its file comes first: place and address.
pub fn displaced(machine: &Machine, found: &Found) -> Vec<(Place, String)> {
    let configuration = unasked_configuration(machine, found);
    let owner = |host: &VirtualHost| found.owner_of(host.place.file.as_str().into());
    let hosts = configuration.virtual_hosts();
    let displaced = by_address(&hosts).into_iter().filter_map(|at| {
        let first = at.hosts.first().filter(|first| matches!(owner(first), FileOwner::Site(_)));
        let other = at.hosts.iter().find(|host| !owner(host).is_yandro())?;
        first.map(|_| (other.place.clone(), at.address.clone()))
    });
    displaced.collect()
}

/// Whom the server runs as: the user of the processes that answer, or, of one that doesn't run,
/// the one that its configuration names.
pub(crate) fn server_user(machine: &Machine, found: &Found) -> Option<User> {
    let running = machine.is_real().then(|| daemon(machine, found)?.answering_user()).flatten();
    if let Some(user) = running.and_then(User::of_number) {
        return Some(user);
    }
    let configuration = unasked_configuration(machine, found);
    let name = configuration.main_server("User").last()?.arguments.first()?.clone();
    User::of_name(&name)
}

/// The file in which a server that runs keeps the number of its process.
fn pid_file(configuration: &Configuration) -> Utf8PathBuf {
    let named = configuration.main_server("PidFile").last().and_then(|event| event.arguments.first());
    configuration.server_root.join(named.map_or("logs/httpd.pid", String::as_str))
}
