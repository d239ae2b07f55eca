//! The files as they were before yandro ever touched them, kept for good.

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use yandro_core::{Change, ChangeSet};

use crate::files::{self, FileError};
use crate::machine::Machine;

/// Keeps the content of every file that `set` changes for the first time. Yandro's own
/// files and the site list are not among them.
pub(super) fn keep(machine: &Machine, set: &ChangeSet) -> Result<(), FileError> {
    let folder = machine.originals();
    for step in &set.steps {
        let Change::File(change) = &step.change else { continue };
        let Some(content) = &change.before else { continue };
        let path = folder.join(encoded(&change.path));
        if machine.is_keepers(&change.path) || path.exists() || step.role.is_yandros() {
            continue;
        }
        machine.make_own_folder(&folder)?;
        let beside = files::temporary(&path, "new");
        machine.write_own(&beside, &path, content)?;
    }
    Ok(())
}

/// The files of which an original is kept.
pub fn originals(machine: &Machine) -> Vec<Utf8PathBuf> {
    let entries = machine.originals().read_dir_utf8().into_iter().flatten().flatten();
    let mut paths: Vec<Utf8PathBuf> =
        entries.filter(|entry| !entry.file_name().starts_with('.')).map(|entry| decoded(entry.file_name())).collect();
    paths.sort();
    paths
}

/// The content of a file before yandro ever touched it, if one was kept.
///
/// # Errors
/// When it can't be read.
pub fn original(machine: &Machine, path: &Utf8Path) -> Result<Option<Vec<u8>>, FileError> {
    files::read_if_there(&machine.originals().join(encoded(path)))
}

/// A path as one file name: `%` and `/` by their hexadecimal numbers, and `\\` and `:` of one with a drive.
fn encoded(path: &Utf8Path) -> String {
    let name = path.as_str().replace('%', "%25").replace('/', "%2F");
    let has_drive = matches!(path.components().next(), Some(Utf8Component::Prefix(_)));
    if has_drive { name.replace('\\', "%5C").replace(':', "%3A") } else { name }
}

fn decoded(name: &str) -> Utf8PathBuf {
    name.replace("%5C", "\\").replace("%3A", ":").replace("%2F", "/").replace("%25", "%").into()
}

impl Machine {
    fn originals(&self) -> Utf8PathBuf {
        self.places.data.join("originals")
    }
}
