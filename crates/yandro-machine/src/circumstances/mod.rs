//! The surroundings of a site with a problem: its server's process and configuration, the holders of its
//! ports, files newer than the server, log lines. The core draws the conclusions.

mod configuration;
mod logs;
pub mod settings;
mod silence;
mod site_files;
mod site_logs;

pub(crate) use site_files::file_faults;
pub use site_logs::{Followed, LogKind, SiteLog, site_logs};

use std::cell::OnceCell;
use std::fs;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Barrier, Beside, Circumstances, Configuration, Configured, Content, Expected, Hidden, HostName, OTHERS, Place,
    PortHolder, Sandbox, ServerId, Site, Timed,
};

use crate::changes::ServerControl as _;
use crate::machine::Machine;
use crate::servers::{self, Control, Found, Present};
use crate::{certificates, files, permissions, php, ports, process};

use configuration::override_place;

/// Facts that hold for all sites of a server, gathered once.
#[derive(Clone, Debug, Default)]
pub struct OfServer {
    /// The server, if it is one of this machine.
    found: Option<Found>,
    read: Option<Arc<dyn Configuration>>,
    took: Duration,
    runs: Option<bool>,
    process: Option<i32>,
    /// Result of its configuration test, once it has run.
    tested: Option<OwnTest>,
    /// The sandbox of its unit, once it was looked at.
    sandbox: OnceCell<Option<Sandbox>>,
}

/// A server's test of its own configuration.
#[derive(Clone, Debug)]
enum OwnTest {
    Accepts,
    /// In its own words.
    Refuses(String),
    /// Only root can run it to its end.
    NeedsRoot,
}

impl OfServer {
    /// Looks at a server of the real machine and reads its configuration; of another nothing is known.
    pub fn look(machine: &Machine, found: Option<Found>) -> Self {
        let started = Instant::now();
        let found = found.filter(|found| machine.is_real() && !found.is_elsewhere());
        let Some(found) = found else { return Self::default() };
        let control = Control::of(machine, &found);
        let read = servers::unasked_configuration(machine, &found);
        let mut own = Self {
            runs: control.as_ref().map(Control::is_running),
            process: control.as_ref().and_then(Control::process),
            read: Some(read),
            found: Some(found),
            ..Self::default()
        };
        // Whether it would take it is worth the time only where something has changed since it did, or is wrong.
        if own.is_changed_since() || own.read.as_ref().is_some_and(|read| read.fault().is_some()) {
            own.test(machine);
        }
        own.took = started.elapsed();
        own
    }

    /// Runs the server's configuration test, unless it has run.
    fn test(&mut self, machine: &Machine) {
        let control = self.found.as_ref().and_then(|found| Control::of(machine, found));
        if let (None, Some(control)) = (&self.tested, control) {
            let tested = control.test().map_or_else(|error| OwnTest::Refuses(error.to_string()), |()| OwnTest::Accepts);
            // An ordinary user's test may stop at a log or key that only root can open. That says nothing.
            self.tested = match tested {
                OwnTest::Refuses(words) if control.needs_root() && !is_telling(&words) => Some(OwnTest::NeedsRoot),
                said => Some(said),
            };
        }
    }

    fn refuses(&self) -> Option<String> {
        match self.tested.as_ref()? {
            OwnTest::Accepts | OwnTest::NeedsRoot => None,
            OwnTest::Refuses(words) => Some(words.clone()),
        }
    }

    /// Whether a file of its configuration is younger than what it goes by.
    fn is_changed_since(&self) -> bool {
        let (Some(found), Some(read), Some(pid)) = (&self.found, &self.read, self.process) else { return false };
        let Some(began) = process::youngest_child(pid) else { return false };
        let mut files = read.files().iter().map(|file| found.view.here_or_same(file));
        files.any(|file| is_newer(&file, began))
    }

    /// The configuration for each of these sites, and each one's share of the time to read it.
    pub fn configured(&mut self, machine: &Machine, sites: &[&Expected]) -> Vec<Option<Timed<Configured>>> {
        let (Some(found), Some(read)) = (&self.found, &mut self.read) else { return vec![None; sites.len()] };
        let started = Instant::now();
        let mut all = configuration::sites(&**read, found, sites);
        let is_well = |(own, expected): (&Configured, &&Expected)| own.is_well(&expected.site, expected.server);
        if !all.iter().zip(sites).all(is_well) {
            // Before anything is said against it: what is built in may tell it otherwise.
            *read = servers::configuration(machine, found);
            all = configuration::sites(&**read, found, sites);
        }
        let took = (self.took + started.elapsed()) / u32::try_from(sites.len().max(1)).unwrap_or(u32::MAX);
        let (refuses, is_untested) = (self.refuses(), matches!(self.tested, Some(OwnTest::NeedsRoot)));
        let of =
            |seen: Configured| Some(Timed { took, seen: Configured { refuses: refuses.clone(), is_untested, ..seen } });
        all.into_iter().map(of).collect()
    }

    /// The folder, the certificates or the logs of a site, if the sandbox of its unit keeps them from it.
    fn sandboxed(&self, machine: &Machine, site: &Site) -> Option<Hidden> {
        let found = self.found.as_ref()?;
        let sandbox = self.sandbox.get_or_init(|| servers::sandbox(machine, found)).as_ref()?;
        let locked = || {
            let logs = configuration::error_logs(&**self.read.as_ref()?, found, site);
            logs.iter().find_map(|log| sandbox.locks(log.parent()?))
        };
        servers::hidden(machine, sandbox, site).or_else(locked)
    }

    /// The line by which it counts a site's requests, and refuses those beyond a number.
    pub fn limits(&self, site: &Site) -> Option<Place> {
        configuration::limits(&**self.read.as_ref()?, self.found.as_ref()?, site)
    }

    /// Marks the error logs that it writes for a site.
    pub fn mark_logs(&self, machine: &Machine, expected: &Expected) -> logs::Marked {
        match (&self.found, &self.read) {
            (Some(found), Some(read)) => logs::Marked::of(configuration::error_logs(&**read, found, &expected.site)),
            _ if expected.server == ServerId::BuiltIn => logs::Marked::of(vec![machine.places.error_log()]),
            _ => logs::Marked::default(),
        }
    }
}

/// Whether a refusal in a server's words is about its files, and not about the rights of the user who asked.
fn is_telling(words: &str) -> bool {
    let of_rights = ["ermission denied", "does not exist or is empty", "must be run as root"];
    let is_of_rights = |line: &str| of_rights.iter().any(|own| line.contains(own));
    if words.contains("nginx:") {
        return words.lines().any(|line| line.contains("[emerg]") && !is_of_rights(line));
    }
    !words.lines().any(is_of_rights)
}

/// How a site was slow to answer.
#[derive(Clone, Copy, Debug, Default)]
pub struct Slowness {
    /// Whether its server takes connections and doesn't answer.
    pub is_silent: bool,
    /// Whether a page didn't come in time.
    pub is_page_late: bool,
}

/// Gathers facts about a site with a problem. `beside` has those that are known already.
pub fn look(
    (machine, present): (&Machine, &Present),
    expected: &Expected,
    server: &mut OfServer,
    (beside, slowness): (&Beside, Slowness),
) -> Circumstances {
    let mut around = Circumstances { is_slow: slowness.is_page_late, ..Circumstances::default() };
    let site = &expected.site;
    if site.https.is_on() {
        around.key_fits = key_fits(machine, &site.name);
    }
    around.confined = logs::confined(machine, site.document_root().as_deref(), expected.now);
    if let Some(root) = site.document_root() {
        let pages = index_pages(&root, &site.serving.index);
        around.has_index = root.is_dir().then_some(!pages.is_empty());
        around.is_index_linked = pages.iter().any(|page| page.is_symlink());
        around.index_pages = pages.iter().filter_map(|page| page.file_name().map(str::to_owned)).collect();
        around.override_file = server.found.as_ref().and_then(|found| override_file(found, &root));
        around.rule = server.found.as_ref().and_then(|found| rule(found, &root, expected));
        around.unread_index = unread_index((machine, present), expected, &root);
    }
    let has_php = || site.document_root().is_some_and(|root| root.join("index.php").is_file());
    if machine.is_real() && expected.is_here && (site.serving.php.is_some() || has_php()) {
        let user = match expected.server {
            // It runs as its user.
            ServerId::BuiltIn => permissions::User::of_number(crate::os::this_user()),
            server => present.get(server).and_then(|found| servers::user(machine, found)),
        };
        around.php = php::look(machine, site.serving.php.as_ref(), user.as_ref());
    }
    if !machine.is_real() || !expected.is_here {
        return around;
    }
    around.holders = beside.holders.as_ref().map(|timed| timed.seen.clone()).unwrap_or_default();
    for holder in &mut around.holders {
        let other = holder.server.filter(|id| *id != expected.server && id.is_configured());
        let other = other.and_then(|id| present.get(id));
        holder.names = other.map_or_else(Vec::new, |other| {
            let read = servers::unasked_configuration(machine, other);
            configuration::names_on(&*read, site.address, holder.port)
        });
        holder.names.truncate(NAMES_SHOWN);
    }
    if let Content::Upstream(upstream) = &site.content {
        around.near_upstream = near(upstream.host_port().port());
    }
    server.test(machine);
    around.configured = beside.configured.as_ref().map(|timed| timed.seen.clone()).unwrap_or_default();
    (around.runs, around.refuses) = (server.runs, server.refuses());
    if let (Some(found), Some(read)) = (&server.found, &server.read) {
        around.rules = configuration::rules(&**read, found, site);
        around.passes_php_on = read.passes_php_on();
        around.has_own_index = found.kind.software().always_names_index();
    }
    around.sandboxed = server.sandboxed(machine, site).map(Box::new);
    if slowness.is_silent {
        let ports = beside.configured.as_ref().map(|timed| timed.seen.answering.iter().map(|host| host.port));
        around.silence = Some(silence::look(server, ports.into_iter().flatten().collect()));
    }
    if let Some(found) = &server.found {
        around.names_certificate = names_certificate(machine, found, &site.name);
        around.newer = server.process.and_then(|pid| newer(machine, found, &site.name, pid));
    }
    around
}

/// The holders of a site's ports. `server_of` gives the known server that a process belongs to.
pub fn holders(
    all: &[ports::Holder],
    expected: &Expected,
    mut server_of: impl FnMut(&ports::Holder) -> Option<ServerId>,
) -> Vec<PortHolder> {
    let site = &expected.site;
    let mut own = if site.own_tls().is_some() { Vec::new() } else { site.http_ports(expected.http_port) };
    if site.https.is_on() {
        own.extend(site.https_ports(expected.https_port));
    }
    let address = site.address;
    let takes_in = |holder: &&ports::Holder| {
        own.contains(&holder.port)
            && (holder.address == address
                || holder.address.is_unspecified() && (holder.address.is_ipv6() || address.is_ipv4()))
    };
    all.iter().filter(takes_in).map(|holder| port_holder(holder, server_of(holder))).collect()
}

/// What opens ports for services.
const MANAGERS: [&str; 2] = ["systemd", "launchd"];

/// A holder of a port as the core knows it.
pub fn port_holder(holder: &ports::Holder, server: Option<ServerId>) -> PortHolder {
    PortHolder {
        port: holder.port,
        words: match server {
            Some(server) if holder.pid.is_none() => format!("{server} (user {})", holder.user),
            _ => holder.to_string(),
        },
        program: holder.program.clone(),
        pid: holder.pid,
        is_anothers: !holder.is_own,
        is_manager: match &holder.program {
            Some(program) => MANAGERS.contains(&program.as_str()),
            None => holder.user == "root",
        },
        server,
        names: Vec::new(),
    }
}

/// Programs of this user that listen on one of the next ports of loopback.
fn near(port: u16) -> Vec<PortHolder> {
    let is_near = |holder: &ports::Holder| {
        holder.port > port
            && holder.port - port <= NEAR
            && holder.is_own
            && (holder.address.is_loopback() || holder.address.is_unspecified())
    };
    let mut found: Vec<PortHolder> = Vec::new();
    for holder in ports::all().into_iter().filter(is_near) {
        if found.iter().all(|own| own.port != holder.port) {
            found.push(port_holder(&holder, None));
        }
    }
    found.sort_by_key(|holder| holder.port);
    found
}

/// How far above its port an upstream is looked for.
const NEAR: u16 = 10;
/// How many names of another server are shown.
const NAMES_SHOWN: usize = 8;

fn key_fits(machine: &Machine, name: &HostName) -> Option<bool> {
    let chain = certificates::of_file(&machine.places.chain(name)).ok()?;
    let key = files::read_if_there(&machine.places.key(name)).ok()??;
    certificates::is_key_of(&chain, &key)
}

/// The index pages that are there.
fn index_pages(root: &Utf8Path, own: &[String]) -> Vec<Utf8PathBuf> {
    const USUAL: [&str; 4] = ["index.html", "index.htm", "index.php", "index.xhtml"];
    let names = own.iter().map(String::as_str).chain(USUAL);
    names.map(|name| root.join(name)).filter(|path| path.is_file()).collect()
}

/// The first rule of the project's own: of an override file, or of the lines that the person had put into the
/// site's virtual host.
fn rule(found: &Found, root: &Utf8Path, expected: &Expected) -> Option<Place> {
    let of_extra = || {
        let file = expected.site.serving.extra.clone()?;
        let line = found.kind.software().project_rules(&files::read_if_there(&file).ok()??).rule?;
        Some(Place { file: file.into(), line })
    };
    override_place(found, root, |rules| rules.rule).or_else(of_extra)
}

/// The index page that the server's user may not read, if the folder is one that they may.
fn unread_index((machine, present): (&Machine, &Present), expected: &Expected, root: &Utf8Path) -> Option<Barrier> {
    if !machine.is_real() || !expected.is_here {
        return None;
    }
    let user = servers::user(machine, present.get(expected.server)?)?;
    permissions::first_unread(&index_pages(root, &expected.site.serving.index), &user)
}

fn override_file(found: &Found, root: &Utf8Path) -> Option<Utf8PathBuf> {
    let name = found.kind.software().override_file()?;
    root.ancestors().map(|folder| folder.join(name)).find(|file| file.is_file())
}

/// Whether a site's virtual host file names the certificate that is on the disk.
fn names_certificate(machine: &Machine, found: &Found, name: &HostName) -> bool {
    let text = files::read_if_there(&found.layout.site_file(name)).ok().flatten().unwrap_or_default();
    let chain = found.view.there_or_same(&machine.places.chain(name));
    String::from_utf8_lossy(&text).contains(chain.as_str())
}

/// A file that was changed after the server's last reload, which is when the
/// youngest of its processes began.
fn newer(machine: &Machine, found: &Found, name: &HostName, pid: i32) -> Option<Utf8PathBuf> {
    let began = process::youngest_child(pid)?;
    let places = &machine.places;
    let others = HostName::parse(OTHERS).ok();
    let of_others = others.iter().map(|others| found.layout.site_file(others));
    let link = found.layout.site_link(name).map(|(link, _)| link);
    let files = [found.layout.site_file(name), found.layout.main.clone(), places.chain(name), places.key(name)];
    files.into_iter().chain(of_others).chain(link).find(|path| is_newer(path, began))
}

fn is_newer(path: &Utf8Path, began: SystemTime) -> bool {
    let meta = fs::symlink_metadata(path).ok();
    meta.and_then(|meta| meta.modified().ok()).is_some_and(|changed| changed > began + TICK)
}

/// How finely the kernel tells when a process began, and a little more.
const TICK: Duration = Duration::from_millis(20);
