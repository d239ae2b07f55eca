//! Sites written by hand: finds them and removes them from their files.

use std::collections::BTreeMap;

use camino::Utf8Path;
use yandro_core::{Adoption, CutFile, Files, HandServer, HandSite, ServerPath, Site, hand_sites as read};

use super::files::WithoutOwn;
use super::found::Found;
use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::os;

/// The sites that a person wrote on a server.
///
/// # Errors
/// When a file of yandro's own is there and can't be read.
pub fn hand_sites(machine: &Machine, found: &Found) -> Result<Vec<HandSite>, FileError> {
    let log_folder = super::observe(machine, found, &[], false)?.traits().log_folder;
    let configuration = super::configuration(machine, found);
    Ok(read(&HandServer {
        id: found.id,
        kind: found.kind,
        configuration: &*configuration,
        files: &found.files(),
        is_own: &|path| found.is_own(path),
        here: &|path| found.view.here(path),
        log_folder,
    }))
}

/// The input for taking a site over: the files that contain it, and the links to them.
///
/// # Errors
/// When one of them can't be read.
pub fn adoption(found: &Found, hand: &HandSite, site: Site) -> Result<Adoption, FileError> {
    let mut adoption = Adoption { site, brought: hand.brought.clone(), files: Vec::new(), links: Vec::new() };
    for CutFile { path, text } in &hand.cuts {
        let path = found.view.here_or_same(path);
        let link = files::read_link_if_there(&path).ok().flatten();
        let real = os::real_path(&path).map_err(FileError::at(&path))?;
        if let (Some(target), None) = (&link, text) {
            adoption.links.push((path.clone(), target.clone()));
            // A file of a project's own stays where it is: it is only read no more.
            if !is_servers(found, &real) {
                continue;
            }
        }
        let before = files::read(&real)?;
        adoption.files.push((real, before.into(), text.clone()));
    }
    Ok(adoption)
}

/// Whether a file is below the folder of a server's main file.
fn is_servers(found: &Found, path: &Utf8Path) -> bool {
    let layout = &found.layout;
    let folders = [layout.main.parent(), Some(&*layout.sites)];
    folders.into_iter().flatten().any(|folder| path.starts_with(folder))
}

/// A server's files without yandro's own for sites, and without virtual hosts that are taken over.
pub(super) struct WithoutHand<'f> {
    pub(super) files: WithoutOwn<'f>,
    pub(super) cuts: BTreeMap<ServerPath, Option<Vec<u8>>>,
}

impl<'f> WithoutHand<'f> {
    pub(super) fn new(found: &'f Found, cuts: &[CutFile]) -> Self {
        let cuts = cuts.iter().map(|cut| (cut.path.clone(), cut.text.clone())).collect();
        Self { files: WithoutOwn(found), cuts }
    }
}

impl Files for WithoutHand<'_> {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        self.cuts.get(path).map_or_else(|| self.files.read(path), Clone::clone)
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let mut names = self.files.list(folder)?;
        names.retain(|name| self.cuts.get(&folder.join(name)).is_none_or(Option::is_some));
        Some(names)
    }

    fn exists(&self, path: &ServerPath) -> bool {
        self.cuts.get(path).map_or_else(|| self.files.exists(path), Option::is_some)
    }
}
