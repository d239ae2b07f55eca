//! The keys of one run: the passphrase that opens the authority's, and those that others could read.
//!
//! Only their owner may read keys: checked whenever they are read.

use std::sync::{Mutex, OnceLock, PoisonError};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::HostName;
use zeroize::Zeroizing;

use crate::files::FileError;
use crate::machine::Machine;
use crate::observe::error::ObserveError;
use crate::os::{self, HeldKey};

/// A key, or a folder of keys, that others may enter or read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenKeys {
    /// The key or folder.
    pub path: Utf8PathBuf,
    /// Permission bits as they are.
    pub mode: u32,
    /// The mode that it ought to have.
    pub wanted: u32,
}

/// The keys' state in one run.
#[derive(Debug)]
pub struct Keys {
    /// Whether keys that others can read are closed to them when they are met.
    closes: bool,
    passphrase: OnceLock<Zeroizing<String>>,
    /// Keys that others could read.
    open: Mutex<Vec<OpenKeys>>,
}

impl Keys {
    /// `closes` tells whether keys that others can read are closed to them when they are met.
    pub fn new(closes: bool) -> Self {
        Self { closes, passphrase: OnceLock::new(), open: Mutex::default() }
    }

    /// Whether keys that others can read are closed to them.
    pub fn closes(&self) -> bool {
        self.closes
    }

    /// The passphrase of the authority's key, if it was given.
    pub fn passphrase(&self) -> Option<&str> {
        self.passphrase.get().map(|passphrase| passphrase.as_str())
    }

    /// Gives the passphrase of the authority's key. The first that is given counts.
    pub fn give_passphrase(&self, passphrase: Zeroizing<String>) {
        _ = self.passphrase.set(passphrase);
    }

    fn found_open(&self, open: OpenKeys) {
        let mut found = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if !found.contains(&open) {
            found.push(open);
        }
    }

    /// The keys that were open to others, told once.
    pub fn take_open(&self) -> Vec<OpenKeys> {
        std::mem::take(&mut *self.open.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Closes whatever is open of the authority, the sites' certificates and the history.
    ///
    /// # Errors
    /// When a key is another user's, or its mode can't be changed.
    pub fn close_all(&self, machine: &Machine) -> Result<(), ObserveError> {
        let places = &machine.places;
        let folders = [places.authority(), places.former_authorities(), places.certificates(), machine.history()];
        folders.iter().try_for_each(|folder| self.close(machine, folder))
    }

    /// Takes others' rights away from a folder of keys and the keys in it, and remembers what was open:
    /// the command tells it.
    ///
    /// # Errors
    /// When a key is another user's, or its mode can't be changed.
    pub(crate) fn close(&self, machine: &Machine, folder: &Utf8Path) -> Result<(), ObserveError> {
        self.close_these(machine, below(folder))
    }

    /// The same for a site's key and its folder, which isn't listed: there may be ten thousand of them.
    ///
    /// # Errors
    /// As [`Self::close`].
    pub(crate) fn close_site(&self, machine: &Machine, name: &HostName) -> Result<(), ObserveError> {
        let key = machine.places.key(name);
        self.close_these(machine, [key.parent().and_then(is_open), is_open(&key)].into_iter().flatten())
    }

    fn close_these(&self, machine: &Machine, open: impl IntoIterator<Item = OpenKeys>) -> Result<(), ObserveError> {
        for open in open {
            let held = HeldKey::open(&open.path).map_err(FileError::at(&open.path))?;
            let owner = held.owner().map_err(FileError::at(&open.path))?;
            let keeper = machine.keeper.map(|keeper| keeper.user);
            // Root may do anything, and does it for the user who called and for itself only.
            let is_theirs = owner == os::this_user() || keeper.map_or(os::is_root(), |keeper| keeper == owner);
            if !is_theirs {
                return Err(ObserveError::Foreign { path: open.path, owner });
            }
            if self.closes {
                held.close(open.wanted).map_err(FileError::at(&open.path))?;
            }
            self.found_open(open);
        }
        Ok(())
    }
}

/// A folder of keys, the keys in it and in its folders, as far as others have rights to them.
/// Links are not followed.
fn below(folder: &Utf8Path) -> Vec<OpenKeys> {
    let mut found: Vec<OpenKeys> = is_open(folder).into_iter().collect();
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

fn is_open(path: &Utf8Path) -> Option<OpenKeys> {
    let (mode, wanted) = os::rights_of_others(path)?;
    Some(OpenKeys { path: path.to_owned(), mode, wanted })
}
