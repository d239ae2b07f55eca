//! Certificates of many sites, written and removed by several threads. A disk makes several files safe in little more
//! time than one, and a change of all sites has thousands of them; their order among themselves doesn't matter.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use camino::Utf8Path;
use yandro_core::{Access, Change, FileChange, Step};

use super::record::Record;
use super::steps::{StepsWork, Stopped, Task, attributes_for, hold, keep_before, make_unsafe_folder};
use crate::caller;
use crate::files::{self, FileError};
use crate::interrupt;
use crate::machine::Machine;
use crate::os;

/// From how many tasks on it is worth while.
const FEW: usize = 16;
/// How many sites' files are changed at once.
const AT_ONCE: usize = 8;

/// Tasks, parted by whether they can be done side by side.
pub(super) struct Parted<'w> {
    /// The folders above all certificates, which come first.
    pub(super) above: Vec<Task<'w>>,
    /// Files of certificates that are written or removed, and their folders; empty if they are few.
    pub(super) certificates: Vec<Task<'w>>,
    /// The rest, in its order.
    pub(super) others: Vec<Task<'w>>,
}

impl<'w> Parted<'w> {
    pub(super) fn of(tasks: Vec<Task<'w>>, machine: &Machine) -> Self {
        let folder = machine.places.certificates();
        let folders = |is_one: fn(&FileChange) -> bool| -> HashSet<&Utf8Path> {
            tasks.iter().filter(|task| task.file().is_some_and(is_one)).map(Task::folder).collect()
        };
        let goes = folders(|change| change.after.is_none());
        let stays = folders(|change| change.after.is_some());
        // A certificate that gets another key changes together with it.
        let replaced = folders(|change| change.access == Access::Secret && change.before.is_some());
        let is_taken = |task: &Task<'_>| {
            let folder_of = task.folder();
            let is_apart =
                if goes.contains(folder_of) { !stays.contains(folder_of) } else { !replaced.contains(folder_of) };
            is_certificate(task, &folder) && is_apart
        };
        let (certificates, rest): (Vec<_>, Vec<_>) = tasks.iter().partition(|task| is_taken(task));
        if certificates.len() < FEW {
            return Self { above: Vec::new(), certificates: Vec::new(), others: tasks };
        }
        let is_above = |task: &Task<'_>| matches!(task, Task::Folder { path, .. } if folder.starts_with(path));
        let (above, others) = rest.into_iter().partition(is_above);
        Self { above, certificates, others }
    }
}

impl<'w> Task<'w> {
    fn file(&self) -> Option<&'w FileChange> {
        match self {
            Self::Step { step: Step { change: Change::File(change), .. }, .. } => Some(change),
            _ => None,
        }
    }

    /// The folder that it makes, or that its file is in.
    fn folder(&self) -> &'w Utf8Path {
        match self {
            Self::Folder { path, .. } => path,
            Self::Step { step, .. } => step.path().parent().unwrap_or(step.path()),
        }
    }
}

/// Whether a task makes a site's folder of certificates, or changes a file in one.
fn is_certificate(task: &Task<'_>, folder: &Utf8Path) -> bool {
    let is_one = matches!(task, Task::Folder { .. }) || task.file().is_some();
    is_one && task.folder().parent() == Some(folder)
}

/// The files of one site, each with the number of its step.
type OfSite<'w> = Vec<(&'w FileChange, usize)>;

impl<'w> StepsWork<'w> {
    /// Changes certificates, site by site in no order; their folders are made first.
    pub(super) fn change_certificates(&self, tasks: &[Task<'w>]) -> Result<(), Stopped> {
        self.make_folders(tasks)?;
        let mut sites: BTreeMap<&Utf8Path, OfSite<'w>> = BTreeMap::new();
        for task in tasks {
            if let (Some(change), Task::Step { number, .. }) = (task.file(), task) {
                sites.entry(task.folder()).or_default().push((change, *number));
            }
        }
        let sites: Vec<OfSite<'w>> = sites.into_values().collect();
        // All of them are the user's own: none needs the helper.
        let (machine, record) = (self.machine, self.record);
        let next = AtomicUsize::new(0);
        let stopped = Mutex::new(None);
        let work = || {
            while let Some(site) = sites.get(next.fetch_add(1, Ordering::Relaxed)) {
                let why = match change_site(machine, record, site) {
                    Err(error) => Stopped::File(error),
                    Ok(()) if interrupt::came() => Stopped::Interrupted,
                    Ok(()) => continue,
                };
                // The others end what they have begun.
                next.store(sites.len(), Ordering::Relaxed);
                stopped.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(why);
            }
        };
        std::thread::scope(|scope| (0..caller::threads(AT_ONCE.min(sites.len()))).for_each(|_| _ = scope.spawn(work)));
        stopped.into_inner().unwrap_or_else(PoisonError::into_inner).map_or(Ok(()), Err)
    }

    fn make_folders(&self, tasks: &[Task<'_>]) -> Result<(), Stopped> {
        let mut parents = BTreeSet::new();
        for task in tasks {
            if let Task::Folder { path, access } = task {
                if interrupt::came() {
                    return Err(Stopped::Interrupted);
                }
                make_unsafe_folder(self.machine, path, *access)?;
                parents.extend(path.parent());
            }
        }
        for parent in parents {
            let _rights = caller::rights_for(parent);
            files::sync_folder(parent)?;
        }
        Ok(())
    }
}

/// Writes or removes the files of one site, and makes sure that this is on the disk.
fn change_site(machine: &Machine, record: &Record, site: &OfSite<'_>) -> Result<(), FileError> {
    let mut gone = None;
    for (change, number) in site {
        let path = &change.path;
        let _rights = caller::rights_for(path);
        if let Some(content) = &change.after {
            let mark = || keep_before(machine, record, change, *number);
            files::write(path, content, &attributes_for(machine, change), record.tag(), mark)?;
            continue;
        }
        match change.access {
            Access::Secret => hold(change, record)?,
            _ => os::remove_file(files::follow_folder(path)).map_err(FileError::at(path))?,
        }
        tracing::debug!(target: "remove", "{path}");
        gone = path.parent();
    }
    let Some(folder) = gone else { return Ok(()) };
    let _rights = caller::rights_for(folder);
    files::sync_folder(folder)
}

#[cfg(test)]
mod tests {
    use yandro_core::{HostName, Role};

    use super::*;

    #[test]
    fn a_certificate_that_gets_another_key_stays_with_it() {
        let machine = Machine::bare();
        let step = |name: &str, file: &str, access, is_new: bool| {
            let name = HostName::parse(name).unwrap();
            let path = machine.places.certificates().join(name.as_str()).join(file);
            let before = (!is_new).then(|| b"old".to_vec().into());
            let change = FileChange { path, before, after: Some(b"new".to_vec().into()), access };
            Step { role: Role::Certificate(name), change: Change::File(change) }
        };
        let mut steps: Vec<Step> = Vec::new();
        for boat in 0..FEW {
            steps.push(step(&format!("boat{boat}.test"), "key.pem", Access::Secret, boat != 3));
            steps.push(step(&format!("boat{boat}.test"), "fullchain.pem", Access::Private, boat != 3));
        }
        let tasks = steps.iter().enumerate().map(|(number, step)| Task::Step { step, number }).collect();
        let parted = Parted::of(tasks, &machine);
        assert_eq!(parted.certificates.len(), 2 * FEW - 2);
        let others: Vec<&str> = parted.others.iter().filter_map(|task| task.file()?.path.file_name()).collect();
        assert_eq!(others, ["key.pem", "fullchain.pem"]);
    }
}
