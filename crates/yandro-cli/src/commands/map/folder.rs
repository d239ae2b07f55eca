//! The site's folder: making it, and letting the server in.

use camino::Utf8Path;
use yandro_core::Barrier;
use yandro_core::{Access, Change, ChangeSet, Content, FileChange, Role, ServerId, Site, Step};
use yandro_machine::{Control, ServerControl as _, permissions, ports, process, servers};

use crate::context::Context;
use crate::error::CommandError;

/// The pages that a folder may have to begin with.
const PAGES: [&str; 3] = ["index.html", "index.htm", "index.php"];

/// Has the document root made if it isn't there, and a page in it if it has none.
pub(super) fn create(set: &mut ChangeSet, site: &Site) {
    let Some(root) = site.document_root() else { return };
    let usual = PAGES.iter().copied().chain(site.serving.index.iter().map(String::as_str));
    let has_page = usual.into_iter().any(|page| root.join(page).exists());
    let mut steps = Vec::new();
    if !root.is_dir() {
        steps.push(Change::Folder { path: root.clone(), access: Access::Project });
    }
    if !has_page {
        let name = if site.serving.php.is_some() { "index.php" } else { "index.html" };
        let name = site.serving.index.first().map_or(name, String::as_str);
        steps.push(Change::File(FileChange {
            path: root.join(name),
            before: None,
            after: Some(starter(site).into_bytes().into()),
            access: Access::Project,
        }));
    }
    let step = |change| Step { role: Role::ProjectFile, change };
    set.steps.splice(0..0, steps.into_iter().map(step));
}

/// The page that a new folder begins with.
fn starter(site: &Site) -> String {
    let name = site.name.to_unicode();
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n<title>{name}</title>\n<h1>{name}</h1>\n<p>This folder is served. Put your own pages in the place of this one.</p>\n</html>\n"
    )
}

/// Looks whether the server's user can reach and read the document root, before anything is
/// written; with `is_to_fix` the set lets them.
pub(super) fn let_in(context: &Context, set: &mut ChangeSet, site: &Site, is_to_fix: bool) -> Result<(), CommandError> {
    let is_asked = context.machine.is_real();
    let (Content::Folder { .. }, true, Some(root)) = (&site.content, is_asked, site.document_root()) else {
        return Ok(());
    };
    let found = site.server.and_then(|id| context.server(id));
    let Some(user) = found.and_then(|found| servers::user(&context.machine, found)) else { return Ok(()) };
    if is_to_fix {
        let cures = permissions::cures(&root, &user)?;
        let step = |change| Step { role: Role::Access, change: Change::Rights(change) };
        set.steps.splice(0..0, cures.into_iter().map(step));
        return Ok(());
    }
    match permissions::first_barrier(&root, &user) {
        None => Ok(()),
        Some(barrier) => Err(closed(&root, barrier)),
    }
}

/// Looks whether the sandbox of the server's unit keeps the folder or the certificate from it, before anything is
/// written.
pub(super) fn visible(context: &Context, site: &Site) -> Result<(), CommandError> {
    let found = site.server.and_then(|id| context.server(id));
    let hidden = found.and_then(|found| {
        let sandbox = servers::sandbox(&context.machine, found)?;
        servers::hidden(&context.machine, &sandbox, site)
    });
    let Some(hidden) = hidden else { return Ok(()) };
    let error = CommandError::not_made(format!(
        "the server can't see {}: the sandbox of {} has {}; nothing was changed",
        hidden.path, hidden.unit, hidden.setting
    ))
    .hint(hidden.let_through(site.name.as_str()));
    Err(if site.document_root().is_some_and(|root| root.ends_with(hidden.path.file_name().unwrap_or_default())) {
        error.hint("or move the project to a folder that isn't hidden, then map that one")
    } else {
        error
    })
}

/// The server may not get at the folder.
fn closed(root: &Utf8Path, barrier: Barrier) -> CommandError {
    let verb = if barrier.folder == root { "read" } else { "enter" };
    CommandError::not_made(format!(
        "the server's user `{}` may not {verb} {}: its mode is {:04o}; nothing was changed",
        barrier.user, barrier.folder, barrier.mode
    ))
    .hint(barrier.fix)
    .hint("or have yandro do that for every folder on the way: add `--fix-permissions`")
}

/// Looks whether the server's user may listen on the site's ports: those below 1024 are root's, as a rule.
pub(super) fn ports_allowed(context: &Context, site: &Site) -> Result<(), CommandError> {
    let found = site.server.and_then(|id| context.server(id)).filter(|found| !found.is_elsewhere());
    let Some(found) = found.filter(|_| context.machine.is_real()) else { return Ok(()) };
    let control = Control::of(&context.machine, found);
    let user = match control.as_ref().and_then(Control::process) {
        Some(pid) => process::owner_name(pid),
        None if control.is_some_and(|control| control.needs_root()) => None,
        None => Some(context.machine.user().to_owned()).filter(|_| !context.machine.is_root()),
    };
    let Some(user) = user.filter(|user| user != "root") else { return Ok(()) };
    let first = ports::first_of_users();
    let ports = site.http_ports(80).into_iter().chain(site.https_ports(443));
    let Some(port) = ports.into_iter().find(|port| *port < first) else { return Ok(()) };
    Err(CommandError::not_made(format!(
        "{} runs as user `{user}`, who may not listen on port {port}: those below {first} are root's; nothing was changed",
        found.id
    ))
    .hint("choose other ports: --http-port 8080 --https-port 8443"))
}

/// Looks whether somebody else has a port of the site's, or one that the configuration names,
/// where the server is yet to be started.
pub(super) fn ports_free(context: &Context, site: &Site) -> Result<(), CommandError> {
    let server = site.server.unwrap_or(ServerId::APACHE);
    let held = |port: u16| {
        ports::holders(port).into_iter().find(|holder| {
            holder.address.is_unspecified() || holder.address.is_loopback() || holder.address == site.address
        })
    };
    let mut wanted = site.http_ports(80);
    wanted.extend(site.https_ports(443));
    let running = servers::running(&context.machine, context.present());
    let unknown = |holder: &ports::Holder| {
        let by_user = || running.iter().filter(|own| own.user == holder.user).collect::<Vec<_>>();
        match holder.pid {
            Some(pid) => running.iter().find(|own| u32::try_from(own.pid) == Ok(pid) || is_child(pid, own.pid)),
            // For another user's socket, only the user is known.
            None => <[&servers::RunningServer; 1]>::try_from(by_user()).ok().map(|[only]| only),
        }
    };
    let end = |holder: &ports::Holder| match (context.present().of_holder(&context.machine, holder), holder.pid) {
        (None, _) if unknown(holder).is_some() => {
            let server = unknown(holder).map(servers::RunningServer::to_add).unwrap_or_default();
            format!("it is a web server that yandro can map sites on; have yandro know it: {server}")
        }
        (Some(other), _) => format!("stop that server: yandro servers stop {}", other.word()),
        (None, Some(pid)) => format!("end that program: kill {pid}"),
        (None, None) => "end that program".to_owned(),
    };
    if let Some(holder) = wanted.into_iter().find_map(held) {
        return Err(CommandError::not_made(format!(
            "{server} doesn't run, and can't be started: port {} is held by {holder}; nothing was changed",
            holder.port
        ))
        .hint(format!("{}; or choose other ports: --http-port, --https-port", end(&holder))));
    }
    for (port, place) in
        context.server(server).map(|found| servers::configured_ports(&context.machine, found)).unwrap_or_default()
    {
        if let Some(holder) = held(port) {
            return Err(CommandError::not_made(format!(
                "{server} doesn't run, and can't be started: {place} has it listen on port {port}, which is held by {holder}; nothing was changed"
            ))
            .hint(format!("{}; or take that place out of use: {place}", end(&holder))));
        }
    }
    Ok(())
}

/// A folder that is to be made: its way must lead through folders.
pub(super) fn can_be_made(path: &Utf8Path) -> Result<(), CommandError> {
    match path.ancestors().find(|above| above.symlink_metadata().is_ok()) {
        Some(above) if !above.is_dir() => {
            Err(CommandError::usage(format!("`{above}` is a file: no folder can be made there")))
        }
        _ => Ok(()),
    }
}

/// Whether a process is a child of another.
fn is_child(pid: u32, main: i32) -> bool {
    i32::try_from(pid).is_ok_and(|pid| yandro_machine::process::parent(pid) == Some(main))
}
