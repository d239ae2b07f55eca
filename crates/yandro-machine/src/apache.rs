//! Apache httpd on this machine: what it has, its test, its reload.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::httpd::run::{Configuration, ServerReport, Start, environment as environment_of};
use yandro_core::httpd::run::{Place, VirtualHost, by_address};
use yandro_core::httpd::{self, DebianLayout, ModuleFiles, OTHERS};
use yandro_core::name::HostName;
use yandro_core::plan::ObservedApache;

use crate::changes::{BroughtUp, ServerControl};
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::network;
use crate::permissions::User;
use crate::process::{self, Ran};

/// The variable that Debian's configuration has for the folder of its logs.
const LOG_FOLDER: &str = "${APACHE_LOG_DIR}";

/// Whether there is an Apache httpd in Debian's layout.
pub fn find_layout(machine: &Machine) -> Option<DebianLayout> {
    let layout = DebianLayout { root: machine.path("/etc/apache2") };
    (layout.main_file().is_file() && layout.available_modules().is_dir()).then_some(layout)
}

/// The sites that have a file of yandro's.
pub fn names(layout: &DebianLayout) -> Vec<HostName> {
    let folder = layout.root.join("sites-available");
    list(&folder).unwrap_or_default().iter().filter_map(|path| layout.site_of_file(path)).collect()
}

/// Reads what planning needs, for the sites of these names.
///
/// # Errors
/// When a file or folder is there and can't be read.
pub fn observe(machine: &Machine, layout: DebianLayout, names: &[HostName]) -> Result<ObservedApache, FileError> {
    let mut site_files = BTreeMap::new();
    for name in names {
        if let Some(text) = files::read_if_there(&layout.site_file(name))? {
            site_files.insert(name.clone(), text);
        }
    }
    let mut site_links = BTreeMap::new();
    let mut other_files = Vec::new();
    for path in list(&layout.enabled_sites())? {
        let Some(name) = path.file_name().map(str::to_owned) else { continue };
        if let Ok(target) = path.read_link_utf8() {
            site_links.insert(name.clone(), target);
        }
        // Names in yandro's own files are unique by the site list.
        if !layout.is_own_link(&path)
            && let Some(text) = files::read_if_there(&path)?
        {
            other_files.push((path, text));
        }
    }
    let mut available_modules = BTreeMap::new();
    for path in list(&layout.available_modules())? {
        let (Some(module), Some("load")) = (path.file_stem(), path.extension()) else { continue };
        let load = files::read_if_there(&path)?.unwrap_or_default();
        let files = ModuleFiles {
            load: String::from_utf8_lossy(&load).into_owned(),
            has_conf: path.with_extension("conf").is_file(),
        };
        available_modules.insert(module.to_owned(), files);
    }
    let links = list(&layout.enabled_modules())?;
    let module_links: BTreeSet<String> = links.iter().filter_map(|path| path.file_name().map(str::to_owned)).collect();
    let enabled_modules =
        module_links.iter().filter_map(|name| name.strip_suffix(".load").map(str::to_owned)).collect();
    let ports = files::read_if_there(&layout.root.join("ports.conf"))?.unwrap_or_default();
    // Of a server that runs its sockets tell; of one that is yet to be started, its configuration.
    let by_socket = if machine.is_real() { network::listens_on_v6(80) } else { None };
    let by_system = !machine.is_real() || network::would_listen_on_v6();
    let listens_on_v6 = by_socket.unwrap_or_else(|| by_system && httpd::listens_on_v6(&ports));
    // Two programs less to run, and any Apache httpd 2.4 reads the same here.
    let configuration = configuration_with(machine, &layout, &WithoutOwn { machine, layout: &layout }, None)?;
    let foreign_addresses = configuration.virtual_hosts().into_iter().flat_map(|host| host.addresses).collect();
    // What a module is set up with goes with it.
    let of_modules = machine.places.inside(&layout.enabled_modules());
    let is_foreign = |file: &str| !Utf8Path::new(file).starts_with(&of_modules);
    let foreign = configuration.events.iter().filter(|event| is_foreign(&event.place.file));
    let foreign_directives = foreign.map(|event| event.name.to_ascii_lowercase()).collect();
    let own_sites = self::names(&layout).into_iter().filter(|name| name.as_str() != OTHERS).collect();
    let log_folder = LOG_FOLDER.to_owned();
    Ok(ObservedApache {
        layout,
        log_folder,
        listens_on_v6,
        own_sites,
        foreign_addresses,
        foreign_directives,
        site_files,
        site_links,
        other_files,
        available_modules,
        enabled_modules,
        module_links,
    })
}

fn list(folder: &Utf8Path) -> Result<Vec<Utf8PathBuf>, FileError> {
    let entries = folder.read_dir_utf8().map_err(FileError::at(folder))?;
    let mut paths: Vec<Utf8PathBuf> = entries.filter_map(|entry| Some(entry.ok()?.into_path())).collect();
    paths.sort();
    Ok(paths)
}

/// Files below a sysroot, as a server in it sees them.
#[derive(Debug)]
pub struct FilesBelow<'m>(&'m Utf8Path);

impl FilesBelow<'_> {
    fn real(&self, path: &Utf8Path) -> Utf8PathBuf {
        self.0.join(path.as_str().trim_start_matches('/'))
    }
}

impl httpd::run::Files for FilesBelow<'_> {
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>> {
        fs::read(self.real(path)).ok()
    }

    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>> {
        let entries = self.real(folder).read_dir_utf8().ok()?;
        Some(entries.filter_map(|entry| Some(entry.ok()?.file_name().to_owned())).collect())
    }

    fn exists(&self, path: &Utf8Path) -> bool {
        self.real(path).exists()
    }
}

/// The same without yandro's own site files, of which there may be a thousand: they are as if empty.
struct WithoutOwn<'m> {
    machine: &'m Machine,
    layout: &'m DebianLayout,
}

impl httpd::run::Files for WithoutOwn<'_> {
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>> {
        let real = self.machine.path(path.as_str());
        if self.layout.is_own_link(&real) { Some(Vec::new()) } else { fs::read(real).ok() }
    }

    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>> {
        FilesBelow(&self.machine.places.sysroot).list(folder)
    }

    fn exists(&self, path: &Utf8Path) -> bool {
        FilesBelow(&self.machine.places.sysroot).exists(path)
    }
}

/// What an Apache httpd says of itself; `None` if it can't be asked.
pub fn report(program: &Utf8Path) -> Option<ServerReport> {
    let version = process::run(program, &["-V"]).ok()?;
    let modules = process::run(program, &["-l"]).ok()?;
    let report = ServerReport::read(&version.words, &modules.words);
    (!report.main.as_str().is_empty()).then_some(report)
}

/// Runs through a configuration below `sysroot`.
pub fn run_through(sysroot: &Utf8Path, start: &Start) -> Configuration {
    Configuration::run(start, &FilesBelow(sysroot))
}

/// Runs through the configuration of the Apache httpd that was found, with what the program says
/// of itself. Within a sysroot no program is asked: Debian's own is taken for granted.
///
/// # Errors
/// When its environment file is there and can't be read.
pub fn configuration(machine: &Machine, layout: &DebianLayout) -> Result<Configuration, FileError> {
    let asked = machine.is_real().then(|| report(Utf8Path::new("/usr/sbin/apache2"))).flatten();
    configuration_with(machine, layout, &FilesBelow(&machine.places.sysroot), asked)
}

fn configuration_with(
    machine: &Machine,
    layout: &DebianLayout,
    files_of: &dyn httpd::run::Files,
    asked: Option<ServerReport>,
) -> Result<Configuration, FileError> {
    let root = machine.places.inside(&layout.root);
    let main = machine.places.inside(&layout.main_file());
    let report = asked.unwrap_or_else(|| ServerReport {
        version: [2, 4, 0],
        root,
        main: main.clone(),
        built_in: DEBIANS_BUILT_IN.map(str::to_owned).to_vec(),
    });
    let environment = files::read_if_there(&layout.root.join("envvars"))?.unwrap_or_default();
    let environment = environment_of(&String::from_utf8_lossy(&environment));
    let start = Start { main, report, environment, defines: Vec::new() };
    Ok(Configuration::run(&start, files_of))
}

/// The virtual hosts of other people that answered for names without a site, and whose place a
/// site of yandro's has taken, since its file comes first: place and address.
pub fn displaced(machine: &Machine) -> Vec<(Place, String)> {
    let Some(layout) = find_layout(machine) else { return Vec::new() };
    let files_of = FilesBelow(&machine.places.sysroot);
    let Ok(configuration) = configuration_with(machine, &layout, &files_of, None) else { return Vec::new() };
    let is_own = |host: &VirtualHost| layout.is_own_link(&machine.path(&host.place.file));
    let hosts = configuration.virtual_hosts();
    let displaced = by_address(&hosts).into_iter().filter_map(|at| {
        let first = at.hosts.first().filter(|first| is_own(first) && !first.place.file.contains(OTHERS));
        let other = at.hosts.iter().find(|host| !is_own(host))?;
        first.map(|_| (other.place.clone(), at.address.clone()))
    });
    displaced.collect()
}

/// Whom the server runs as, by its configuration.
pub fn server_user(machine: &Machine) -> Option<User> {
    let configuration = configuration(machine, &find_layout(machine)?).ok()?;
    let name = configuration.main_server("User").last()?.arguments.first()?.clone();
    User::of_name(&name)
}

/// What Debian builds into the server.
const DEBIANS_BUILT_IN: [&str; 8] = [
    "core.c",
    "mod_so.c",
    "mod_watchdog.c",
    "http_core.c",
    "mod_log_config.c",
    "mod_logio.c",
    "mod_version.c",
    "mod_unixd.c",
];

/// The control of the Apache httpd of the real machine.
#[derive(Clone, Debug)]
pub struct Apache {
    control: Utf8PathBuf,
    /// Where systemd runs the machine, it starts and reloads its services.
    systemctl: Option<Utf8PathBuf>,
    pid_file: Utf8PathBuf,
}

impl Apache {
    /// The control of the installed Apache httpd; `None` if there is none.
    pub fn find() -> Option<Self> {
        let control = process::find(&["/usr/sbin/apache2ctl", "/usr/sbin/apachectl"])?;
        let systemctl = Utf8Path::new("/run/systemd/system")
            .is_dir()
            .then(|| process::find(&["/usr/bin/systemctl", "/bin/systemctl"]))
            .flatten();
        Some(Self { control, systemctl, pid_file: "/var/run/apache2/apache2.pid".into() })
    }

    /// The main process, if it runs.
    pub fn running(&self) -> Option<rustix::process::Pid> {
        let pid = fs::read_to_string(&self.pid_file).ok()?.trim().parse().ok()?;
        let command = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
        command.starts_with("apache2").then(|| rustix::process::Pid::from_raw(pid)).flatten()
    }

    fn run(program: &Utf8Path, arguments: &[&str]) -> Result<Ran, String> {
        process::run(program, arguments).map_err(|error| format!("{program}: {error}"))
    }
}

impl ServerControl for Apache {
    fn test(&self) -> Result<(), String> {
        let ran = Self::run(&self.control, &["-t"])?;
        if ran.succeeded { Ok(()) } else { Err(ran.words) }
    }

    fn bring_up(&self) -> Result<BroughtUp, String> {
        if let Some(pid) = self.running() {
            // The documented signal of a graceful restart. The configuration was
            // tested a moment ago, and `apachectl graceful` would test it again.
            return rustix::process::kill_process(pid, rustix::process::Signal::USR1)
                .map(|()| BroughtUp::Reloaded)
                .map_err(|error| format!("process {} could not be told to reload: {error}", pid.as_raw_nonzero()));
        }
        let ran = match &self.systemctl {
            Some(systemctl) => Self::run(systemctl, &["start", "apache2.service"])?,
            None => Self::run(&self.control, &["-k", "start"])?,
        };
        if ran.succeeded { Ok(BroughtUp::Started) } else { Err(format!("{}: {}", ran.command, ran.words)) }
    }
}
