//! nginx on this machine: where it is, what it has, its control.

mod observe;

pub use observe::observe;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::config::Layout;
use yandro_core::nginx::run::Configuration;
use yandro_core::nginx::{KNOWN, ServerReport, USUAL_FOLDERS};

use crate::machine::Machine;
use crate::permissions::User;
use crate::process;
use crate::servers::{self, Daemon, Found, find_or_ask};

/// Programs that tell where their main file is, if it is in no layout that is known.
const PROGRAMS: [&str; 4] = ["/usr/sbin/nginx", "/usr/bin/nginx", "/usr/local/sbin/nginx", "/usr/local/bin/nginx"];

/// The layout of the nginx that is there, if there is one: a known one, or what its program says.
pub fn find_layout(machine: &Machine) -> Option<Layout> {
    find_or_ask(machine, KNOWN, USUAL_FOLDERS, || Some(report(&process::find(&PROGRAMS)?)?.main))
}

/// Runs through the configuration of an nginx.
pub fn configuration(found: &Found) -> Configuration {
    Configuration::run(&found.main(), &found.files())
}

/// The control of an nginx of this machine; `None` if it has no program.
pub(crate) fn daemon(found: &Found) -> Option<Daemon> {
    let program = program(found)?;
    let known = found.layout.known;
    let pid_file = configuration(found).pid_file.or_else(|| {
        // Without one in the configuration, the program's built-in path counts.
        if known.service.is_empty() { Some(report(&program)?.pid_file) } else { None }
    });
    let service = Daemon::systemctl().filter(|_| !known.service.is_empty() && found.named.is_none());
    Some(Daemon {
        kind: &servers::NGINX,
        program: vec![program.into_string(), "-c".into(), found.layout.main.to_string()],
        named: found.named.clone(),
        service: service.map(|systemctl| (systemctl, known.service)),
        pid_file: pid_file.unwrap_or_else(|| "/run/nginx.pid".into()),
    })
}

/// What an nginx says of itself; `None` if it can't be asked.
fn report(program: &Utf8Path) -> Option<ServerReport> {
    ServerReport::read(&process::run(program, &["-V"]).ok()?.words)
}

/// Whom the workers run as, by the configuration; without a word on it, nginx's own default.
pub(crate) fn server_user(found: &Found) -> Option<User> {
    User::of_name(configuration(found).user.as_deref().unwrap_or("nobody"))
}

/// The server's program: the one that a person named, one beside the configuration of a bundle, or
/// the first usual one that is there.
fn program(found: &Found) -> Option<Utf8PathBuf> {
    if let Some(program) = found.named.as_ref().and_then(|named| named.program.clone()) {
        return program.is_file().then_some(program);
    }
    let known = found.layout.known.programs;
    beside(&found.layout)
        .or_else(|| process::find(known))
        .or_else(|| if known.is_empty() { process::find(&PROGRAMS) } else { None })
}

fn beside(layout: &Layout) -> Option<Utf8PathBuf> {
    let folder = layout.main.parent()?.parent()?;
    ["sbin/nginx", "bin/nginx"].iter().map(|below| folder.join(below)).find(|program| program.is_file())
}
