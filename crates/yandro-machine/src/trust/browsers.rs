//! The trust stores of browsers: NSS databases, kept through NSS's own program.
//!
//! The databases are changed where they are, under their own locks: a browser that runs has them
//! open.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{BROWSER_STORES, NEW_BROWSER_STORE, StoreKind, TrustChange, is_own_nickname};

use super::store::{Store, StoreError};
use crate::machine::Machine;
use crate::process;

/// Paths of NSS's program.
const PROGRAMS: [&str; 3] = ["/usr/bin/certutil", "/usr/local/bin/certutil", "/opt/homebrew/bin/certutil"];
/// A root that is trusted only for servers, as `certutil` writes it.
const TRUSTED: &str = "C,,";
/// The file that tells a database.
const SIGN: &str = "cert9.db";

/// The stores of the browsers that this user has run, and one that is yet to be made for a browser
/// that is there and has none.
pub(super) fn find(machine: &Machine) -> Vec<Store> {
    let home = machine.home();
    let mut found: Vec<Store> = Vec::new();
    for (title, pattern) in BROWSER_STORES {
        for path in folders(home, pattern) {
            // Of the two databases that Chromium may have it reads only the first.
            let is_shadowed = found.iter().any(|other: &Store| other.title == *title && !pattern.contains('*'));
            if path.join(SIGN).is_file() && !is_shadowed {
                let profile = pattern.contains('*').then(|| format!(" ({})", path.file_name().unwrap_or_default()));
                found.push(store(format!("{title}{}", profile.unwrap_or_default()), path));
            }
        }
    }
    let (title, folder, programs) = NEW_BROWSER_STORE;
    let is_there = || programs.iter().any(|program| machine.real_path(program).is_file());
    if found.iter().all(|store: &Store| store.title != title) && is_there() {
        found.push(store(title.to_owned(), home.join(folder)));
    }
    found
}

fn store(title: String, path: Utf8PathBuf) -> Store {
    Store { kind: StoreKind::Nss, title, path, is_of_system: false }
}

/// The folders that match a pattern with at most one `*`, for a whole name.
fn folders(home: &Utf8Path, pattern: &str) -> Vec<Utf8PathBuf> {
    let Some((above, below)) = pattern.split_once("/*") else { return vec![home.join(pattern)] };
    let entries = home.join(above).read_dir_utf8().into_iter().flatten().flatten();
    let mut found: Vec<_> = entries.map(|entry| Utf8PathBuf::from(format!("{}{below}", entry.path()))).collect();
    found.sort();
    found
}

/// Whether a store can be asked at all.
pub(super) fn has_program() -> bool {
    process::find(&PROGRAMS).is_some()
}

/// The nicknames of yandro's own roots that a store trusts.
pub(super) fn own_roots(store: &Utf8Path) -> Result<Vec<String>, StoreError> {
    if !store.join(SIGN).is_file() {
        return Ok(Vec::new());
    }
    let listed = certutil(store, &["-L"], &[])?;
    let own = listed.lines().filter_map(|line| {
        let (name, flags) = line.trim_end().rsplit_once(' ')?;
        let name = name.trim_end();
        (is_own_nickname(name) && flags == TRUSTED).then(|| name.to_owned())
    });
    Ok(own.collect())
}

/// The certificate of this nickname, in PEM.
pub(super) fn certificate(store: &Utf8Path, nickname: &str) -> Result<String, StoreError> {
    certutil(store, &["-L", "-n", nickname, "-a"], &[]).map(|pem| pem.replace('\r', "") + "\n")
}

/// Puts a root in, or takes it out.
pub(super) fn carry_out(machine: &Machine, change: &TrustChange) -> Result<(), StoreError> {
    let store = &change.store;
    if !change.after {
        return certutil(store, &["-D", "-n", &change.nickname], &[]).map(|_| ());
    }
    if !store.join(SIGN).is_file() {
        certutil(store, &["-N", "--empty-password"], &[])?;
        for entry in store.read_dir_utf8().into_iter().flatten().flatten() {
            _ = machine.give_to_keeper(entry.path());
        }
    }
    // A line of the same name that was not trusted gives its place.
    _ = certutil(store, &["-D", "-n", &change.nickname], &[]);
    let arguments = ["-A", "-n", &change.nickname, "-t", TRUSTED, "-a"];
    certutil(store, &arguments, change.certificate.as_bytes()).map(|_| ())
}

fn certutil(store: &Utf8Path, arguments: &[&str], input: &[u8]) -> Result<String, StoreError> {
    let program = process::find(&PROGRAMS)
        .ok_or_else(|| StoreError::NoProgram { path: store.to_owned(), program: "certutil" })?;
    let refused = |words: String| StoreError::Refused { path: store.to_owned(), words };
    let database = format!("sql:{store}");
    let arguments: Vec<&str> = ["-d", &database].into_iter().chain(arguments.iter().copied()).collect();
    let ran = process::run_with_input(&program, &arguments, input).map_err(|error| refused(error.to_string()))?;
    match ran.words {
        words if ran.succeeded => Ok(words),
        words if words.contains("SEC_ERROR_BAD_PASSWORD") => Err(StoreError::Password { path: store.to_owned() }),
        words => Err(refused(words)),
    }
}
