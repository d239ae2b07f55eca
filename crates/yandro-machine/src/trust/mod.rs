//! Trust stores: the system's, and those that programs keep for themselves.

mod browsers;
mod java;
pub mod runtimes;
mod store;
pub mod stores;
mod systems;
mod windows;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{CertificateFacts, TrustStore, is_own_nickname};

use crate::files;
use crate::machine::Machine;
use crate::process;
use crate::process::ProgramError;
use crate::servers::list;

/// The store of this system; `None` if it has none of those that are known. Within a sysroot its
/// folder counts.
pub fn find(machine: &Machine) -> Option<TrustStore> {
    TrustStore::ALL.into_iter().find(|store| {
        let has_program = || Utf8Path::new(store.refresh()[0]).is_file();
        machine.real_path(store.folder()).is_dir() && (!machine.is_real() || has_program())
    })
}

/// Path of a root in a store's folder, by its name in the stores.
pub fn file_of(machine: &Machine, store: TrustStore, nickname: &str) -> Utf8PathBuf {
    machine.path(store.folder()).join(format!("{nickname}.{}", store.extension()))
}

/// Whether a list of certificates in PEM has a root.
pub(crate) fn has(list: &[u8], root: &[u8]) -> bool {
    // The whole list is some two hundred kilobytes: its lines are compared, and nothing is decoded.
    let wanted = java::to_pem(root);
    let Some(line) = wanted.lines().nth(2) else { return false };
    let text = String::from_utf8_lossy(list).replace('\r', "");
    text.contains(line) && text.contains(wanted.trim_end())
}

/// The files in a store's folder that are roots of this user's authorities, earlier ones as well.
pub fn own_files(machine: &Machine, store: TrustStore) -> Vec<Utf8PathBuf> {
    let paths = list(&machine.path(store.folder())).unwrap_or_default().into_iter();
    let is_root = |path: &Utf8PathBuf| TrustStore::of_file(&machine.places.inside(path)).is_some();
    let is_this = |path: &Utf8PathBuf| files::read(path).is_ok_and(|pem| is_of_user(machine, &pem));
    let mut own: Vec<_> = paths.filter(|path| is_root(path) && is_this(path)).collect();
    own.sort();
    own
}

/// Whether a root of yandro's, in PEM, is this user's: on a machine with several users each has an
/// authority, which the root's subject names as `user@machine`. One that can't be read is nobody's.
pub fn is_of_user(machine: &Machine, pem: &[u8]) -> bool {
    let subject = CertificateFacts::certificates(pem)
        .ok()
        .and_then(|all| Some(CertificateFacts::read(all.first()?).ok()?.subject));
    subject.is_some_and(|subject| subject.contains(&format!(" for {}@", machine.user())))
}

/// Debian's folder with a link to each root certificate, and another by its hash.
const DEBIAN_LINKS: &str = "/etc/ssl/certs";

/// The links to roots of yandro's that are gone.
pub fn dangling() -> Vec<Utf8PathBuf> {
    let entries = Utf8Path::new(DEBIAN_LINKS).read_dir_utf8().into_iter().flatten().flatten();
    let is_root = |path: &Utf8Path| path.file_stem().is_some_and(is_own_nickname);
    let is_left = |path: &Utf8PathBuf| {
        let target = path.read_link_utf8();
        target.is_ok_and(|target| is_root(path) || is_root(&target)) && !path.exists()
    };
    entries.map(camino::Utf8DirEntry::into_path).filter(is_left).collect()
}

/// Removes the links to roots of yandro's that are gone: `update-ca-certificates` forgets them when
/// nothing else changes.
fn remove_dangling() {
    for path in dangling() {
        // A failure leaves a dangling link, as `update-ca-certificates` would.
        _ = std::fs::remove_file(path);
    }
}

/// Runs the store's program after a change in its folder.
///
/// # Errors
/// The program that failed.
pub fn refresh(store: TrustStore) -> Result<(), ProgramError> {
    if store == TrustStore::Debian {
        remove_dangling();
    }
    let line = store.refresh();
    ProgramError::check(line[0], process::run(Utf8Path::new(line[0]), &line[1..]))
}
