//! Change sets and their steps.

use core::net::IpAddr;
use std::collections::{BTreeSet, HashSet};

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};

use super::content::FileContent;
use super::role::Role;
use crate::config::{Place, Switched};
use crate::database::DatabaseAddress;
use crate::site::{ServerId, Site};
use crate::system::{Cache, StoreKind, TrustStore};

/// All that one command changes, in the order in which it is done.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ChangeSet {
    /// The command, as the person would type it.
    pub command: String,
    /// The changes, in order.
    pub steps: Vec<Step>,
    /// The sites that it is about, as they were and as they are to be.
    pub sites: Vec<SiteChange>,
    /// The change set that this one takes back.
    pub undoes: Option<u64>,
    /// The servers whose configuration changes: each tests it and is then reloaded, or
    /// started if it doesn't run.
    pub servers: BTreeSet<ServerId>,
    /// Lines of files that sites share which are switched on or added, each with its file.
    pub switched: Vec<(Utf8PathBuf, Switched)>,
    /// Modules that were switched on for sites and stay on, each with the line that needs it.
    pub staying: Vec<(String, Place)>,
    /// Other people's virtual hosts that aren't read any more, since a module goes off with the last site.
    pub silenced: Vec<(String, Place)>,
    /// Ports that a server opens with this change, for servers that exit when they can't.
    pub opens: Vec<Opened>,
    /// The caches to flush after the hosts file is written.
    pub flush: Vec<Cache>,
    /// The system's trust store, if a root certificate is added or removed: its program runs
    /// once all is written, and again after a rollback.
    pub trust: Option<TrustStore>,
}

/// A port that a server opens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Opened {
    /// Whose configuration gets the line.
    pub server: ServerId,
    /// The address; `None` for all of them.
    pub address: Option<IpAddr>,
    /// The port that it begins to listen on.
    pub port: u16,
}

impl Opened {
    /// Whether it can't be opened while something listens on `address`, on the same port.
    pub fn is_taken_by(&self, address: IpAddr) -> bool {
        let is_all = address.is_unspecified() && (address.is_ipv6() || self.address.is_some_and(|own| own.is_ipv4()));
        self.address.is_none_or(|own| own.is_unspecified() || own == address || is_all)
    }
}

/// When a step is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// Before the servers are reloaded.
    BeforeReload,
    /// Once they run on their new configuration: what the former one still refers to is removed.
    AfterReload,
}

/// A site before and after; `None` where there is none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteChange {
    /// As it was.
    pub before: Option<Site>,
    /// As it is to be.
    pub after: Option<Site>,
}

/// One step: a change and its role.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// Why it is done.
    pub role: Role,
    /// What is done to the file, folder or link.
    pub change: Change,
}

/// A change. Each holds the former state, so each knows its inverse.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// A folder that is made if it isn't there, with those above it.
    Folder {
        /// The folder.
        path: Utf8PathBuf,
        /// Its readers.
        access: Access,
    },
    /// A file that is written, changed or removed.
    File(FileChange),
    /// A symbolic link that is made, changed or removed.
    Link(LinkChange),
    /// The access rights of an existing file or folder change.
    Rights(RightsChange),
    /// A root certificate goes into a trust store of a program's own, or out of it.
    Trust(TrustChange),
    /// Rows of a database get other texts.
    Rows(RowsChange),
    /// A folder that goes if nothing is left in it.
    EmptyFolder {
        /// The folder.
        path: Utf8PathBuf,
    },
}

/// A root certificate in a trust store that a program keeps.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TrustChange {
    /// Kind of the store. Another name in the record, where each step has a `kind`.
    #[serde(default, rename = "keeper")]
    pub kind: StoreKind,
    /// The database's folder or file, or the store's name.
    pub store: Utf8PathBuf,
    /// Owner of the store, for people to read.
    pub title: String,
    /// Name of the certificate in the store.
    pub nickname: String,
    /// The certificate in PEM.
    pub certificate: String,
    /// Whether it is trusted there.
    pub before: bool,
    /// Whether it is to be.
    pub after: bool,
}

/// Rows of a database whose texts change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RowsChange {
    /// The database.
    pub database: DatabaseAddress,
    /// The file that holds the rows, each with its texts before and after.
    pub rows_file: Utf8PathBuf,
    /// How many rows change.
    pub rows: u64,
    /// How many addresses in them.
    pub places: u64,
    /// Whether the rows have the new texts.
    pub before: bool,
    /// Whether they are to have them.
    pub after: bool,
}

/// Access rights of a file or folder, before and after.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RightsChange {
    /// The file or folder.
    pub path: Utf8PathBuf,
    /// As it is.
    pub before: Rights,
    /// As it is to be.
    pub after: Rights,
    /// The user who gets them, for people to read.
    pub who: String,
}

/// Mode and access control list of a file or folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rights {
    /// The permission bits.
    pub mode: u32,
    /// Its access control list in the form in which the system keeps it; `None` without one.
    pub list: Option<Vec<u8>>,
}

/// A file's content before and after; `None` if there is no file.
#[derive(Clone, PartialEq, Eq)]
pub struct FileChange {
    /// The file.
    pub path: Utf8PathBuf,
    /// Present content.
    pub before: Option<FileContent>,
    /// Wanted content.
    pub after: Option<FileContent>,
    /// Readers of a new file; an existing one keeps its mode.
    pub access: Access,
}

impl std::fmt::Debug for FileChange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let size = |content: &Option<FileContent>| content.as_ref().map(|content| content.len());
        // The content may be a key.
        write!(f, "FileChange({}, {:?} -> {:?} bytes)", self.path, size(&self.before), size(&self.after))
    }
}

/// A symbolic link's target before and after; `None` if there is no link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinkChange {
    /// The link.
    pub path: Utf8PathBuf,
    /// Present target.
    pub before: Option<Utf8PathBuf>,
    /// Wanted target.
    pub after: Option<Utf8PathBuf>,
}

/// Readers of a new file or folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// Everyone: files 0644, folders 0755.
    Public,
    /// Only the owner: files 0600, folders 0700.
    Private,
    /// Only the owner, and the content is neither shown nor recorded.
    Secret,
    /// Everyone, and it is the person's own project: theirs, and its folder's group's.
    Project,
}

impl Access {
    /// The mode of a new file.
    pub fn file_mode(self) -> u32 {
        if matches!(self, Self::Public | Self::Project) { 0o644 } else { 0o600 }
    }

    /// The mode of a new folder.
    pub fn folder_mode(self) -> u32 {
        if matches!(self, Self::Public | Self::Project) { 0o755 } else { 0o700 }
    }
}

impl Step {
    /// The path that the step changes.
    pub fn path(&self) -> &Utf8Path {
        self.change.path()
    }

    /// When it is done.
    pub fn phase(&self) -> Phase {
        match &self.change {
            Change::File(FileChange { after: None, .. }) if self.role.certificate_of().is_some() => Phase::AfterReload,
            _ => Phase::BeforeReload,
        }
    }
}

impl Change {
    /// The path that it changes.
    pub fn path(&self) -> &Utf8Path {
        match self {
            Self::Folder { path, .. } | Self::EmptyFolder { path } => path,
            Self::File(change) => &change.path,
            Self::Link(change) => &change.path,
            Self::Rights(change) => &change.path,
            Self::Trust(change) => &change.store,
            Self::Rows(change) => &change.rows_file,
        }
    }
}

impl ChangeSet {
    /// Adds a step.
    pub fn step(&mut self, role: Role, change: Change) {
        self.steps.push(Step { role, change });
    }

    /// Adds a folder that is made if it isn't there.
    pub fn folder(&mut self, role: Role, path: Utf8PathBuf, access: Access) {
        self.step(role, Change::Folder { path, access });
    }

    /// Adds a change of a file, if it is one.
    pub fn file(
        &mut self,
        role: Role,
        path: Utf8PathBuf,
        (before, after): (Option<impl Into<FileContent>>, Option<impl Into<FileContent>>),
        access: Access,
    ) {
        let (before, after) = (before.map(Into::into), after.map(Into::into));
        if before != after {
            self.step(role, Change::File(FileChange { path, before, after, access }));
        }
    }

    /// Has a file hold `after`, in the place of what the set would write into it, or of what it holds.
    pub(super) fn change_file(&mut self, role: Role, path: &Utf8Path, before: Option<&Vec<u8>>, after: Vec<u8>) {
        match self.file_mut(path) {
            Some(change) => change.after = Some(after.into()),
            None => self.file(role, path.to_owned(), (before.cloned(), Some(after)), Access::Public),
        }
    }

    /// Adds a change of a link, if it is one.
    pub fn link(&mut self, role: Role, path: Utf8PathBuf, before: Option<Utf8PathBuf>, after: Option<Utf8PathBuf>) {
        if before != after {
            self.step(role, Change::Link(LinkChange { path, before, after }));
        }
    }

    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.steps.iter().all(|step| matches!(step.change, Change::Folder { .. } | Change::EmptyFolder { .. }))
            && self.servers.is_empty()
    }

    /// Puts the steps in the order in which they are done; within a phase they stay in theirs.
    pub fn order_by_phase(&mut self) {
        self.steps.sort_by_key(Step::phase);
    }

    /// The servers that a site moves away from, and to which none comes.
    pub fn leaving_servers(&self) -> BTreeSet<ServerId> {
        if !self.sites.iter().any(is_moved) {
            return BTreeSet::new();
        }
        let arriving = |id: &ServerId| {
            self.sites.iter().any(|change| change.after.as_ref().is_some_and(|site| site.server == Some(*id)))
        };
        self.servers.iter().copied().filter(|id| !arriving(id)).collect()
    }

    /// The servers in the order in which they are reloaded: first those that give ports up.
    pub fn servers_in_order(&self) -> Vec<ServerId> {
        let leaving = self.leaving_servers();
        leaving.iter().chain(self.servers.difference(&leaving)).copied().collect()
    }

    /// Has the caches that run forget their answers, if the hosts file changes, and the system's resolver read its
    /// files again that change.
    pub fn flush_after(&mut self, hosts: &Utf8Path, running: &[Cache]) {
        let reload = |step: &Step| match step.role {
            Role::Resolver(place) => place.reload(),
            _ => None,
        };
        let mut told: Vec<Cache> = self.steps.iter().filter_map(reload).collect();
        if self.change_of(hosts).is_some() || !told.is_empty() {
            told.extend(running);
        }
        told.dedup();
        self.flush = told;
    }

    /// Has the trust store's program run if one of its root certificates changes. `inside`
    /// gives a path as the system itself sees it.
    pub fn refresh_after(&mut self, inside: impl Fn(&Utf8Path) -> Utf8PathBuf) {
        self.trust = self.steps.iter().find_map(|step| TrustStore::of_file(&inside(step.path())));
    }

    /// Takes the change of this path out, if there is one.
    pub fn without(&mut self, path: &Utf8Path) {
        self.steps
            .retain(|step| step.path() != path || matches!(step.change, Change::Folder { .. } | Change::Trust(_)));
    }

    /// Has these steps in the place of those of the same paths, all at the end; of two of them the later one counts.
    pub(super) fn replace(&mut self, steps: Vec<Step>) {
        let stays = |step: &Step| matches!(step.change, Change::Folder { .. } | Change::Trust(_));
        let paths: HashSet<Utf8PathBuf> = steps.iter().map(|step| step.path().to_owned()).collect();
        self.steps.retain(|step| stays(step) || !paths.contains(step.path()));
        let mut later = HashSet::new();
        let kept = steps.into_iter().rev().filter(|step| later.insert(step.path().to_owned()) || stays(step));
        let mut kept: Vec<Step> = kept.collect();
        kept.reverse();
        self.steps.extend(kept);
    }

    /// The change of this file, if there is one.
    pub fn change_of(&self, path: &Utf8Path) -> Option<&FileChange> {
        self.steps.iter().find_map(|step| match &step.change {
            Change::File(change) if change.path == path => Some(change),
            _ => None,
        })
    }
}

fn is_moved(change: &SiteChange) -> bool {
    match (&change.before, &change.after) {
        (Some(before), Some(after)) => before.server != after.server,
        _ => false,
    }
}
