//! The differences between kinds of servers, as far as their files are concerned.

use core::fmt::Debug;
use std::collections::BTreeMap;
use std::sync::Arc;

use crate::server_path::ServerPath;

use super::Configuration;
use super::RuleEffect;
use crate::adopt::{BlockReading, HandBlock};
use crate::config::{Dialect, FileOwner, Files, KnownLayout, Layout};
use crate::plan::{OwnFiles, ServerModel};
use crate::site::Site;

/// A program's report about itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ServerReport {
    /// Its version, such as 2.4.66; zeros where it isn't known.
    pub version: [u32; 3],
    /// The folder that it starts from.
    pub root: ServerPath,
    /// Its main file, absolute.
    pub main: ServerPath,
    /// The modules that are built in, by the names of their sources.
    pub built_in: Vec<String>,
    /// The file of the main process's number, where nothing else is said.
    pub pid_file: Option<ServerPath>,
}

/// Start of a run through a configuration.
#[derive(Clone, Debug, Default)]
pub struct Start {
    /// The main file.
    pub main: ServerPath,
    /// The server's report about itself.
    pub report: ServerReport,
    /// The environment that the server is started with.
    pub environment: BTreeMap<String, String>,
    /// Names given with `-D`.
    pub defines: Vec<String>,
}

/// Facts about the loopback address of IPv6 on the server's machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Loopback6 {
    /// Whether this machine has `::1`.
    pub is_there: bool,
    /// Whether a socket listens on port 80 of it; `None` if none listens on that port at all.
    pub listens: Option<bool>,
    /// Whether a program that opens a port of all addresses would get it.
    pub would_listen: bool,
}

/// Input of an observation of a server.
pub struct Seeing<'s> {
    /// Yandro's own files.
    pub own: OwnFiles,
    /// Start of the run through the configuration.
    pub start: Start,
    /// The server's files as it sees them, those that yandro wrote for sites left out.
    pub files: &'s dyn Files,
    /// Owner of a file, by the server's own path.
    pub owner_of: &'s dyn Fn(&ServerPath) -> FileOwner,
    /// The loopback address of IPv6; `None` for a server that isn't on this machine.
    pub loopback6: Option<Loopback6>,
}

/// The lines of a project's own that change what a site answers, by their numbers from 1.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProjectRules {
    /// The line that forbids the folder to everybody, or answers in its place, with its effect.
    pub denied: Option<(usize, RuleEffect)>,
    /// The last line that names index pages, with their names.
    pub index: Option<(usize, RuleEffect)>,
    /// The first rule that may answer a request by itself.
    pub rule: Option<usize>,
}

/// The container image that a packed site builds on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Image {
    /// The image.
    pub name: &'static str,
    /// The folder of virtual hosts within.
    pub virtual_hosts: &'static str,
    /// The main file, if it has to include that folder.
    pub main: Option<&'static str>,
}

/// A program that controls a server, with its arguments.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ControlProgram {
    /// Its name; `-v` has it tell its version.
    pub program: &'static str,
    /// The arguments that test the configuration.
    pub test: &'static [&'static str],
    /// The arguments that reload it without dropping connections.
    pub reload: &'static [&'static str],
}

/// A kind of server.
pub trait Software: Debug + Sync {
    /// The word for it in commands and files: small letters.
    fn word(&self) -> &'static str;
    /// How people call it.
    fn title(&self) -> &'static str;
    /// How its files are written.
    fn dialect(&self) -> &'static dyn Dialect;
    /// The layouts that are known, the likeliest first.
    fn layouts(&self) -> &'static [KnownLayout];
    /// The folders next to a main file for sites' files, the likeliest first.
    fn site_folders(&self) -> &'static [&'static str];
    /// Usual names of its main file.
    fn main_files(&self) -> &'static [&'static str];
    /// The programs that control one in a container, the likeliest first.
    fn controls(&self) -> &'static [ControlProgram];
    /// The arguments by which its program tells of itself, a run for each.
    fn questions(&self) -> &'static [&'static [&'static str]];
    /// Reads the answers; `None` if they aren't those of this kind.
    fn report(&self, answers: &[String]) -> Option<ServerReport>;
    /// The assumed report of a server that can't be asked.
    fn usual_report(&self, known: &KnownLayout) -> ServerReport;
    /// Whether a site's virtual host names index pages whatever the site is.
    fn always_names_index(&self) -> bool;
    /// Whether it is known from the layout what is built into the program.
    fn knows_built_in(&self, layout: &Layout) -> bool;
    /// Whether planning this site takes the version of the program.
    fn depends_on_version(&self, site: &Site, is_on_it: bool) -> bool;
    /// Runs through a configuration.
    fn run(&self, start: &Start, files: &dyn Files) -> Arc<dyn Configuration>;
    /// The file of the main process's number, as a configuration says.
    fn pid_file(&self, start: &Start, files: &dyn Files) -> Option<ServerPath> {
        self.run(start, files).pid_file()
    }
    /// The facts that planning needs.
    fn observe(&self, seeing: Seeing<'_>) -> Box<dyn ServerModel>;
    /// The file by which a project's folder can override its configuration, if it has such.
    fn override_file(&self) -> Option<&'static str>;
    /// The lines of an override file, or of directives that a user adds to a virtual host, that answer requests.
    fn project_rules(&self, text: &[u8]) -> ProjectRules;
    /// Whether a file that sites share changes by nothing but lines that yandro switches. `is_safe` tells whether a
    /// file that a line loads can be changed by root only.
    fn is_switching(&self, before: &[u8], after: &[u8], is_safe: &dyn Fn(&str) -> bool) -> bool;
    /// Reads a virtual host that a person wrote.
    fn read_host(&self, block: &HandBlock<'_>) -> BlockReading;
    /// The container image for a packed site.
    fn image(&self) -> Image;
    /// A file with what a packed site needs beyond what the image has switched on: its name and its text.
    fn image_modules(&self, site: &Site) -> Option<(&'static str, String)>;
}
