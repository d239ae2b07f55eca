//! Change sets as people read them: before, as diffs, and after, as a summary.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use serde_json::json;
use yandro_core::{
    CertificateFacts, Change, ChangeSet, FileChange, OTHERS, Places, RightsChange, Role, RowsChange, ServerId, Step,
    StoreKind, Switched, TrustChange, date, unified_diff,
};
use yandro_machine::ServerAction;

use super::rows::{self, ChangedTexts};
use super::{BAD, COMMAND, DIM, Data, GOOD, Outcome, STRONG, Tone, Ui, data};

data! {
    /// With `--preview`: what would be done.
    struct PreviewData {
        preview: SetData,
    }

    /// A change set.
    struct SetData {
        steps: Vec<StepData>,
        /// The servers that would test their configuration and be reloaded.
        servers: Vec<String>,
        /// The name caches that would forget their answers.
        flush: Vec<String>,
        /// The system's trust store, if its list would be made again.
        trust: Option<String>,
    }
}

impl Data for PreviewData {}

/// A step of it.
#[derive(serde::Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub(crate) enum StepData {
    /// A folder that is made.
    Folder { path: String },
    /// A folder that goes if it is empty.
    EmptyFolder { path: String, change: &'static str },
    /// A file, with the difference in the unified format.
    File { path: String, change: &'static str, diff: String },
    /// A symbolic link.
    Link { path: String, change: &'static str, target: Option<String> },
    /// Changed access rights.
    Rights { path: String, who: String, before: String, after: String },
    /// Rows of a database, with the first of their texts.
    Rows { database: String, rows: u64, addresses: u64, texts: Vec<TextData> },
    /// A root certificate in a trust store.
    Trust { path: String, whose: String, certificate: String, trusted: bool },
}

data! {
    /// A text of a row.
    struct TextData {
        /// Table and column.
        column: String,
        before: String,
        after: String,
    }
}

/// The steps that concern the person: what yandro writes down for itself is none of them.
fn shown(set: &ChangeSet) -> impl Iterator<Item = &Step> {
    set.steps.iter().filter(|step| !matches!(step.role, Role::AppliedSites | Role::ProjectConsent | Role::Marker))
}

/// Whether nothing changes but what yandro writes down for itself.
pub(crate) fn is_quiet(set: &ChangeSet) -> bool {
    let is_folder = |step: &Step| matches!(step.change, Change::Folder { .. } | Change::EmptyFolder { .. });
    set.servers.is_empty() && shown(set).all(is_folder)
}

/// The output of `--preview`: every step in order, files as unified diffs.
pub(crate) fn preview<'o>(set: ChangeSet) -> Outcome<'o> {
    let texts = rows::texts_of(&set);
    let word = |value: serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    let preview = SetData {
        steps: shown(&set).map(|step| step_data(step, &texts)).collect(),
        servers: set.servers.iter().map(|server| server.word().to_owned()).collect(),
        flush: set.flush.iter().map(|cache| word(json!(cache))).collect(),
        trust: set.trust.map(|store| word(json!(store))),
    };
    Outcome::new(PreviewData { preview }, move |_, ui| show_preview(&set, &texts, ui))
}

fn show_preview(set: &ChangeSet, texts: &[ChangedTexts], ui: &mut Ui) {
    if is_quiet(set) {
        ui.print("Nothing would change: everything is as it should be.");
        return;
    }
    for step in shown(set) {
        match &step.change {
            Change::Folder { path, .. } if path.is_dir() => {}
            Change::Folder { path, .. } => ui.print(&format!("{STRONG}folder{STRONG:#} {GOOD}+{path}{GOOD:#}")),
            Change::File(change) => ui.print(coloured(&unified_diff(change)).trim_end()),
            Change::Link(change) => {
                let text = match (&change.before, &change.after) {
                    (_, Some(target)) => format!("{STRONG}link{STRONG:#} {GOOD}+{} -> {target}{GOOD:#}", change.path),
                    (Some(target), None) => format!("{STRONG}link{STRONG:#} {BAD}-{} -> {target}{BAD:#}", change.path),
                    (None, None) => continue,
                };
                ui.print(&text);
            }
            Change::EmptyFolder { path } => {
                ui.print(&format!("{STRONG}folder{STRONG:#} {BAD}-{path}{BAD:#} (if it is empty)"));
            }
            Change::Rows(change) => ui.print(&rows::shown(change, texts_of(texts, change))),
            Change::Rights(change) => ui.print(&format!("{STRONG}rights{STRONG:#} {}", rights(change))),
            Change::Trust(change) => {
                let style = if change.after { GOOD } else { BAD };
                ui.print(&format!("{STRONG}trust{STRONG:#} {style}{}{style:#}", trust(change)));
            }
        }
    }
    for server in &set.servers {
        ui.print(&format!("{STRONG}then{STRONG:#} {server} tests its configuration and is reloaded (or started)"));
    }
    if let Some(store) = set.trust {
        ui.print(&format!("{STRONG}then{STRONG:#} the system's trust store is updated: {}", store.refresh().join(" ")));
    }
    for cache in &set.flush {
        let does = if cache.is_of_settings() { "reads its settings again" } else { "forgets its old answers" };
        ui.print(&format!("{STRONG}then{STRONG:#} {} {does}: {}", cache.title(), cache.typed()));
    }
    ui.print(&format!("{DIM}Nothing was changed: this was a preview.{DIM:#}"));
}

fn texts_of<'t>(texts: &'t [ChangedTexts], change: &RowsChange) -> &'t [(String, String, String)] {
    texts.iter().find(|texts| texts.of == change.rows_file).map_or(&[], |texts| &texts.texts)
}

fn step_data(step: &Step, texts: &[ChangedTexts]) -> StepData {
    let path = step.path().to_string();
    match &step.change {
        Change::Folder { .. } => StepData::Folder { path },
        Change::EmptyFolder { .. } => StepData::EmptyFolder { path, change: "removed" },
        Change::Trust(change) => {
            let (whose, certificate) = (change.title.clone(), change.nickname.clone());
            StepData::Trust { path, whose, certificate, trusted: change.after }
        }
        Change::Rights(change) => {
            let (before, after) = (format!("{:04o}", change.before.mode), format!("{:04o}", change.after.mode));
            StepData::Rights { path, who: change.who.clone(), before, after }
        }
        Change::Rows(change) => {
            let texts = texts_of(texts, change).iter().cloned();
            let texts = texts.map(|(column, before, after)| TextData { column, before, after }).collect();
            StepData::Rows { database: change.database.to_string(), rows: change.rows, addresses: change.places, texts }
        }
        Change::File(change) => {
            let kind = kind_of(change.before.is_some(), change.after.is_some());
            StepData::File { path, change: kind, diff: unified_diff(change) }
        }
        Change::Link(change) => {
            let target = change.after.as_ref().or(change.before.as_ref()).map(ToString::to_string);
            StepData::Link { path, change: kind_of(change.before.is_some(), change.after.is_some()), target }
        }
    }
}

fn trust(change: &TrustChange) -> String {
    let verb = if change.after { "goes into" } else { "goes out of" };
    // A browser or a runtime has a store, and a system's own is one.
    let of = if matches!(change.kind, StoreKind::Nss | StoreKind::Java) { "the store of " } else { "" };
    format!("{} {verb} {of}{}: {}", change.nickname, change.title, change.store)
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

/// How many lines with the same label are shown one by one.
const MANY: usize = 8;

/// The changes, one line for each place.
pub(crate) fn summary(set: &ChangeSet, places: &Places) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    let (mut modules, mut is_enabled) = (Vec::new(), true);
    for step in &set.steps {
        match (&step.role, &step.change) {
            (Role::ProjectFile, Change::Folder { path, .. }) => {
                lines.push(("folder", format!("made {}", places.inside(path))));
            }
            // The default virtual host's link goes with its file.
            (_, Change::Folder { .. } | Change::EmptyFolder { .. }) | (Role::DefaultHost(_), Change::Link(_)) => {}
            (_, Change::Rights(change)) => lines.push(("permissions", rights(change))),
            (_, Change::Trust(change)) => lines.push(("trust", trust(change))),
            (_, Change::Rows(change)) => lines.push(("rows", rows::told(change))),
            (Role::ModuleLink { module, loads, .. }, Change::Link(change)) => {
                is_enabled = change.after.is_some();
                modules.extend(loads.then(|| module.clone()));
            }
            (_, Change::Link(change)) => {
                let verb = if change.after.is_some() { "linked" } else { "unlinked" };
                lines.push(("enabled", format!("{verb} {}", places.inside(&change.path))));
            }
            (role, Change::File(change)) => {
                if let Some(what) = subject(role) {
                    lines.push((what, told(role, change, places) + &switched(set, change)));
                }
            }
        }
    }
    for cache in &set.flush {
        lines.push(if cache.is_of_settings() {
            ("resolver", format!("{} read its settings again", cache.title()))
        } else {
            ("name cache", format!("{} forgot its old answers", cache.title()))
        });
    }
    if !modules.is_empty() {
        let verb = if is_enabled { "enabled" } else { "disabled" };
        lines.push(("modules", format!("{verb} {}", modules.join(", "))));
    }
    collapsed(lines)
}

/// The lines, those of a label with more than [`MANY`] as one that counts them by their verbs.
fn collapsed(lines: Vec<(&'static str, String)>) -> Vec<(&'static str, String)> {
    let mut counts: BTreeMap<&str, BTreeMap<String, usize>> = BTreeMap::new();
    for (label, text) in &lines {
        let verb = text.split(' ').next().unwrap_or_default().to_owned();
        *counts.entry(label).or_default().entry(verb).or_default() += 1;
    }
    let mut shown: Vec<(&'static str, String)> = Vec::new();
    for (label, text) in lines {
        let verbs = &counts[label];
        if verbs.values().sum::<usize>() <= MANY {
            shown.push((label, text));
        } else if shown.iter().all(|(other, _)| *other != label) {
            let counted: Vec<String> = verbs.iter().map(|(verb, count)| format!("{verb} {count}")).collect();
            shown.push((label, format!("{} (each of them: yandro history --verbose)", counted.join(", "))));
        }
    }
    shown
}

/// The paths that a set changes, in its order.
pub(crate) fn paths(set: &ChangeSet) -> Vec<String> {
    shown(set).map(|step| step.path().to_string()).collect()
}

/// Meaning of a change of rights.
fn rights(change: &RightsChange) -> String {
    if change.after.list == change.before.list {
        return format!("{}: mode {:04o}, was {:04o}", change.path, change.after.mode, change.before.mode);
    }
    format!("{}: {} on its access control list", change.path, change.who)
}

/// Meaning of a change of a file: a certificate by its end, any other by its path.
fn told(role: &Role, change: &FileChange, places: &Places) -> String {
    let kind = match (role, kind_of(change.before.is_some(), change.after.is_some())) {
        (Role::HandWritten, "made") => "restored",
        (_, kind) => kind,
    };
    let is_chain = matches!(role, Role::Certificate(_) | Role::Root);
    let chain = if is_chain { change.after.as_deref() } else { None };
    let facts = chain
        .and_then(|pem| CertificateFacts::certificates(pem).ok())
        .and_then(|chain| CertificateFacts::read(&chain[0]).ok());
    match facts {
        Some(facts) if facts.names.is_empty() => format!("{kind}, until {}", date(facts.not_after)),
        Some(facts) => format!("{kind} for {}, until {}", facts.names.join(", "), date(facts.not_after)),
        None if matches!(role, Role::Certificate(_)) => kind.to_owned(),
        None => format!("{kind} {}", places.inside(&change.path)),
    }
}

/// Effects of the lines that are switched on in a shared file.
fn switched(set: &ChangeSet, change: &FileChange) -> String {
    let (mut loads, mut listens, mut includes) = (Vec::new(), Vec::new(), Vec::new());
    for (_, switched) in set.switched.iter().filter(|(file, _)| *file == change.path) {
        match switched {
            Switched::Module(module) => loads.push(module.as_str()),
            Switched::Listen(address) => listens.push(address.as_str()),
            Switched::Include { files, .. } => includes.push(files.as_str()),
        }
    }
    let told: Vec<String> = [("loads", loads), ("listens on", listens), ("includes", includes)]
        .iter()
        .filter(|(_, words)| !words.is_empty())
        .map(|(what, words)| format!("{what} {}", words.join(", ")))
        .collect();
    if told.is_empty() { String::new() } else { format!(": {}", told.join("; ")) }
}

/// Label of a file; `None` for one that is reported with another.
fn subject(role: &Role) -> Option<&'static str> {
    Some(match role {
        Role::ProjectFile => "starter page",
        Role::TrustStore => "trust store",
        Role::DefaultHost(_) => "unknown names",
        Role::HostsFile => "hosts file",
        Role::Resolver(_) => "resolver",
        Role::Root => "authority",
        Role::Certificate(name) if name.as_str() != OTHERS => "certificate",
        Role::Certificate(_)
        | Role::Key(_)
        | Role::Authority
        | Role::FormerAuthority(_)
        | Role::AppliedSites
        | Role::ProjectConsent
        | Role::PhpSecrets(_)
        | Role::Marker => {
            return None;
        }
        Role::SiteList => "site list",
        Role::Application => "application",
        Role::Timer => "timer",
        Role::Service => "service",
        Role::VirtualHost(_) | Role::HandWritten => "virtual host",
        Role::PhpPool { .. } => "php-fpm pool",
        Role::IssuedCertificate
        | Role::IssuedList
        | Role::Settings
        | Role::SharedConfig(_)
        | Role::ModuleLink { .. }
        | Role::Logs
        | Role::Access
        | Role::Export
        | Role::Unrecorded => "configuration",
    })
}

/// The reloads of the servers.
pub(crate) fn server_lines(set: &ChangeSet, actions: &[(ServerId, ServerAction)]) -> Vec<(&'static str, String)> {
    let how = |server: ServerId| actions.iter().find(|(own, _)| *own == server).map(|(_, how)| *how);
    let is_done = !actions.is_empty();
    let php = Role::php_versions(set.steps.iter().map(|step| &step.role)).into_iter().map(|version| {
        let what = if is_done { "configuration tested, reloaded" } else { "not reloaded, since this is a sysroot" };
        ("php-fpm", format!("PHP {version}: {what}"))
    });
    let servers = set.servers.iter().map(|server| ("server", server_line(*server, how(*server))));
    php.chain(servers).collect()
}

fn server_line(server: ServerId, action: Option<ServerAction>) -> String {
    match action {
        Some(ServerAction::Reloaded) => format!("{server}: configuration tested, reloaded"),
        Some(ServerAction::Restarted) => {
            format!(
                "{server}: configuration tested, restarted (by a reload it can't listen on an address in another width)"
            )
        }
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
