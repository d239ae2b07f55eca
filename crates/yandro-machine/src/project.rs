//! The text files of a project that are its own.

use std::collections::BTreeSet;

use camino::{Utf8Path, Utf8PathBuf};
use ignore::WalkBuilder;

use crate::caller;

/// The longest file that is read, in bytes.
pub const LONGEST: u64 = 64 << 20;
/// How much of a file is looked at to tell a text from something else, in bytes.
const HEAD: usize = 8192;

/// Folders that hold what version control or a package manager put there.
const NOT_OWN: [&str; 10] =
    [".git", ".hg", ".svn", "node_modules", "vendor", "bower_components", ".venv", "venv", "__pycache__", ".yarn"];

/// Words in the names of files that hold the configuration of an application on one machine, which version control
/// often ignores.
const CONFIGURATION: [&str; 6] = ["config", "settings", "parameters", "credentials", ".local", "constants"];

/// The files of a project, in order: those that version control doesn't ignore, and ignored ones with the name of a
/// configuration. Dependencies, version control's own files and links are left out.
pub fn files(folder: &Utf8Path) -> Vec<Utf8PathBuf> {
    let _rights = caller::rights_to_read(folder);
    let tracked: BTreeSet<Utf8PathBuf> = walk(folder, true).collect();
    let ignored = walk(folder, false).filter(|path| is_configuration(path.strip_prefix(folder).unwrap_or(path)));
    let mut all = tracked;
    all.extend(ignored);
    all.into_iter().collect()
}

/// The files of a project that are named as its configuration, in order.
pub fn configurations(folder: &Utf8Path) -> Vec<Utf8PathBuf> {
    let names = |path: &Utf8PathBuf| {
        let path = path.strip_prefix(folder).unwrap_or(path);
        is_configuration(path) || path.file_stem().is_some_and(|stem| stem.eq_ignore_ascii_case("database"))
    };
    files(folder).into_iter().filter(names).collect()
}

fn walk(folder: &Utf8Path, ignores: bool) -> impl Iterator<Item = Utf8PathBuf> {
    let mut builder = WalkBuilder::new(folder);
    builder.standard_filters(false).follow_links(false);
    // Also in an unpacked archive, which has the files of version control and not its folder.
    builder.git_ignore(ignores).git_exclude(ignores).parents(ignores).require_git(false);
    builder.filter_entry(|entry| entry.depth() == 0 || !NOT_OWN.iter().any(|name| entry.file_name() == *name));
    let entries = builder.build().filter_map(Result::ok);
    let is_file = |entry: &ignore::DirEntry| entry.file_type().is_some_and(|kind| kind.is_file());
    entries.filter(is_file).filter_map(|entry| Utf8PathBuf::from_path_buf(entry.into_path()).ok())
}

fn is_configuration(path: &Utf8Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_ascii_lowercase();
    // Its own name, or that of its folder.
    let folder = path.parent().and_then(Utf8Path::file_name).unwrap_or_default().to_ascii_lowercase();
    name.starts_with(".env")
        || CONFIGURATION.iter().any(|word| name.contains(word) || folder == *word)
        || path.extension().is_some_and(|extension| ["ini", "conf", "htaccess"].contains(&extension))
}

/// Whether a file's content is text: it has no zero byte at its beginning.
pub fn is_text(content: &[u8]) -> bool {
    !content[..content.len().min(HEAD)].contains(&0)
}
