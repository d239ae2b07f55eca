//! Windows's root stores: the user's and the machine's, through the system's own interface.

use std::io;

use camino::Utf8Path;
use yandro_core::{CertificateFacts, StoreKind, System, TrustChange, nickname};

use super::java::to_pem;
use super::store::{Store, StoreError};
use crate::files;
use crate::machine::Machine;
use crate::os;

/// The store of this user, and that of the machine: what they are called, and how a person reads that.
const STORES: [(&str, &str); 2] = [(USER, "your root store"), (MACHINE, "this computer's root store")];
const USER: &str = r"CurrentUser\Root";
const MACHINE: &str = r"LocalMachine\Root";

/// Both stores, on Windows itself.
pub(super) fn find(machine: &Machine) -> Vec<Store> {
    if !machine.is_real() || machine.system != System::Windows {
        return Vec::new();
    }
    let store = |(path, title): (&str, &str)| Store {
        kind: StoreKind::WindowsRoot,
        title: title.to_owned(),
        path: path.into(),
        is_of_system: false,
    };
    STORES.into_iter().map(store).collect()
}

/// Whether a store is the machine's, for all users.
pub(super) fn is_machines(path: &Utf8Path) -> bool {
    path == MACHINE
}

fn refused(path: &Utf8Path) -> impl Fn(io::Error) -> StoreError {
    let path = path.to_owned();
    move |error| StoreError::Refused { path: path.clone(), words: files::words(&error) }
}

/// Its certificates whose subject is one of yandro's: name and DER.
fn own(path: &Utf8Path) -> Result<Vec<(String, Vec<u8>)>, StoreError> {
    let all = os::system_roots(is_machines(path)).map_err(refused(path))?;
    let is_own =
        |der: &Vec<u8>| CertificateFacts::read(der).is_ok_and(|facts| facts.subject.contains("Yandro local authority"));
    Ok(all.into_iter().filter(is_own).map(|der| (nickname(&files::sha256(&der)), der)).collect())
}

pub(super) fn own_roots(path: &Utf8Path) -> Result<Vec<String>, StoreError> {
    Ok(own(path)?.into_iter().map(|(name, _)| name).collect())
}

pub(super) fn certificate(path: &Utf8Path, name: &str) -> Result<String, StoreError> {
    let found = own(path)?.into_iter().find(|(own, _)| own == name);
    let gone = || StoreError::Refused { path: path.to_owned(), words: format!("it has no {name}") };
    found.map(|(_, der)| to_pem(&der)).ok_or_else(gone)
}

pub(super) fn carry_out(change: &TrustChange) -> Result<(), StoreError> {
    let path = &change.store;
    let fault = |words: String| StoreError::Refused { path: path.clone(), words };
    let all =
        CertificateFacts::certificates(change.certificate.as_bytes()).map_err(|error| fault(error.to_string()))?;
    let der = all.first().ok_or_else(|| fault("the certificate to change is missing".to_owned()))?;
    let is_machines = is_machines(path);
    let done =
        if change.after { os::add_system_root(is_machines, der) } else { os::remove_system_root(is_machines, der) };
    done.map_err(refused(path))
}
