//! The workspace's dependencies, compared with the table in `docs/architecture.md`.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

fn workspace(path: &str) -> String {
    fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path)).unwrap()
}

/// The crates that a table of the workspace's manifest names.
fn named(table: &str) -> BTreeSet<String> {
    let manifest = workspace("Cargo.toml");
    let (_, rest) = manifest.split_once(&format!("[{table}]\n")).unwrap();
    let lines = rest.lines().take_while(|line| !line.starts_with('['));
    lines.filter_map(|line| line.split_once(" = ")).map(|(name, _)| name.to_owned()).collect()
}

#[test]
fn every_dependency_is_in_the_table() {
    let page = workspace("docs/architecture.md");
    let (_, section) = page.split_once("## Dependencies").unwrap();
    let rows = section.split("\n## ").next().unwrap().lines().filter(|line| line.starts_with("| "));
    let cells = rows.filter_map(|row| row.split('|').nth(1)).filter(|cell| cell.trim() != "crate");
    let told: BTreeSet<String> = cells.flat_map(|cell| cell.split(',')).map(|name| name.trim().to_owned()).collect();
    let tests = ["divan", "insta", "proptest", "psl", "schemars"].map(String::from);
    let ours = named("workspace.dependencies").into_iter().filter(|name| !name.starts_with("yandro-"));
    let ours: BTreeSet<String> = ours.filter(|name| !tests.contains(name)).collect();
    assert_eq!(told, ours);
}

#[test]
fn no_dependency_is_a_pre_release() {
    let lock = workspace("Cargo.lock");
    let versions = lock.lines().filter_map(|line| line.strip_prefix("version = \""));
    // Text behind a `+` is not a part of the version (semver.org, 10).
    let early: Vec<&str> = versions.filter(|version| version.split('+').next().unwrap().contains('-')).collect();
    assert_eq!(early, Vec::<&str>::new());
}
