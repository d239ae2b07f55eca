//! Change sets as people read them: before, as diffs, and after, as a summary.

use std::fmt::Write as _;

use serde_json::json;
use yandro_core::config::OTHERS;
use yandro_core::pki::{Facts, date};
use yandro_core::plan::{Access, ChangeSet, FileChange, Places, RightsChange, Step, TrustChange, unified_diff};
use yandro_core::site::ServerId;
use yandro_core::system::TrustStore;
use yandro_machine::changes::ServerAction;

use super::{BAD, COMMAND, DIM, GOOD, STRONG, Tone, Ui};

/// What `--preview` prints: every step in order, files as unified diffs.
pub(crate) fn preview(ui: &mut Ui, set: &ChangeSet) {
    if ui.json {
        let steps: Vec<_> = set.steps.iter().map(step_json).collect();
        ui.json(&json!({ "version": 1, "preview": { "steps": steps, "servers": set.servers, "flush": set.flush, "trust": set.trust } }));
        return;
    }
    if set.is_empty() {
        ui.print("Nothing would change: everything is as it should be.");
        return;
    }
    for step in &set.steps {
        match step {
            Step::Folder { path, .. } if path.is_dir() => {}
            Step::Folder { path, .. } => ui.print(&format!("{STRONG}folder{STRONG:#} {GOOD}+{path}{GOOD:#}")),
            Step::File(change) => ui.print(coloured(&unified_diff(change)).trim_end()),
            Step::Link(change) => {
                let text = match (&change.before, &change.after) {
                    (_, Some(target)) => format!("{STRONG}link{STRONG:#} {GOOD}+{} -> {target}{GOOD:#}", change.path),
                    (Some(target), None) => format!("{STRONG}link{STRONG:#} {BAD}-{} -> {target}{BAD:#}", change.path),
                    (None, None) => continue,
                };
                ui.print(&text);
            }
            Step::EmptyFolder { path } => {
                ui.print(&format!("{STRONG}folder{STRONG:#} {BAD}-{path}{BAD:#} (if it is empty)"));
            }
            Step::Rights(change) => ui.print(&format!("{STRONG}rights{STRONG:#} {}", rights(change))),
            Step::Trust(change) => {
                let style = if change.after { GOOD } else { BAD };
                ui.print(&format!("{STRONG}trust{STRONG:#} {style}{}{style:#}", trust(change)));
            }
        }
    }
    for server in &set.servers {
        ui.print(&format!("{STRONG}then{STRONG:#} {server} tests its configuration and is reloaded (or started)"));
    }
    if let Some(store) = set.trust {
        ui.print(&format!(
            "{STRONG}then{STRONG:#} the system's trust store takes it up: {}",
            store.refresh().join(" ")
        ));
    }
    for cache in &set.flush {
        ui.print(&format!("{STRONG}then{STRONG:#} {} forgets its old answers: {}", cache.title(), cache.typed()));
    }
    ui.print(&format!("{DIM}Nothing was changed: this was a preview.{DIM:#}"));
}

fn step_json(step: &Step) -> serde_json::Value {
    match step {
        Step::Folder { path, .. } => json!({ "kind": "folder", "path": path }),
        Step::EmptyFolder { path } => json!({ "kind": "empty-folder", "path": path, "change": "removed" }),
        Step::Trust(change) => json!({
            "kind": "trust", "path": change.store, "whose": change.title, "certificate": change.nickname, "trusted": change.after,
        }),
        Step::Rights(change) => json!({
            "kind": "rights", "path": change.path, "who": change.who,
            "before": format!("{:04o}", change.before.mode), "after": format!("{:04o}", change.after.mode),
        }),
        Step::File(change) => {
            let kind = kind_of(change.before.is_some(), change.after.is_some());
            json!({ "kind": "file", "path": change.path, "change": kind, "diff": unified_diff(change) })
        }
        Step::Link(change) => {
            let kind = kind_of(change.before.is_some(), change.after.is_some());
            json!({ "kind": "link", "path": change.path, "change": kind, "target": change.after.as_ref().or(change.before.as_ref()) })
        }
    }
}

fn trust(change: &TrustChange) -> String {
    let verb = if change.after { "goes into the store" } else { "goes out of the store" };
    format!("{} {verb} of {}: {}", change.nickname, change.title, change.store)
}

fn kind_of(before: bool, after: bool) -> &'static str {
    match (before, after) {
        (false, _) => "made",
        (true, true) => "changed",
        (true, false) => "removed",
    }
}

fn coloured(diff: &str) -> String {
    let mut out = String::new();
    for line in diff.lines() {
        let style = match line.as_bytes().first() {
            _ if line.starts_with("+++") || line.starts_with("---") => STRONG,
            Some(b'+') => GOOD,
            Some(b'-') => BAD,
            Some(b'@') => COMMAND,
            _ => Tone::PLAIN,
        };
        _ = writeln!(out, "{style}{line}{style:#}");
    }
    out
}

/// What was done, one line for each place.
pub(crate) fn summary(set: &ChangeSet, places: &Places) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    let (mut modules, mut is_enabled) = (Vec::new(), true);
    let mut verbs: Vec<(&'static str, String)> = Vec::new();
    for step in &set.steps {
        match step {
            Step::Folder { path, access: Access::Project } => {
                verbs.push(("folder", format!("made {}", places.inside(path))));
            }
            Step::Folder { .. } | Step::EmptyFolder { .. } => {}
            Step::Rights(change) => verbs.push(("permissions", rights(change))),
            Step::Trust(change) => verbs.push(("trust", trust(change))),
            Step::Link(change)
                if change.path.parent().is_some_and(|folder| folder.file_name() == Some("mods-enabled")) =>
            {
                is_enabled = change.after.is_some();
                if change.path.extension() == Some("load") {
                    modules.extend(change.path.file_stem().map(str::to_owned));
                }
            }
            // It goes with its file.
            Step::Link(change) if change.path.as_str().contains(OTHERS) => {}
            Step::Link(change) => {
                verbs.push((
                    "enabled",
                    format!(
                        "{} {}",
                        if change.after.is_some() { "linked" } else { "unlinked" },
                        places.inside(&change.path)
                    ),
                ));
            }
            Step::File(change) => {
                if let Some(what) = subject(change, places) {
                    let lines = if what == CONFIGURATION { lines_told(change) } else { String::new() };
                    verbs.push((what, told(change, places) + &lines));
                }
            }
        }
    }
    lines.append(&mut verbs);
    for cache in &set.flush {
        lines.push(("name cache", format!("{} forgot its old answers", cache.title())));
    }
    if !modules.is_empty() {
        let verb = if is_enabled { "enabled" } else { "disabled" };
        lines.push(("modules", format!("{verb} {}", modules.join(", "))));
    }
    lines
}

/// What a change of rights means.
fn rights(change: &RightsChange) -> String {
    if change.after.list == change.before.list {
        return format!("{}: mode {:04o}, was {:04o}", change.path, change.after.mode, change.before.mode);
    }
    format!("{}: {} on its access control list", change.path, change.who)
}

/// What happened to a file: a certificate by its end, any other by its path.
fn told(change: &FileChange, places: &Places) -> String {
    let kind = kind_of(change.before.is_some(), change.after.is_some());
    let path = places.inside(&change.path);
    let chain = change.after.as_deref().filter(|_| change.path.starts_with(&places.data));
    let facts = chain.and_then(|pem| Facts::certificates(pem).ok()).and_then(|chain| Facts::read(&chain[0]).ok());
    match facts {
        Some(facts) if facts.names.is_empty() => format!("{kind}, until {}", date(facts.not_after)),
        Some(facts) => format!("{kind} for {}, until {}", facts.names.join(", "), date(facts.not_after)),
        None if change.path.starts_with(places.certificates()) => kind.to_owned(),
        None => format!("{kind} {path}"),
    }
}

/// What a file is that sites share.
const CONFIGURATION: &str = "configuration";

/// What the directives do that are new in a file that sites share.
fn lines_told(change: &FileChange) -> String {
    let diff = unified_diff(change);
    let new = diff.lines().filter(|line| !line.starts_with("+++")).filter_map(|line| line.strip_prefix('+'));
    let (mut loads, mut listens, mut includes) = (Vec::new(), Vec::new(), Vec::new());
    for words in new.map(|line| line.split_whitespace().collect::<Vec<_>>()) {
        match words[..] {
            ["LoadModule", module, _] => loads.push(module.trim_end_matches("_module")),
            ["Listen", address, ..] => listens.push(address),
            ["Include" | "IncludeOptional", path] => includes.push(path),
            _ => {}
        }
    }
    let told = [("loads", loads), ("listens on", listens), ("includes", includes)];
    let told: Vec<String> = told
        .iter()
        .filter(|(_, words)| !words.is_empty())
        .map(|(what, words)| format!("{what} {}", words.join(", ")))
        .collect();
    if told.is_empty() || change.before.is_none() { String::new() } else { format!(": {}", told.join("; ")) }
}

/// What a file is to the person; `None` for one that goes with another.
fn subject(change: &FileChange, places: &Places) -> Option<&'static str> {
    let path = &change.path;
    if change.access == Access::Project {
        Some("starter page")
    } else if TrustStore::of_file(&places.inside(path)).is_some() {
        Some("trust store")
    } else if path.as_str().contains(OTHERS) {
        (path.extension() == Some("conf")).then_some("other names")
    } else if *path == places.hosts {
        Some("hosts file")
    } else if *path == places.root_certificate() {
        Some("authority")
    } else if path.starts_with(places.authority()) || path.file_name() == Some("key.pem") {
        None
    } else if path.starts_with(places.certificates()) {
        Some("certificate")
    } else if *path == places.site_list() {
        Some("site list")
    } else if path.file_name().is_some_and(|name| name.starts_with("yandro-")) {
        Some("virtual host")
    } else {
        Some(CONFIGURATION)
    }
}

/// What is said of the servers after the change.
pub(crate) fn server_lines(set: &ChangeSet, actions: &[(ServerId, ServerAction)]) -> Vec<(&'static str, String)> {
    let how = |server: ServerId| actions.iter().find(|(own, _)| *own == server).map(|(_, how)| *how);
    set.servers.iter().map(|server| ("server", server_line(*server, how(*server)))).collect()
}

fn server_line(server: ServerId, action: Option<ServerAction>) -> String {
    match action {
        Some(ServerAction::Reloaded) => format!("{server}: configuration tested, reloaded"),
        Some(ServerAction::NoCommand) => {
            format!("{server}: reload it by hand, or name the command that does: yandro servers add --help")
        }
        Some(ServerAction::Started) => format!("{server}: configuration tested, started"),
        None => format!("{server}: not tested and not reloaded, since this is a sysroot"),
    }
}

/// Lines of label and text, the labels in one column.
pub(crate) fn labelled(lines: &[(&str, String)]) -> String {
    let width = lines.iter().map(|(label, _)| label.len()).max().unwrap_or(0);
    lines.iter().map(|(label, text)| format!("  {DIM}{label:<width$}{DIM:#}  {text}")).collect::<Vec<_>>().join("\n")
}
