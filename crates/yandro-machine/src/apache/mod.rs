//! Apache httpd on this machine: where it is, what it has, its control.

mod control;
mod files;
mod observe;

pub use control::Apache;
pub use files::run_through;
pub(crate) use observe::own_files;
pub use observe::{names, observe};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::{Layout, OTHERS};
use yandro_core::httpd::KNOWN;
use yandro_core::httpd::run::{
    Configuration, Place, ServerReport, Start, VirtualHost, by_address, environment as environment_of,
};

use crate::files::{self as disk, FileError};
use crate::machine::Machine;
use crate::permissions::User;
use crate::process;
use crate::settings::NamedServer;

pub(crate) use files::{FilesBelow, WithoutOwn};

/// What is built into every server.
const BUILT_IN: [&str; 3] = ["core.c", "mod_so.c", "http_core.c"];
/// A version that is taken for granted where no server can be asked.
const USUAL_VERSION: [u32; 3] = [2, 4, 62];

/// An Apache httpd that was found, or that a person named.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// What it is called; `apache` for one that was found.
    pub name: String,
    /// Where its files are.
    pub layout: Layout,
    /// What the person said of it.
    pub named: Option<NamedServer>,
}

/// Every Apache httpd of the machine; the first is the one that sites are mapped on. What a
/// person named comes before what is found.
pub fn find_all(machine: &Machine) -> Vec<Found> {
    let at = |path: &str| machine.path(path);
    let exists = |path: &str| machine.path(path).exists();
    let named = machine.servers.iter().filter(|server| machine.path(server.config.as_str()).is_file()).map(|server| {
        let main = machine.path(server.config.as_str());
        let layout = Layout::named(KNOWN, &main, Utf8Path::is_dir, exists, at);
        Found { name: server.name.clone(), layout, named: Some(server.clone()) }
    });
    let mut found: Vec<Found> = named.collect();
    let known =
        Layout::find(KNOWN, exists, at).filter(|layout| found.iter().all(|other| other.layout.main != layout.main));
    let asked = || {
        let report = process::find(&PROGRAMS).filter(|_| machine.is_real()).and_then(|program| report(&program))?;
        let is_there = report.main.is_file() && found.iter().all(|other| other.layout.main != report.main);
        is_there.then(|| Layout::named(KNOWN, &report.main, Utf8Path::is_dir, exists, at))
    };
    let known = known.or_else(|| if found.is_empty() { asked() } else { None });
    found.extend(known.map(|layout| Found { name: "apache".into(), layout, named: None }));
    found
}

/// Programs that tell where their main file is, if it is in no layout that is known.
pub(crate) const PROGRAMS: [&str; 4] =
    ["/usr/sbin/httpd", "/usr/sbin/apache2", "/usr/bin/httpd", "/usr/local/bin/httpd"];

/// The Apache httpd that sites are mapped on. Where the first that a person named is gone, there is
/// none: its sites must not end up on another.
pub fn find(machine: &Machine) -> Option<Found> {
    let first = machine.servers.first().map(|server| &server.name);
    find_all(machine).into_iter().next().filter(|found| first.is_none_or(|first| *first == found.name))
}

/// The layout of that.
pub fn find_layout(machine: &Machine) -> Option<Layout> {
    find(machine).map(|found| found.layout)
}

/// What an Apache httpd says of itself; `None` if it can't be asked.
pub fn report(program: &Utf8Path) -> Option<ServerReport> {
    let version = process::run(program, &["-V"]).ok()?;
    let modules = process::run(program, &["-l"]).ok()?;
    let report = ServerReport::read(&version.words, &modules.words);
    (!report.main.as_str().is_empty()).then_some(report)
}

/// Runs through the configuration of an Apache httpd, with what the program says of itself.
/// Within a sysroot no program is asked: what is usual is taken for granted.
///
/// # Errors
/// When its environment file is there and can't be read.
pub fn configuration(machine: &Machine, found: &Found) -> Result<Configuration, FileError> {
    let start = start(machine, found, true)?;
    Ok(Configuration::run(&start, &FilesBelow(&machine.places.sysroot)))
}

/// Where a run begins. `is_asked` has the program asked for its version and what is built in,
/// which takes some time.
fn start(machine: &Machine, found: &Found, is_asked: bool) -> Result<Start, FileError> {
    let known = found.layout.known;
    let main = machine.places.inside(&found.layout.main);
    let asked = if is_asked && machine.is_real() { control::program(found).and_then(|own| report(&own)) } else { None };
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
        Some(path) => disk::read_if_there(&machine.path(path))?.unwrap_or_default(),
        None => Vec::new(),
    };
    let environment = environment_of(&String::from_utf8_lossy(&environment));
    Ok(Start { main, report, environment, defines: Vec::new() })
}

/// The virtual hosts of other people that answered for names without a site, and whose place a
/// site of yandro's has taken, since its file comes first: place and address.
pub fn displaced(machine: &Machine) -> Vec<(Place, String)> {
    let Some(found) = find(machine) else { return Vec::new() };
    let Ok(start) = start(machine, &found, false) else { return Vec::new() };
    let configuration = Configuration::run(&start, &FilesBelow(&machine.places.sysroot));
    let is_own = |host: &VirtualHost| found.layout.is_own(&machine.path(&host.place.file));
    let hosts = configuration.virtual_hosts();
    let displaced = by_address(&hosts).into_iter().filter_map(|at| {
        let first = at.hosts.first().filter(|first| is_own(first) && !first.place.file.contains(OTHERS));
        let other = at.hosts.iter().find(|host| !is_own(host))?;
        first.map(|_| (other.place.clone(), at.address.clone()))
    });
    displaced.collect()
}

/// Whom the server runs as: the user of the processes that answer, or, of one that doesn't run,
/// the one that its configuration names.
pub fn server_user(machine: &Machine) -> Option<User> {
    let found = find(machine)?;
    let running = machine.is_real().then(|| Apache::of(machine, &found)?.answering_user()).flatten();
    if let Some(user) = running.and_then(User::of_number) {
        return Some(user);
    }
    let start = start(machine, &found, false).ok()?;
    let configuration = Configuration::run(&start, &FilesBelow(&machine.places.sysroot));
    let name = configuration.main_server("User").last()?.arguments.first()?.clone();
    User::of_name(&name)
}

/// The file in which a server that runs keeps the number of its process.
fn pid_file(configuration: &Configuration) -> Utf8PathBuf {
    let named = configuration.main_server("PidFile").last().and_then(|event| event.arguments.first());
    configuration.server_root.join(named.map_or("logs/httpd.pid", String::as_str))
}
