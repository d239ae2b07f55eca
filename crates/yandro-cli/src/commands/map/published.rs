//! Folders that hold more than a project: asked about before they are served.

use camino::Utf8Path;
use yandro_core::{Content, Places, Site, SiteList};

use crate::commands::consent;
use crate::context::Context;
use crate::error::CommandError;

/// Folders of the system that no project is in.
const SYSTEM: [&str; 7] = ["/etc", "/boot", "/dev", "/proc", "/run", "/sys", "/private/etc"];
/// Folders that hold many projects, or everything.
const SHARED: [&str; 6] = ["/", "/var", "/usr", "/home", "/root", "/Users"];
/// Folders of which each one holds a user's own files.
const HOMES: [&str; 2] = ["/home", "/Users"];

const WAY_ON: &str =
    "if that is what you want, say so: add `--any-folder`; or name the project's own folder: yandro map NAME FOLDER";

/// Asks, on a terminal, whether a new document root is meant that leads out of the project, or that
/// holds a person's or the system's own files. `asked` says that the user agreed, when the change is planned again.
pub(super) fn ask(
    context: &Context,
    is_meant: bool,
    site: &Site,
    list: &SiteList,
    asked: &mut bool,
) -> Result<(), CommandError> {
    let is_known = list.site(&site.name).is_some_and(|before| before.content == site.content);
    if is_known || is_meant || *asked || context.preview {
        return Ok(());
    }
    let (Content::Folder { folder, .. }, Some(root)) = (&site.content, site.document_root()) else { return Ok(()) };
    // A folder that this command makes is empty.
    let (Ok(project), Ok(real)) = (folder.canonicalize_utf8(), root.canonicalize_utf8()) else { return Ok(()) };
    let is_outside = !real.starts_with(&project);
    let outside = is_outside.then(|| format!("is outside the project `{folder}`"));
    let Some(why) = holds(&context.machine.places, &real).map(str::to_owned).or(outside) else { return Ok(()) };
    let leads = if real == root { String::new() } else { format!(" leads to `{real}`, which") };
    let fact = format!("`{root}`{leads} {why}: whoever reaches the server can read what is in it");
    consent::ask(&fact, "Serve it all the same?", WAY_ON)?;
    *asked = true;
    Ok(())
}

/// Why a folder is more than a project, if it is.
fn holds(places: &Places, folder: &Utf8Path) -> Option<&'static str> {
    let is = |path: &&str| folder == Utf8Path::new(path);
    if SYSTEM.iter().any(|path| folder.starts_with(path)) || SHARED.iter().any(is) {
        return Some("is a folder of the system");
    }
    if folder.parent().is_some_and(|parent| HOMES.iter().any(|path| parent == Utf8Path::new(path))) {
        return Some("is a home folder");
    }
    let own = [&places.config, &places.data];
    let real = |path: &Utf8Path| path.canonicalize_utf8().ok();
    let is_near = |own: &Utf8Path| own.starts_with(folder) || folder.starts_with(own);
    let is_own = own.iter().any(|own| is_near(own) || real(own).is_some_and(|own| is_near(&own)));
    is_own.then_some("holds your own settings and keys")
}
