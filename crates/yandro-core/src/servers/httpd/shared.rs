//! The part of a configuration that all sites share: the main file and what it includes.

use core::net::IpAddr;
use std::collections::{BTreeMap, BTreeSet};

use crate::server_path::ServerPath;

use super::commented::commented_includes;
use super::run::{FileImage, Files, HttpdRun, Listen, Place, Start, bare, by_address, files_of, matches_path};
use crate::config::{FileOwner, ServerTraits, is_guard};

/// The shared part as it was read, and what it amounts to. Paths are as the server sees them.
#[derive(Clone, Debug, Default)]
pub struct HttpdShared {
    start: Start,
    pub(super) image: FileImage,
    /// Modules that are about to be there, by the links of the same change.
    assumed: BTreeSet<String>,
    /// The configuration as the server reads it.
    pub configuration: HttpdRun,
    /// Addresses that it listens on.
    pub listens: Vec<Listen>,
    /// The addresses of other people's virtual hosts, such as `*:80`.
    pub foreign_addresses: BTreeSet<String>,
    /// Those where a virtual host of the user comes before yandro's default one.
    pub foreign_first: BTreeSet<String>,
    /// The names and aliases of other people's virtual hosts, in lower case.
    pub foreign_names: BTreeMap<String, Place>,
    /// The directives in other people's files: they may need modules.
    pub foreign_directives: Vec<ForeignDirective>,
    log_folder: String,
    has_combined: bool,
}

/// A directive in somebody else's file; of several alike the first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ForeignDirective {
    /// Its name in lower case.
    pub name: String,
    /// File and line.
    pub place: Place,
    /// The modules that its `<IfModule>` sections ask for: without them it isn't read.
    pub guards: Vec<String>,
}

impl ForeignDirective {
    /// Whether the server would refuse it without this module, whose directives begin like this.
    pub(super) fn needs(&self, module: &str, prefixes: &[&str]) -> bool {
        // The cache of sessions is there for TLS, the others for what they build on.
        let base = match module {
            "socache_shmcb" => "ssl",
            "proxy_http" | "proxy_fcgi" => "proxy",
            module => module,
        };
        prefixes.iter().any(|prefix| self.name.starts_with(prefix))
            && ![module, base].iter().any(|module| is_guard(&self.guards, module))
    }
}

/// The format that nearly every configuration calls `combined`.
const COMBINED: &str = r#"%h %l %u %t "%r" %>s %b "%{Referer}i" "%{User-Agent}i""#;

impl HttpdShared {
    /// Runs through a configuration, and keeps what was read. `files` leaves yandro's own files
    /// for sites out; that for other names is as it is. `owner_of` tells whose a file is.
    pub fn of(start: Start, files: &dyn Files, owner_of: impl Fn(&ServerPath) -> FileOwner) -> Self {
        let (image, configuration) = FileImage::of(files, |files| {
            let configuration = HttpdRun::run(&start, files);
            // Files that are about to be included are read as well.
            for include in commented_includes(&configuration, files) {
                for file in files_of(files, &include.path).unwrap_or_default() {
                    _ = files.read(&file);
                }
            }
            for folder in module_folders(&configuration) {
                _ = files.list(&folder);
            }
            configuration
        });
        let listens = configuration.listens();
        let mut shared = Self { start, image, configuration, listens, ..Self::default() };
        shared.sum_up(&owner_of);
        shared
    }

    /// The same with modules that links are about to enable, and with other content of files.
    pub fn with(
        &self,
        modules: impl IntoIterator<Item = String>,
        files: &BTreeMap<ServerPath, Vec<u8>>,
        owner_of: impl Fn(&ServerPath) -> FileOwner,
    ) -> Self {
        let mut shared = self.clone();
        shared.assumed.extend(modules);
        for (path, content) in files {
            shared.image.set(path, content.clone());
        }
        shared.run();
        shared.sum_up(&owner_of);
        shared
    }

    /// The text of a file that it was read from.
    pub fn text(&self, path: &ServerPath) -> Option<&[u8]> {
        self.image.file(path)
    }

    /// Whether a file belongs to it: the main file, or one that the server reads or could read by a
    /// change of yandro's.
    pub fn has(&self, path: &ServerPath) -> bool {
        self.image.file(path).is_some()
    }

    /// The main file.
    pub fn main(&self) -> &ServerPath {
        &self.start.main
    }

    /// The server's version.
    pub fn version(&self) -> [u32; 3] {
        self.start.report.version
    }

    /// Whether a module is there, by its identifier without `_module`.
    pub fn has_module(&self, module: &str) -> bool {
        let source = format!("mod_{module}.c");
        self.configuration.modules.contains(&source) || self.configuration.modules.contains(&format!("{module}_module"))
    }

    /// Whether it runs one process for each connection, which rules HTTP/2 out.
    pub(super) fn is_prefork(&self) -> bool {
        ["prefork.c", "mpm_prefork_module"].iter().any(|name| self.configuration.modules.contains(*name))
    }

    /// Whether it listens on a port of an address.
    pub(super) fn listens_on(&self, address: IpAddr, port: u16) -> bool {
        self.listens.iter().any(|listen| listen.takes_in(address, port))
    }

    /// Whether it includes the files of all sites, a path with a wildcard.
    pub(super) fn includes(&self, sites: &ServerPath) -> bool {
        let sample = sample(sites);
        self.configuration.includes.iter().any(|pattern| matches_path(pattern, &sample))
    }

    /// How virtual hosts are written for it. `logs` is the folder of its logs, if that is
    /// known; otherwise they go to the main server's error log.
    pub fn traits(&self, logs: Option<&str>) -> ServerTraits {
        let is_one = |address: &&String| !address.starts_with("*:");
        ServerTraits {
            log_folder: logs.map_or_else(|| self.log_folder.clone(), str::to_owned),
            log_format: if self.has_combined { "combined".to_owned() } else { COMBINED.to_owned() },
            upgrades: self.version() >= [2, 4, 47],
            speaks_http2: self.has_module("http2") && !self.is_prefork(),
            specific: self.foreign_addresses.iter().filter(is_one).cloned().collect(),
            ..ServerTraits::default()
        }
    }

    pub(super) fn run(&mut self) {
        let mut start = self.start.clone();
        start.report.built_in.extend(self.assumed.iter().map(|module| format!("mod_{module}.c")));
        self.configuration = HttpdRun::run(&start, &self.image);
        self.listens = self.configuration.listens();
    }

    fn sum_up(&mut self, owner_of: &dyn Fn(&ServerPath) -> FileOwner) {
        let owner_of = |place: &Place| owner_of(&ServerPath::new(&place.file));
        let is_own = |place: &Place| owner_of(place).is_yandro();
        let hosts = self.configuration.virtual_hosts();
        let foreign = || hosts.iter().filter(|host| !is_own(&host.place));
        self.foreign_addresses = foreign().flat_map(|host| host.addresses.iter().cloned()).collect();
        self.foreign_first = by_address(&hosts)
            .into_iter()
            .filter(|at| at.hosts.first().is_some_and(|first| !is_own(&first.place)))
            .map(|at| at.address)
            .collect();
        self.foreign_names = foreign()
            .flat_map(|host| {
                let names = host.name.iter().chain(&host.aliases);
                names.map(|name| (bare(name).to_ascii_lowercase(), host.place.clone()))
            })
            .collect();
        let error_log = self.configuration.main_server("ErrorLog").last().and_then(|event| event.arguments.first());
        let folder = error_log.filter(|log| !log.starts_with('|') && !log.starts_with("syslog"));
        let folder = folder.and_then(|log| Some(ServerPath::new(log).parent()?.to_string()));
        self.log_folder = folder.filter(|folder| !folder.is_empty()).unwrap_or_else(|| "logs".to_owned());
        let mut formats = self.configuration.main_server("LogFormat");
        self.has_combined = formats.any(|event| event.arguments.get(1).is_some_and(|name| name == "combined"));
        // A module's own set-up goes with it, and so does the file for other names.
        let events = self.configuration.events.iter().filter(|event| owner_of(&event.place) == FileOwner::Other);
        let mut known: BTreeSet<(String, &[String])> = BTreeSet::new();
        let mut found = Vec::new();
        for event in events {
            let name = event.name.to_ascii_lowercase();
            if known.insert((name.clone(), &event.guards)) {
                found.push(ForeignDirective { name, place: event.place.clone(), guards: event.guards.clone() });
            }
        }
        self.foreign_directives = found;
    }
}

/// The folders that modules are loaded from.
pub(super) fn module_folders(configuration: &HttpdRun) -> BTreeSet<ServerPath> {
    let loads = configuration.events.iter().filter(|event| event.is("LoadModule"));
    let files = loads.filter_map(|event| event.arguments.get(1));
    files.filter_map(|file| configuration.server_root.join(file).parent()).collect()
}

/// A file that the wildcard takes in.
pub(super) fn sample(sites: &ServerPath) -> ServerPath {
    ServerPath::from(sites.as_str().replace('*', "saltmarsh.test"))
}
