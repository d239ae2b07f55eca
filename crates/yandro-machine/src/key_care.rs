//! Keys are for their owner's eyes alone: seen to whenever they are read.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};

use camino::{Utf8Path, Utf8PathBuf};

use crate::files::FileError;
use crate::machine::Machine;
use crate::observe::ObserveError;

/// A key, or a folder of keys, that others may enter or read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Open {
    /// The key or folder.
    pub path: Utf8PathBuf,
    /// Its mode, as it is.
    pub mode: u32,
    /// The mode that it ought to have.
    pub wanted: u32,
}

/// Closes whatever is open of the authority, the sites' certificates and the history.
///
/// # Errors
/// When a key is another user's, or its mode can't be changed.
pub fn close_all(machine: &Machine) -> Result<(), ObserveError> {
    let places = &machine.places;
    let folders = [places.authority(), places.former_authorities(), places.certificates(), machine.history()];
    folders.iter().try_for_each(|folder| close(machine, folder))
}

/// Takes others' rights away from a folder of keys and the keys in it, and remembers what was open:
/// the command tells it.
///
/// # Errors
/// When a key is another user's, or its mode can't be changed.
pub(crate) fn close(machine: &Machine, folder: &Utf8Path) -> Result<(), ObserveError> {
    for open in below(folder) {
        let meta = fs::symlink_metadata(&open.path).map_err(FileError::at(&open.path))?;
        let own = rustix::process::geteuid().as_raw();
        let keeper = machine.keeper.map(|(uid, _)| uid);
        if own != 0 && meta.uid() != own && keeper != Some(meta.uid()) {
            return Err(ObserveError::Foreign { path: open.path, owner: meta.uid() });
        }
        if machine.closes_keys {
            let mode = fs::Permissions::from_mode(open.wanted);
            fs::set_permissions(&open.path, mode).map_err(FileError::at(&open.path))?;
        }
        machine.found_open(open);
    }
    Ok(())
}

/// A folder of keys, the keys in it and in its folders, as far as others have rights to them.
/// Links are not followed.
fn below(folder: &Utf8Path) -> Vec<Open> {
    let mut found: Vec<Open> = is_open(folder).into_iter().collect();
    for entry in folder.read_dir_utf8().into_iter().flatten().flatten() {
        let path = entry.path();
        if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            let inner = path.read_dir_utf8().into_iter().flatten().flatten();
            found.extend(is_open(path));
            found.extend(inner.filter(|entry| is_key(entry.path())).filter_map(|entry| is_open(entry.path())));
        } else if is_key(path) {
            found.extend(is_open(path));
        }
    }
    found
}

fn is_key(path: &Utf8Path) -> bool {
    path.extension() == Some("key") || path.file_name() == Some("key.pem")
}

fn is_open(path: &Utf8Path) -> Option<Open> {
    let meta = fs::symlink_metadata(path).ok().filter(|meta| !meta.file_type().is_symlink())?;
    let mode = meta.permissions().mode() & 0o7777;
    let wanted = if meta.is_dir() { 0o700 } else { 0o600 };
    (mode & 0o077 != 0).then(|| Open { path: path.to_owned(), mode, wanted })
}
