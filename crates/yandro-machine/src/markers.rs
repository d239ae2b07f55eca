//! Markers of site folders, to find a folder that was moved.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use yandro_core::{Access, ChangeSet, Content, Role, Site};

use crate::files;
use crate::machine::Machine;
use crate::os::{self, FileId};

/// How many of a folder's names are kept.
const NAMES: usize = 64;
/// How many folders are looked at.
const FOLDERS: usize = 4096;
/// How many names in common make two folders the same, in percent.
const ALIKE: usize = 80;

/// The marks of a folder: its number on its device, which a move within that keeps, and the names in it.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Marker {
    #[serde(flatten)]
    id: FileId,
    names: BTreeSet<String>,
}

impl Marker {
    fn of(folder: &Utf8Path) -> Option<Self> {
        let entries = folder.read_dir_utf8().ok()?.flatten();
        let mut names: Vec<String> = entries.map(|entry| entry.file_name().to_owned()).collect();
        names.sort();
        names.truncate(NAMES);
        Some(Self { id: os::file_id(folder)?, names: names.into_iter().collect() })
    }

    /// Whether it is the very folder.
    fn is(&self, other: &Self) -> bool {
        self.id == other.id
    }

    /// Whether it looks like a copy: most names are there, and there are several.
    fn is_like(&self, other: &Self) -> bool {
        let both = self.names.intersection(&other.names).count();
        let all = self.names.len().max(other.names.len());
        both >= 3 && both * 100 >= all * ALIKE
    }
}

/// The markers of all sites, by their names.
type Markers = BTreeMap<String, Marker>;

fn path(machine: &Machine) -> Utf8PathBuf {
    machine.places.data.join("markers.json")
}

fn read(machine: &Machine) -> (Option<Vec<u8>>, Markers) {
    let text = files::read_if_there(&path(machine)).ok().flatten();
    let markers = text.as_ref().and_then(|text| serde_json::from_slice(text).ok());
    (text, markers.unwrap_or_default())
}

/// Has a change set remember what the folders of its sites look like, and forget those of sites that go.
pub fn note(machine: &Machine, set: &mut ChangeSet) {
    if set.sites.is_empty() {
        return;
    }
    let (text, mut markers) = read(machine);
    for change in &set.sites {
        if let Some(before) = &change.before {
            markers.remove(before.name.as_str());
        }
        if let Some(site) = &change.after
            && let Content::Folder { folder, .. } = &site.content
            && let Some(marker) = Marker::of(folder)
        {
            markers.insert(site.name.to_string(), marker);
        }
    }
    let after = if markers.is_empty() { None } else { serde_json::to_vec(&markers).ok() };
    set.without(&path(machine));
    set.file(Role::Marker, path(machine), (text, after), Access::Private);
}

/// The present path of a site's folder, if it was moved to a nearby folder or within the user's home.
pub(crate) fn moved_to(machine: &Machine, site: &Site) -> Option<Utf8PathBuf> {
    let Content::Folder { folder, .. } = &site.content else { return None };
    if folder.is_dir() {
        return None;
    }
    let marker = read(machine).1.remove(site.name.as_str())?;
    let above: Vec<&Utf8Path> = folder.ancestors().skip(1).take(2).filter(|above| *above != "/").collect();
    let mut folders: Vec<Utf8PathBuf> = above.into_iter().chain([machine.home()]).flat_map(below).collect();
    folders.sort();
    folders.dedup();
    let marked: Vec<(Utf8PathBuf, Marker)> =
        folders.into_iter().take(FOLDERS).filter_map(|folder| Some((folder.clone(), Marker::of(&folder)?))).collect();
    if let Some((folder, _)) = marked.iter().find(|(_, own)| own.is(&marker)) {
        return Some(folder.clone());
    }
    let mut alike = marked.iter().filter(|(_, own)| own.is_like(&marker));
    let first = alike.next()?;
    // If there are several copies, it is unknown which one is meant.
    alike.next().is_none().then(|| first.0.clone())
}

/// The folders in a folder, and those in them; no hidden ones.
fn below(folder: &Utf8Path) -> Vec<Utf8PathBuf> {
    let list = |folder: &Utf8Path| -> Vec<Utf8PathBuf> {
        let entries = folder.read_dir_utf8().into_iter().flatten().flatten();
        let is_folder = |entry: &camino::Utf8DirEntry| {
            !entry.file_name().starts_with('.') && entry.file_type().is_ok_and(|kind| kind.is_dir())
        };
        entries.filter(is_folder).map(camino::Utf8DirEntry::into_path).collect()
    };
    let first = list(folder);
    let second: Vec<Utf8PathBuf> = first.iter().take(FOLDERS / 16).flat_map(|folder| list(folder)).collect();
    first.into_iter().chain(second).collect()
}
