//! Plans that build on one another.

use std::collections::{BTreeMap, HashMap};

use camino::Utf8Path;

use super::applied::Applied;
use super::authority_files::{AuthorityFiles, AuthorityTexts};
use super::change::{Change, ChangeSet, FileChange, LinkChange};
use super::observed::{HostsByName, Observed, OwnFiles};
use super::places::Places;
use super::role::Role;
use crate::config::OTHERS;
use crate::name::HostName;

/// Sets that are put together one after the other, each planned on what those before it leave behind. What a step changes is
/// found by its path: thousands of sites have as many steps.
#[derive(Default)]
pub(super) struct Merging {
    set: ChangeSet,
    /// The place of each step that changes a file, a link or a folder.
    places: HashMap<(Kind, String), usize>,
}

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Kind {
    File,
    Link,
    Folder,
}

/// The key under which a step is found; `None` for a step that others never change.
fn key(change: &Change) -> Option<(Kind, String)> {
    match change {
        Change::File(change) => Some((Kind::File, change.path.to_string())),
        Change::Link(change) => Some((Kind::Link, change.path.to_string())),
        Change::Folder { path, .. } => Some((Kind::Folder, path.to_string())),
        Change::EmptyFolder { .. } | Change::Rights(_) | Change::Trust(_) | Change::Rows(_) => None,
    }
}

impl Merging {
    /// Begins with a set.
    pub(super) fn of(set: ChangeSet) -> Self {
        let places =
            set.steps.iter().enumerate().filter_map(|(place, step)| Some((key(&step.change)?, place))).collect();
        Self { set, places }
    }

    /// Adds the steps of `next`, which was planned on what the sets before leave behind.
    pub(super) fn add(&mut self, next: ChangeSet) {
        for step in next.steps {
            let key = key(&step.change);
            let known = key.as_ref().and_then(|key| self.set.steps.get_mut(*self.places.get(key)?));
            match (known.map(|known| (&mut known.change, known.role.clone())), &step.change) {
                (Some((Change::File(own), _)), Change::File(change)) => own.after.clone_from(&change.after),
                (Some((Change::Link(own), _)), Change::Link(change)) => own.after.clone_from(&change.after),
                (Some((own, role)), _) if *own == step.change && role == step.role => {}
                _ => {
                    if let Some(key) = key {
                        self.places.insert(key, self.set.steps.len());
                    }
                    self.set.steps.push(step);
                }
            }
        }
        self.set.sites.extend(next.sites);
        self.set.servers.extend(next.servers);
        self.set.switched.extend(next.switched);
        self.set.opens.extend(next.opens);
    }

    /// The whole. A change that a later one reverts needs no step.
    pub(super) fn finish(mut self) -> ChangeSet {
        self.set.steps.retain(|step| match &step.change {
            Change::File(change) => change.before != change.after,
            Change::Link(change) => change.before != change.after,
            _ => true,
        });
        self.set
    }
}

impl ChangeSet {
    /// Adds the steps of `next`, which was planned on what this set leaves behind.
    pub fn merge(&mut self, next: Self) {
        let mut merging = Merging::of(std::mem::take(self));
        merging.add(next);
        *self = merging.finish();
    }

    /// The authority that the set makes, if it makes one.
    pub(super) fn authority(&self, places: &Places, passphrase: Option<&str>) -> Option<AuthorityFiles> {
        let text = |path: &Utf8Path| self.change_of(path)?.after.clone();
        let texts = AuthorityTexts {
            root: text(&places.root_certificate())?,
            issuing: text(&places.issuing_certificate())?,
            key: text(&places.issuing_key())?,
        };
        AuthorityFiles::read(texts, passphrase).ok()
    }

    pub(super) fn file_mut(&mut self, path: &Utf8Path) -> Option<&mut FileChange> {
        self.steps.iter_mut().find_map(|step| match &mut step.change {
            Change::File(change) if change.path == path => Some(change),
            _ => None,
        })
    }
}

impl Observed {
    /// Takes in what `set` would change of what was observed.
    pub fn advance(&mut self, set: &ChangeSet) {
        for step in &set.steps {
            match &step.change {
                Change::File(change) => self.take_file(&step.role, change),
                Change::Link(change) => self.take_link(&step.role, change),
                Change::Folder { .. }
                | Change::EmptyFolder { .. }
                | Change::Rights(_)
                | Change::Trust(_)
                | Change::Rows(_) => {}
            }
        }
        self.take_authority(set);
        self.take_shared(set);
    }

    fn take_file(&mut self, role: &Role, change: &FileChange) {
        let after = change.after.clone();
        match role {
            Role::HostsFile => {
                self.hosts = after;
                self.hosts_by_name = HostsByName::default();
            }
            Role::SiteList => self.list = after.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()),
            Role::Certificate(name) => put(&mut self.chains, name, after),
            Role::Key(name) => put(&mut self.keys, name, after),
            Role::PhpSecrets(name) => put(&mut self.pools.scripts, name, after),
            Role::PhpPool { .. } => match after {
                Some(text) => _ = self.pools.files.insert(change.path.clone(), text),
                None => _ = self.pools.files.remove(&change.path),
            },
            Role::Resolver(_) => {
                self.resolver.iter_mut().for_each(|resolver| resolver.take(&change.path, after.as_ref()));
            }
            Role::AppliedSites => self.applied = Applied::read(after),
            _ => {
                for server in &mut self.servers {
                    server.own_mut().take_file(&change.path, after.as_deref());
                }
            }
        }
    }

    /// An authority that was made on the way serves the sites after it, too.
    fn take_authority(&mut self, set: &ChangeSet) {
        if let Some(made) = set.authority(&self.places, self.wishes.passphrase()) {
            self.authority = Some(made);
        }
    }

    fn take_link(&mut self, role: &Role, change: &LinkChange) {
        for server in &mut self.servers {
            server.own_mut().take_link(change);
            server.take_link(role, change);
        }
    }

    /// Runs through the server's configuration again, if the set changes what all sites share.
    fn take_shared(&mut self, set: &ChangeSet) {
        for server in &mut self.servers {
            server.take_shared(set);
        }
    }
}

/// Has a map hold this, or nothing.
fn put<T>(held: &mut BTreeMap<HostName, T>, name: &HostName, value: Option<T>) {
    match value {
        Some(value) => _ = held.insert(name.clone(), value),
        None => _ = held.remove(name),
    }
}

impl OwnFiles {
    /// Takes in a change of a site's file, if it is one.
    fn take_file(&mut self, path: &Utf8Path, after: Option<&Vec<u8>>) {
        if let Some(name) = self.layout.site_of_disabled(path) {
            self.disabled_files.remove(&name);
            self.disabled_files.extend(after.map(|text| (name, text.clone())));
            return;
        }
        let Some(name) = self.layout.site_of_file(path) else { return };
        self.own_sites.remove(&name);
        self.site_files.remove(&name);
        if let Some(text) = after {
            if name.as_str() != OTHERS {
                self.own_sites.insert(name.clone());
            }
            self.site_files.insert(name, text.clone());
        }
    }

    /// Takes in a change of a site's link, if it is one.
    fn take_link(&mut self, change: &LinkChange) {
        let Some(name) = change.path.file_name() else { return };
        if self.layout.links.is_some() && change.path.parent() == Some(self.layout.read_folder()) {
            match &change.after {
                Some(target) => _ = self.site_links.insert(name.to_owned(), target.clone()),
                None => _ = self.site_links.remove(name),
            }
        }
    }
}
