//! The user's own trust store of macOS, through its maker's program.
//!
//! Written from Apple's manual and tested with a mock of the program; never run on macOS.

use camino::Utf8Path;
use yandro_core::{CertificateFacts, CommandLine, StoreKind, StorePrograms, TrustChange, nickname};

use super::store::{Store, StoreError};
use crate::files;
use crate::machine::Machine;
use crate::process;

/// The user's store, if this is such a system.
pub(super) fn find(machine: &Machine) -> Option<Store> {
    let programs = StorePrograms::of(machine.system)?;
    let path = match programs.store {
        below if below.contains('/') => machine.home().join(below),
        name => name.into(),
    };
    Some(Store { kind: programs.kind, title: programs.title.to_owned(), path, is_of_system: false })
}

/// Whether the programs are there that keep it.
pub(super) fn has_program(machine: &Machine, kind: StoreKind) -> bool {
    let programs = StorePrograms::of(machine.system).filter(|programs| programs.kind == kind);
    programs.is_some_and(|own| [own.list, own.add, own.remove].iter().all(|line| machine.real_path(line[0]).is_file()))
}

/// Its certificates whose subject is one of yandro's: in PEM.
fn own(machine: &Machine, kind: StoreKind, path: &Utf8Path) -> Result<Vec<(String, String)>, StoreError> {
    let listed = run(machine, kind, path, |own| own.list, &Placeholders { store: path, file: "", sha1: "" })?;
    let mut found = Vec::new();
    let mut rest = listed.as_str();
    while let Some(start) = rest.find("-----BEGIN CERTIFICATE-----") {
        let end = rest[start..].find(END).map_or(rest.len(), |end| start + end + END.len());
        let pem = rest[start..end].replace('\r', "") + "\n";
        rest = &rest[end..];
        let Ok(certificates) = CertificateFacts::certificates(pem.as_bytes()) else { continue };
        if CertificateFacts::read(&certificates[0]).is_ok_and(|facts| facts.subject.contains("Yandro local authority"))
        {
            found.push((nickname(&files::sha256(&certificates[0])), pem));
        }
    }
    Ok(found)
}

const END: &str = "-----END CERTIFICATE-----";

pub(super) fn own_roots(machine: &Machine, kind: StoreKind, path: &Utf8Path) -> Result<Vec<String>, StoreError> {
    Ok(own(machine, kind, path)?.into_iter().map(|(name, _)| name).collect())
}

pub(super) fn certificate(
    machine: &Machine,
    kind: StoreKind,
    path: &Utf8Path,
    name: &str,
) -> Result<String, StoreError> {
    let found = own(machine, kind, path)?.into_iter().find(|(own, _)| own == name);
    let gone = || StoreError::Refused { path: path.to_owned(), words: format!("it has no {name}") };
    found.map(|(_, pem)| pem).ok_or_else(gone)
}

pub(super) fn carry_out(machine: &Machine, change: &TrustChange) -> Result<(), StoreError> {
    let path = &change.store;
    let refused = |words: String| StoreError::Refused { path: path.clone(), words };
    let der =
        CertificateFacts::certificates(change.certificate.as_bytes()).map_err(|error| refused(error.to_string()))?;
    // Their programs take a certificate from a file, and know one by its SHA-1: a name, no proof.
    let folder = tempfile::tempdir().map_err(|error| refused(error.to_string()))?;
    let file = Utf8Path::from_path(folder.path()).map(|folder| folder.join("root.pem"));
    let file = file.ok_or_else(|| refused("the temporary folder's path is no UTF-8".into()))?;
    std::fs::write(&file, &change.certificate).map_err(|error| refused(error.to_string()))?;
    let filled = Placeholders { store: path, file: file.as_str(), sha1: &files::sha1(&der[0]) };
    let line = |own: &StorePrograms| if change.after { own.add } else { own.remove };
    run(machine, change.kind, path, line, &filled).map(|_| ())
}

/// The values for the words in braces of a command line.
struct Placeholders<'a> {
    store: &'a Utf8Path,
    file: &'a str,
    sha1: &'a str,
}

fn run(
    machine: &Machine,
    kind: StoreKind,
    path: &Utf8Path,
    line: impl FnOnce(&StorePrograms) -> CommandLine,
    filled: &Placeholders<'_>,
) -> Result<String, StoreError> {
    let path = path.to_owned();
    let programs = StorePrograms::of(machine.system).filter(|programs| programs.kind == kind);
    let missing = |program| StoreError::NoProgram { path: path.clone(), program };
    let line = line(&programs.ok_or_else(|| missing("security"))?);
    let program =
        Some(machine.real_path(line[0])).filter(|program| program.is_file()).ok_or_else(|| missing(line[0]))?;
    let arguments: Vec<&str> = line[1..]
        .iter()
        .map(|word| match *word {
            "{store}" => filled.store.as_str(),
            "{file}" => filled.file,
            "{sha1}" => filled.sha1,
            word => word,
        })
        .collect();
    let refused = |words: String| StoreError::Refused { path: path.clone(), words };
    let ran = process::run(&program, &arguments).map_err(|error| refused(error.to_string()))?;
    if ran.succeeded { Ok(ran.words) } else { Err(refused(ran.words)) }
}
