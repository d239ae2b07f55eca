//! Trust stores that a program manages: browsers' databases, Java's key stores, macOS's
//! keychain, Windows's root store. One way to find, ask and change them all.

use camino::Utf8Path;
use yandro_core::{StoreKind, System, TrustChange};

use super::{browsers, java, systems, windows};
use crate::machine::Machine;
use crate::os::{self, Process};

pub use super::store::{Store, StoreError};

/// Every such store of this user and this machine.
pub fn find(machine: &Machine) -> Vec<Store> {
    let mut found = browsers::find(machine);
    found.extend(java::find(machine));
    found.extend(systems::find(machine));
    found.extend(windows::find(machine));
    found
}

/// Whether the program is there that keeps stores of this kind.
pub fn has_program(machine: &Machine, store: &Store) -> bool {
    match store.kind {
        StoreKind::Nss => browsers::has_program(),
        StoreKind::Java => java::program(machine, &store.path).is_some() || java::is_readable(&store.path),
        StoreKind::Keychain => systems::has_program(machine, store.kind),
        // The system keeps it itself.
        StoreKind::WindowsRoot => true,
    }
}

/// Whether this user may change a store.
pub fn may_change(store: &Store) -> bool {
    match store.kind {
        // It is its user's own.
        StoreKind::Nss | StoreKind::Keychain => true,
        StoreKind::WindowsRoot => !windows::is_machines(&store.path) || os::is_root(),
        StoreKind::Java => os::may_write(&store.path).is_ok(),
    }
}

/// Whether root can be asked to change a store: a key store of Java's, where there is sudo.
pub fn may_be_asked_for(machine: &Machine, store: &Store) -> bool {
    store.kind == StoreKind::Java && machine.is_real() && crate::process::find(&SUDO).is_some()
}

/// Paths of sudo.
const SUDO: [&str; 2] = ["/usr/bin/sudo", "/bin/sudo"];

/// The names of yandro's own roots that a store trusts.
///
/// # Errors
/// When the program is missing, or the store can't be read.
pub fn own_roots(machine: &Machine, kind: StoreKind, path: &Utf8Path) -> Result<Vec<String>, StoreError> {
    match kind {
        StoreKind::Nss => browsers::own_roots(path),
        StoreKind::Java => java::own_roots(machine, path),
        StoreKind::Keychain => systems::own_roots(machine, kind, path),
        StoreKind::WindowsRoot => windows::own_roots(path),
    }
}

/// The roots of this user's earlier authorities that a store trusts: what each is called, and its PEM.
/// `current` is what the present root is called. In a store that users share, roots of others are left out.
///
/// # Errors
/// As [`own_roots`].
pub fn former_roots(
    machine: &Machine,
    kind: StoreKind,
    path: &Utf8Path,
    current: &str,
) -> Result<Vec<(String, String)>, StoreError> {
    let mut found = Vec::new();
    for name in own_roots(machine, kind, path)?.into_iter().filter(|name| name != current) {
        let pem = certificate(machine, kind, path, &name)?;
        // Java's stores and Windows's own are shared by several users.
        let is_shared = kind == StoreKind::Java || windows::is_machines(path);
        if !is_shared || super::is_of_user(machine, pem.as_bytes()) {
            found.push((name, pem));
        }
    }
    Ok(found)
}

/// Whether a store trusts a root, if that can be read quickly: a key store of Java's that needs
/// its program can't.
pub fn trusts(machine: &Machine, store: &Store, nickname: &str, root: &[u8]) -> Option<bool> {
    match store.kind {
        StoreKind::Java => java::has(&store.path, root),
        kind => own_roots(machine, kind, &store.path).ok().map(|held| held.iter().any(|own| own == nickname)),
    }
}

/// A root, in PEM.
///
/// # Errors
/// As [`own_roots`].
pub fn certificate(machine: &Machine, kind: StoreKind, path: &Utf8Path, name: &str) -> Result<String, StoreError> {
    match kind {
        StoreKind::Nss => browsers::certificate(path, name),
        StoreKind::Java => java::certificate(machine, path, name),
        StoreKind::Keychain => systems::certificate(machine, kind, path, name),
        StoreKind::WindowsRoot => windows::certificate(path, name),
    }
}

/// Whether a store trusts the root of a change.
///
/// # Errors
/// As [`own_roots`].
pub fn is_trusted(machine: &Machine, change: &TrustChange) -> Result<bool, StoreError> {
    Ok(own_roots(machine, change.kind, &change.store)?.contains(&change.nickname))
}

/// Puts a root in, or takes it out.
///
/// # Errors
/// As [`own_roots`], and when the store refuses: one with a password does.
pub(crate) fn carry_out(machine: &Machine, change: &TrustChange) -> Result<(), StoreError> {
    match change.kind {
        StoreKind::Nss => browsers::carry_out(machine, change),
        StoreKind::Java => java::carry_out(machine, change),
        StoreKind::Keychain => systems::carry_out(machine, change),
        StoreKind::WindowsRoot => windows::carry_out(change),
    }
}

/// Programs that run and read their trust store only when they start: what they are called, and
/// their processes.
pub fn running(machine: &Machine) -> Vec<(String, Vec<i32>)> {
    const READERS: [&str; 9] =
        ["chromium", "chrome", "firefox", "firefox-esr", "firefox-bin", "msedge", "brave", "opera", "java"];
    if !machine.is_real() || machine.system != System::Linux {
        return Vec::new();
    }
    let mut found: Vec<(String, Vec<i32>)> = Vec::new();
    for pid in os::processes_named(&READERS) {
        let Some(Process { name: own, parent, .. }) = os::process(pid) else { continue };
        // Only the first of a browser's many processes is worth naming.
        let is_child = os::process(parent).is_some_and(|parent| parent.name == own);
        if is_child {
            continue;
        }
        match found.iter_mut().find(|(name, _)| *name == own) {
            Some((_, pids)) => pids.push(pid),
            None => found.push((own, vec![pid])),
        }
    }
    found.sort();
    found
}
