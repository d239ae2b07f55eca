//! The databases that a project's configuration names.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{DatabaseAddress, DatabaseKind, DatabasePlace, named_databases};

use crate::files;
use crate::project;

/// A database that a configuration file names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConfiguredDatabase {
    /// The database.
    pub address: DatabaseAddress,
    /// The file that names it; of several, the first.
    pub file: Utf8PathBuf,
}

/// Parts of names of files that are copied, tested with or filled in before they hold.
const NOT_IN_USE: [&str; 7] = ["example", "sample", "dist", "template", "test", "default.", ".bak"];

/// What frameworks write for the folder of the project.
const PROJECT_FOLDER: [&str; 2] = ["%kernel.project_dir%", "%project_dir%"];

/// The files of a project that are named as its configuration and are neither examples nor for tests: environment files
/// first.
pub fn configurations_in_use(folder: &Utf8Path) -> Vec<Utf8PathBuf> {
    let in_use = |path: &Utf8PathBuf| {
        let name = path.file_name().unwrap_or_default().to_ascii_lowercase();
        !NOT_IN_USE.iter().any(|part| name.contains(part))
    };
    let mut paths: Vec<Utf8PathBuf> = project::configurations(folder).into_iter().filter(in_use).collect();
    paths.sort_by_key(|path| !is_variables(path));
    paths
}

/// An example of an environment file that is not there yet, and where it goes.
pub fn example(folder: &Utf8Path) -> Option<(Utf8PathBuf, Utf8PathBuf)> {
    let target = folder.join(".env");
    let example = [".env.example", ".env.sample", ".env.dist"].map(|name| folder.join(name));
    let example = example.into_iter().find(|path| path.is_file())?;
    (!target.exists()).then_some((example, target))
}

/// The kind of database that the example of a configuration speaks of.
pub fn kind_of_example(folder: &Utf8Path) -> Option<DatabaseKind> {
    let (path, _) = example(folder)?;
    let text = read(&path)?;
    let named = named_databases(&path, &text).first().map(|address| address.kind);
    named.or_else(|| text.lines().find_map(|line| DatabaseKind::parse(line.strip_prefix("DB_CONNECTION=")?)))
}

/// The databases that the configuration of a project names, each once.
pub fn configured(folder: &Utf8Path) -> Vec<ConfiguredDatabase> {
    // `.env.local` is read after `.env`, and what it says holds.
    let (variables, others): (Vec<_>, Vec<_>) =
        configurations_in_use(folder).into_iter().partition(|path| is_variables(path));
    let mut found: Vec<ConfiguredDatabase> = Vec::new();
    let mut add = |file: &Utf8PathBuf, text: &str| {
        for mut address in named_databases(file, text) {
            if let DatabasePlace::File(path) = &mut address.place {
                *path = file_of(path, file, folder);
            }
            if !found.iter().any(|other| other.address.is_same(&address)) {
                found.push(ConfiguredDatabase { address, file: file.clone() });
            }
        }
    };
    for first in variables.iter().filter(|path| path.file_name() == Some(".env")) {
        let of_folder = variables.iter().filter(|path| path.parent() == first.parent());
        let text: Vec<String> = of_folder.filter_map(|path| read(path)).collect();
        add(first, &text.join("\n"));
    }
    let alone = |path: &&Utf8PathBuf| !path.with_file_name(".env").exists();
    for path in variables.iter().filter(alone).chain(&others) {
        if let Some(text) = read(path) {
            add(path, &text);
        }
    }
    found
}

fn is_variables(path: &Utf8Path) -> bool {
    path.file_name().is_some_and(|name| name.starts_with(".env"))
}

fn read(path: &Utf8Path) -> Option<String> {
    let is_short = path.metadata().is_ok_and(|meta| meta.len() < 1 << 20);
    let content = if is_short { files::read_if_there(path).ok().flatten()? } else { return None };
    String::from_utf8(content).ok()
}

/// A database's file: as the configuration has it, below the project or beside the configuration.
fn file_of(written: &Utf8Path, configuration: &Utf8Path, folder: &Utf8Path) -> Utf8PathBuf {
    for word in PROJECT_FOLDER {
        if let Some(rest) = written.as_str().strip_prefix(word) {
            return folder.join(rest.trim_start_matches('/'));
        }
    }
    let beside = configuration.parent().unwrap_or(folder);
    let places = [folder.to_owned(), beside.to_owned(), folder.join("database"), folder.join("var")];
    let there = places.iter().map(|place| place.join(written)).find(|path| path.is_file());
    there.unwrap_or_else(|| folder.join(written))
}
