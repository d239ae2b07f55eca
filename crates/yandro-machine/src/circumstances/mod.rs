//! What stands around a site that isn't well: its server's process and configuration, who has its
//! ports, what is newer than the server, what the logs say. Nothing is judged here.

mod configuration;
pub mod logs;
pub mod settings;

use std::fs;
use std::time::{Duration, SystemTime};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::check::{Circumstances, Expected, PortHolder, SiteFileState};
use yandro_core::config::OTHERS;
use yandro_core::name::HostName;
use yandro_core::site::{FastCgi, ServerId};

use crate::changes::ServerControl as _;
use crate::machine::Machine;
use crate::servers::{self, Control, Found};
use crate::{certificates, files, ports, process};

/// What holds for all sites of a server: to find it out takes longer than all the rest.
#[derive(Clone, Debug, Default)]
pub struct OfServer {
    runs: Option<bool>,
    refuses: Option<String>,
    process: Option<i32>,
}

impl OfServer {
    /// Looks at a server of the real machine; of another nothing is known.
    pub fn look(machine: &Machine, id: ServerId) -> Self {
        let found = if machine.is_real() { servers::find(machine, id) } else { None };
        let Some(control) = found.filter(|found| !found.is_elsewhere()).and_then(|found| Control::of(machine, &found))
        else {
            return Self::default();
        };
        Self {
            runs: Some(control.is_running()),
            // A server that needs root to judge its configuration says nothing of use without.
            refuses: if control.needs_root() { None } else { control.test().err() },
            process: control.process(),
        }
    }
}

/// Looks around a site. `server_of` tells which known server a process belongs to.
pub fn look(
    machine: &Machine,
    expected: &Expected,
    server: &OfServer,
    server_of: impl Fn(Option<u32>) -> Option<ServerId>,
) -> Circumstances {
    let mut around = Circumstances::default();
    let site = &expected.site;
    around.key_fits = key_fits(machine, &site.name).filter(|_| site.https.is_on());
    around.confined = logs::confined(machine, site.document_root().as_deref());
    if let Some(root) = site.document_root() {
        around.has_index = root.is_dir().then(|| has_index(&root, &site.serving.index));
        around.override_file = override_file(&root);
    }
    around.php_down = site.serving.php.as_ref().filter(|_| expected.is_here && machine.is_real()).and_then(php_down);
    if !machine.is_real() || !expected.is_here {
        return around;
    }
    around.holders = holders(expected, &server_of);
    let Some(found) = servers::find(machine, expected.server) else { return around };
    around.site_file = site_file(&found, &site.name);
    configuration::read(machine, &found, expected, &mut around);
    (around.runs, around.refuses) = (server.runs, server.refuses.clone());
    around.newer = server.process.and_then(|pid| newer(machine, &found, &site.name, pid));
    around
}

fn key_fits(machine: &Machine, name: &HostName) -> Option<bool> {
    let chain = certificates::of_file(&machine.places.chain(name)).ok()?;
    let key = files::read_if_there(&machine.places.key(name)).ok()??;
    certificates::is_key_of(&chain, &key)
}

fn has_index(root: &Utf8Path, own: &[String]) -> bool {
    const USUAL: [&str; 4] = ["index.html", "index.htm", "index.php", "index.xhtml"];
    let own = own.iter().map(String::as_str);
    own.chain(USUAL).any(|name| root.join(name).is_file())
}

fn override_file(root: &Utf8Path) -> Option<Utf8PathBuf> {
    root.ancestors().map(|folder| folder.join(".htaccess")).find(|file| file.is_file())
}

fn php_down(php: &FastCgi) -> Option<String> {
    match php {
        FastCgi::Socket(path) => std::os::unix::net::UnixStream::connect(path).err().map(|_| path.to_string()),
        FastCgi::Address(address) => std::net::TcpStream::connect(address.as_str()).err().map(|_| address.clone()),
    }
}

fn holders(expected: &Expected, server_of: &impl Fn(Option<u32>) -> Option<ServerId>) -> Vec<PortHolder> {
    let mut own = expected.site.http_ports(expected.http_port);
    own.extend(expected.site.https_ports(expected.https_port));
    own.sort_unstable();
    own.dedup();
    let address = expected.site.address;
    let takes_in = |holder: &ports::Holder| {
        holder.address == address || holder.address.is_unspecified() && (holder.address.is_ipv6() || address.is_ipv4())
    };
    let of = |port: u16| ports::holders(port).into_iter().filter(takes_in).map(move |holder| (port, holder));
    own.into_iter()
        .flat_map(of)
        .map(|(port, holder)| PortHolder { port, words: holder.to_string(), server: server_of(holder.pid) })
        .collect()
}

fn site_file(found: &Found, name: &HostName) -> SiteFileState {
    let file = found.layout.site_file(name);
    if !file.is_file() {
        return SiteFileState::Missing(file);
    }
    match found.layout.site_link(name) {
        // A link that leads nowhere is as good as none.
        Some((link, _)) if !link.exists() => SiteFileState::NotEnabled { file, link },
        _ => SiteFileState::Read,
    }
}

/// A file that was changed after the server last took its configuration up, which is when the
/// youngest of its processes began.
fn newer(machine: &Machine, found: &Found, name: &HostName, pid: i32) -> Option<Utf8PathBuf> {
    let began = process::youngest_child(pid)?;
    let places = &machine.places;
    let others = HostName::parse(OTHERS).ok();
    let of_others = others.iter().map(|others| found.layout.site_file(others));
    let link = found.layout.site_link(name).map(|(link, _)| link);
    let files = [found.layout.site_file(name), found.layout.main.clone(), places.chain(name), places.key(name)];
    let is_newer = |path: &Utf8PathBuf| {
        let meta = fs::symlink_metadata(path).ok();
        meta.and_then(|meta| meta.modified().ok()).is_some_and(|changed: SystemTime| changed > began + TICK)
    };
    files.into_iter().chain(of_others).chain(link).find(is_newer)
}

/// How finely the kernel tells when a process began, and a little more.
const TICK: Duration = Duration::from_millis(20);
