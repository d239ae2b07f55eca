//! Java's trust stores: the file `cacerts` of each runtime, kept through its own `keytool`, or, where a
//! runtime has none, in the file itself, if that is in Java's own form.

use std::time::SystemTime;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    CertificateFacts, JAVA_FOLDERS, JAVA_OF_SYSTEM, JAVA_STORES, JavaStore, StoreKind, TrustChange, is_own_nickname,
};

use super::store::{Store, StoreError};
use crate::files::{self, Attributes};
use crate::machine::Machine;
use crate::os;
use crate::process;

/// The password that every such store comes with, and that nobody changes: it guards nothing, and
/// is in the manual of `keytool`.
const PASSWORD: &str = "changeit";
/// Keeps a runtime from writing its counters to a folder in `/tmp` that it leaves behind.
const NO_COUNTERS: &str = "-J-XX:-UsePerfData";

/// The stores of the Java runtimes where systems have them.
pub(super) fn find(machine: &Machine) -> Vec<Store> {
    let mut found: Vec<Store> = Vec::new();
    for folder in JAVA_FOLDERS {
        let mut homes: Vec<Utf8PathBuf> = machine
            .path(folder)
            .read_dir_utf8()
            .into_iter()
            .flatten()
            .flatten()
            .map(camino::Utf8DirEntry::into_path)
            .collect();
        homes.sort();
        for home in homes {
            let Some(file) = JAVA_STORES.iter().map(|below| home.join(below)).find(|file| file.is_file()) else {
                continue;
            };
            let path = os::real_path(&file).unwrap_or(file);
            let is_of_system = machine.places.inside(&path).as_str() == JAVA_OF_SYSTEM;
            if found.iter().any(|store| store.path == path) {
                continue;
            }
            let title = if is_of_system {
                "Java".to_owned()
            } else {
                format!("Java ({})", home.file_name().unwrap_or_default())
            };
            found.push(Store { kind: StoreKind::Java, title, path, is_of_system });
        }
    }
    found
}

/// The `keytool` of the runtime whose store this is, or of another one: they read each other's.
pub(super) fn program(machine: &Machine, store: &Utf8Path) -> Option<Utf8PathBuf> {
    let own = store.ancestors().skip(1).map(|folder| folder.join("bin/keytool")).find(|program| program.is_file());
    own.or_else(|| {
        let others = JAVA_FOLDERS.iter().flat_map(|folder| {
            machine
                .path(folder)
                .read_dir_utf8()
                .into_iter()
                .flatten()
                .flatten()
                .map(|home| home.path().join("bin/keytool"))
        });
        others.into_iter().chain([machine.real_path("/usr/bin/keytool")]).find(|program| program.is_file())
    })
}

/// Whether a store has a root, read from its file; `None` if that needs its program.
pub(super) fn has(store: &Utf8Path, root: &[u8]) -> Option<bool> {
    if !is_readable(store) {
        return None;
    }
    Some(read(store).ok()?.certificates().any(|(_, der)| der.as_ref() == root))
}

pub(super) fn own_roots(machine: &Machine, store: &Utf8Path) -> Result<Vec<String>, StoreError> {
    let mut names: Vec<String> = aliases(machine, store)?.into_iter().map(|(name, _)| name).collect();
    names.sort();
    names.dedup();
    Ok(names)
}

/// Yandro's own roots in a store: what each is called everywhere, and there. One that the system put
/// there has its own word before its name, and an ending.
fn aliases(machine: &Machine, store: &Utf8Path) -> Result<Vec<(String, String)>, StoreError> {
    // Starting Java takes seconds.
    match read(store) {
        Ok(held) => return Ok(held.certificates().filter_map(|(alias, _)| own_alias(alias)).collect()),
        Err(error) if program(machine, store).is_none() => return Err(error),
        Err(_) => {}
    }
    let own = |line: &str| own_alias(line.split(',').next()?);
    let listed = keytool(machine, store, &["-list"], &[])?;
    Ok(listed.lines().filter(|line| line.contains("trustedCertEntry")).filter_map(own).collect())
}

fn own_alias(alias: &str) -> Option<(String, String)> {
    let name = alias.split([':', '.']).find(|part| is_own_nickname(part))?;
    Some((name.to_owned(), alias.to_owned()))
}

pub(super) fn certificate(machine: &Machine, store: &Utf8Path, name: &str) -> Result<String, StoreError> {
    let held = aliases(machine, store)?;
    let alias = held.iter().find(|(own, _)| own == name).map_or(name, |(_, alias)| alias);
    match read(store) {
        Ok(own) => {
            let gone = || refused(store, format!("it has no {name}"));
            let (_, der) = own.certificates().find(|(own, _)| *own == alias).ok_or_else(gone)?;
            return Ok(to_pem(der));
        }
        Err(error) if program(machine, store).is_none() => return Err(error),
        Err(_) => {}
    }
    let pem = keytool(machine, store, &["-exportcert", "-rfc", "-alias", alias], &[])?;
    Ok(pem.replace('\r', "") + "\n")
}

pub(super) fn carry_out(machine: &Machine, change: &TrustChange) -> Result<(), StoreError> {
    if program(machine, &change.store).is_none() {
        return write(change);
    }
    if change.after {
        let arguments = ["-importcert", "-noprompt", "-trustcacerts", "-alias", &change.nickname];
        return keytool(machine, &change.store, &arguments, change.certificate.as_bytes()).map(|_| ());
    }
    for (_, alias) in aliases(machine, &change.store)?.iter().filter(|(name, _)| *name == change.nickname) {
        keytool(machine, &change.store, &["-delete", "-alias", alias], &[])?;
    }
    Ok(())
}

fn keytool(machine: &Machine, store: &Utf8Path, arguments: &[&str], input: &[u8]) -> Result<String, StoreError> {
    let path = store.to_owned();
    let program =
        program(machine, store).ok_or_else(|| StoreError::NoProgram { path: path.clone(), program: "keytool" })?;
    let common = ["-keystore", store.as_str(), "-storepass", PASSWORD, NO_COUNTERS];
    let arguments: Vec<&str> = arguments.iter().copied().chain(common).collect();
    let ran =
        process::run_with_input(&program, &arguments, input).map_err(|error| refused(store, error.to_string()))?;
    match ran.words {
        words if ran.succeeded => Ok(words),
        words if words.contains("password was incorrect") => Err(StoreError::Password { path }),
        words => Err(refused(store, words)),
    }
}

/// Whether a store can be kept without `keytool`, by its file.
pub(super) fn is_readable(store: &Utf8Path) -> bool {
    files::read_if_there(store).ok().flatten().is_some_and(|bytes| JavaStore::is_one(&bytes))
}

fn refused(store: &Utf8Path, words: String) -> StoreError {
    StoreError::Refused { path: store.to_owned(), words }
}

fn read(store: &Utf8Path) -> Result<JavaStore, StoreError> {
    let bytes = files::read_if_there(store).map_err(|error| refused(store, error.to_string()))?.unwrap_or_default();
    if !JavaStore::is_one(&bytes) {
        return Err(StoreError::NoProgram { path: store.to_owned(), program: "keytool" });
    }
    JavaStore::read(&bytes, PASSWORD, files::sha1_bytes).ok_or_else(|| StoreError::Password { path: store.to_owned() })
}

/// The change, in the file itself.
fn write(change: &TrustChange) -> Result<(), StoreError> {
    let store = &change.store;
    let fault = |words: &dyn std::fmt::Display| refused(store, words.to_string());
    let mut own = read(store)?;
    if change.after {
        let der = CertificateFacts::certificates(change.certificate.as_bytes()).map_err(|error| fault(&error))?;
        let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        own.put(&change.nickname, &der[0], i64::try_from(now.as_millis()).unwrap_or_default());
    } else {
        let names: Vec<String> = own.certificates().map(|(alias, _)| alias.to_owned()).collect();
        for alias in names.iter().filter(|alias| alias.contains(&change.nickname)) {
            own.take_out(alias);
        }
    }
    let attributes = Attributes::of(store).map_err(|error| fault(&error))?;
    let bytes = own.to_bytes(PASSWORD, files::sha1_bytes);
    files::write(store, &bytes, &attributes, "trust", || Ok(())).map(|_| ()).map_err(|error| fault(&error))
}

/// A certificate as text (RFC 7468): 64 characters a line.
pub(super) fn to_pem(der: &[u8]) -> String {
    pem::encode_config(
        &pem::Pem::new("CERTIFICATE", der),
        pem::EncodeConfig::new().set_line_ending(pem::LineEnding::LF),
    )
}
