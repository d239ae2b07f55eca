//! A server and a site of a person's own.

use camino::Utf8PathBuf;

use super::cut::CutFile;
use super::reading::BlockReading;
use super::written::Brought;
use crate::config::{Files, Place};
use crate::server_path::ServerPath;
use crate::servers::{Configuration, ServerKind};
use crate::site::{ServerId, Site};

/// A server that a person's sites are looked for on.
pub struct HandServer<'s> {
    /// The server.
    pub id: ServerId,
    /// Its kind.
    pub kind: ServerKind,
    /// Its configuration.
    pub configuration: &'s dyn Configuration,
    /// Its files as it sees them.
    pub files: &'s dyn Files,
    /// Whether a file is one of yandro's.
    pub is_own: &'s dyn Fn(&ServerPath) -> bool,
    /// The path on this machine for one that the server sees.
    pub here: &'s dyn Fn(&ServerPath) -> Option<Utf8PathBuf>,
    /// The folder in which it has its logs.
    pub log_folder: String,
}

/// A site that a person wrote.
#[derive(Clone, Debug)]
pub struct HandSite {
    /// The server that has it.
    pub server: ServerId,
    /// Its name, as it is written; a place for one without.
    pub name: String,
    /// Whether it is commented out.
    pub is_commented: bool,
    /// The site that it becomes, or why it can't become one.
    pub site: Result<Site, String>,
    /// Its virtual hosts, each with what is read of it.
    pub blocks: Vec<(Place, BlockReading)>,
    /// Its lines.
    pub brought: Brought,
    /// The files that contain the site, without it.
    pub cuts: Vec<CutFile>,
}
