//! `yandro uninstall`.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, Change, ChangeSet, FileChange, HostsFile, LinkChange, Orphans, Role, ServerId, SiteList, Step, System,
    list_of, pool_of_file, settle,
};
use yandro_machine::changes::TakenOver;
use yandro_machine::{SystemFresh, changes, files, php, resolver, servers, trust, trust::stores};

use super::apply::{Applied, Planned, apply};
use super::authority::{Chosen, Root, TrustWish};
use super::cert::{is_in_table, leave_table};
use super::consent;
use super::database;
use super::jobs::{self, JobFiles, Kind};
use super::serve::{background, names};
use super::setup::{gave_ports, take_ports_away};
use crate::args::{StoresArg, UninstallArgs};
use crate::as_root::as_root;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::sudo::Sudo;
use crate::view::change::{self, labelled, summary};
use crate::view::{BAD, Data, GOOD, Outcome, STRONG, Ui, data, on_wait};

data! {
    /// Data of `yandro uninstall`.
    struct Uninstalled {
        /// The paths that were changed or removed.
        changed: Vec<String>,
        /// Descriptions of the things that are still there.
        left: Vec<String>,
        /// Files that stay since they are the person's: logs, and the addresses of databases that yandro made.
        kept: Vec<String>,
    }
}

impl Data for Uninstalled {}

pub(crate) fn run<'c>(context: &'c Context, args: &UninstallArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let chosen = Chosen::of(context, StoresArg::All, TrustWish::Distrust);
    let logs = logs(context);
    let has_history = !changes::history(&context.machine).entries.is_empty();
    let mut is_agreed = args.yes || context.preview;
    let plan = || {
        let set = plan(context, &chosen, is_agreed)?;
        if !is_agreed {
            agree(context, &set)?;
            is_agreed = true;
        }
        Ok(Planned { set, starts: false, about: () })
    };
    let done = match apply(context, ui, plan, |()| Ok(()))? {
        Applied::Preview(set) => return Ok(change::preview(*set)),
        Applied::Done(done) => *done,
    };
    jobs::follow(context, &done.set);
    leave_table(context)?;
    if gave_ports(context) {
        take_ports_away(context, ui)?;
    }
    let mut left = forget(context);
    // Root's helper remembers a user only after a change.
    if context.machine.is_real() && (has_history || !done.set.is_empty()) {
        let sudo = Sudo::new(&context.machine, ui.is_quiet());
        let forgotten = changes::forget_helped(&sudo, &on_wait(ui.is_quiet()));
        left.extend(forgotten.err().map(|error| error.to_string()));
    }
    left.extend(what_is_left(context));
    let addresses = database::all_made(context);
    let kept: Vec<String> =
        logs.iter().chain(&addresses).filter(|path| path.exists()).map(ToString::to_string).collect();
    let status = if left.is_empty() { Status::Well } else { Status::Findings };
    let data = Uninstalled { changed: change::paths(&done.set), left, kept };
    let outcome = Outcome::new(data, move |data, ui| {
        ui.say(&format!("{STRONG}yandro's own things are taken away{STRONG:#}"));
        let lines = summary(&done.set, &context.machine.places);
        if !lines.is_empty() {
            ui.say(&labelled(&lines));
        }
        chosen.notes(context, &done.set, ui);
        show(data, ui);
    });
    Ok(outcome.with(status))
}

fn show(data: &Uninstalled, ui: &mut Ui) {
    for left in &data.left {
        ui.print(&format!("{BAD}✗{BAD:#} still there: {left}"));
    }
    if data.left.is_empty() {
        ui.say(&format!(
            "{GOOD}proof{GOOD:#}: no line in the hosts file, no file of a server, no trust store and no folder has anything of yours from yandro"
        ));
    }
    if !data.kept.is_empty() {
        let (databases, logs): (Vec<&String>, Vec<&String>) =
            data.kept.iter().partition(|path| Utf8Path::new(path).extension() == Some("url"));
        let list = |paths: Vec<&String>| paths.into_iter().cloned().collect::<Vec<_>>().join(" ");
        if !logs.is_empty() {
            ui.note(&format!("the logs of your sites stay, since they are yours: {}", list(logs)));
        }
        if !databases.is_empty() {
            let files = list(databases);
            ui.note(&format!("the databases that yandro made stay, and their addresses with the passwords: {files}"));
        }
    }
    ui.note(&format!("the program itself goes by the way it came: {}", program()));
}

/// How this program is taken away.
fn program() -> String {
    let own = std::env::current_exe().unwrap_or_default().to_string_lossy().into_owned();
    match own.as_str() {
        "/usr/bin/yandro" => "sudo apt-get purge yandro".to_owned(),
        own if own.ends_with(".cargo/bin/yandro") => "cargo uninstall yandro-cli".to_owned(),
        own => System::HERE.remove(own),
    }
}

/// Plans to take everything away.
fn plan(context: &Context, chosen: &Chosen, is_agreed: bool) -> Result<ChangeSet, CommandError> {
    let machine = &context.machine;
    let places = &machine.places;
    let mut observed = context.observer().observe_written(now())?;
    // Plan with an empty list, so that everything that names this list is removed.
    let none = SiteList::default();
    let settlement = settle(&mut observed, &none, ServerId::BuiltIn, Orphans::Removed, &mut SystemFresh::new())?;
    let mut set = settlement.set;
    chosen.plan(context, &mut set, Root { nickname: "", pem: "" }, TrustWish::Distrust)?;
    for kind in Kind::ALL {
        set.merge(JobFiles::of(context, kind).plan_removal()?);
    }
    // Rights that were given, and folders and pages that were made for sites.
    let made = changes::standing(machine, |role| matches!(role, Role::Access | Role::ProjectFile | Role::Logs))?;
    set.steps.extend(made.into_iter().filter_map(taken_back));
    give_back(context, &mut set, is_agreed)?;
    for (role, path) in [(Role::SiteList, places.site_list()), (Role::Settings, places.settings())] {
        let before = files::read_if_there(&path)?;
        set.file(role, path, (before, None::<Vec<u8>>), Access::Private);
    }
    Ok(set)
}

/// Plans to restore hand-written sites that were taken over: nothing that the user wrote goes.
fn give_back(context: &Context, set: &mut ChangeSet, is_agreed: bool) -> Result<(), CommandError> {
    let machine = &context.machine;
    let taken = TakenOver::of(machine, set)?;
    let hosts = machine.places.hosts.clone();
    let now = files::read_if_there(&hosts)?;
    let planned = set.change_of(&hosts).map_or_else(|| now.clone().map(Into::into), |change| change.after.clone());
    let restored = planned.map(|text| (taken.with_hosts_lines(&text), text)).filter(|(new, text)| *new != **text);
    let paths: Vec<&Utf8Path> =
        taken.steps.iter().map(Step::path).chain(restored.is_some().then_some(&*hosts)).collect();
    may_restore(context, &paths, is_agreed)?;
    if let Some((text, _)) = restored {
        set.without(&hosts);
        set.file(Role::HostsFile, hosts, (now, Some(text)), Access::Public);
    }
    if !taken.steps.is_empty() {
        set.servers.extend(&taken.servers);
    }
    for step in taken.steps {
        // It has what the set would write there, too.
        set.without(step.path());
        set.steps.push(step);
    }
    Ok(())
}

/// The helper writes no text of the user's into files of root's.
fn may_restore(context: &Context, paths: &[&Utf8Path], is_agreed: bool) -> Result<(), CommandError> {
    let machine = &context.machine;
    let is_restricted = !context.preview && !machine.is_root() && machine.is_real();
    match paths.iter().find(|path| is_restricted && !files::may_be_replaced(path)) {
        Some(path) => Err(CommandError::not_made(format!(
            "a virtual host that you wrote and yandro took over has to be restored, and only root can write {path}"
        ))
        .hint(format!(
            "uninstall as root: {}",
            as_root(if is_agreed { &["uninstall", "--yes"] } else { &["uninstall"] })
        ))),
        None => Ok(()),
    }
}

/// The step that takes back what was made, if that is a removal or a change of rights.
fn taken_back(step: Step) -> Option<Step> {
    let change = match step.change {
        Change::Folder { path, .. } => Change::EmptyFolder { path },
        Change::File(FileChange { after: None, .. })
        | Change::Link(LinkChange { after: None, .. })
        | Change::Rights(_) => step.change,
        _ => return None,
    };
    Some(Step { role: step.role, change })
}

/// Shows what goes, and asks.
fn agree(context: &Context, set: &ChangeSet) -> Result<(), CommandError> {
    let places = &context.machine.places;
    let mut lines = summary(set, places);
    for folder in [&places.config, &places.data].into_iter().filter(|folder| folder.is_dir()) {
        lines.push(("folder", format!("remove {folder}, with all in it: site list, authority, certificates, history")));
    }
    if lines.is_empty() {
        return Ok(());
    }
    for (_, text) in &mut lines {
        *text = not_yet(text);
    }
    let fact = format!("This will be done, and can't be undone:\n{}", labelled(&lines));
    consent::ask(
        &fact,
        "Remove everything of yandro's?",
        "if that is what you want, add `--yes`; to see every line: --preview",
    )
}

/// A line of a summary before anything is changed.
fn not_yet(text: &str) -> String {
    let (verb, rest) = text.split_once(' ').map_or((text, String::new()), |(verb, rest)| (verb, format!(" {rest}")));
    let verb = match verb {
        "made" => "make",
        "changed" => "change",
        "removed" => "remove",
        "restored" => "restore",
        "linked" => "link",
        "unlinked" => "unlink",
        "enabled" => "enable",
        "disabled" => "disable",
        verb => verb,
    };
    verb.to_owned() + &rest
}

/// Takes the folders away, with the history of what was done; gives what could not be.
fn forget(context: &Context) -> Vec<String> {
    // It would go on with files that are gone.
    _ = background::stop(context);
    _ = names::stop(context);
    let places = &context.machine.places;
    let mut left = Vec::new();
    for folder in [&places.data, &places.config] {
        let _rights = yandro_machine::caller::rights_for(folder);
        left.extend(remove_all_but(folder, &database::all_made(context)));
        // Folders above that have nothing else in them.
        let home = context.machine.home();
        let above = folder.ancestors().skip(1).take_while(|above| above.starts_with(home) && *above != home);
        _ = above.map(std::fs::remove_dir).take_while(Result::is_ok).count();
    }
    left
}

/// Removes a folder with all in it but these files; gives what could not be removed.
fn remove_all_but(folder: &Utf8Path, stay: &[Utf8PathBuf]) -> Vec<String> {
    let told = |path: &Utf8Path, removed: std::io::Result<()>| match removed {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Some(format!("{path}: {error}")),
        _ => None,
    };
    if !stay.iter().any(|path| path.starts_with(folder)) {
        return told(folder, std::fs::remove_dir_all(folder)).into_iter().collect();
    }
    let entries = folder.read_dir_utf8().into_iter().flatten().flatten();
    let remove = |entry: camino::Utf8DirEntry| {
        let path = entry.path();
        match path {
            _ if stay.iter().any(|stays| stays == path) => Vec::new(),
            _ if entry.file_type().is_ok_and(|kind| kind.is_dir()) => remove_all_but(path, stay),
            _ => told(path, std::fs::remove_file(path)).into_iter().collect(),
        }
    };
    entries.flat_map(remove).collect()
}

/// Descriptions of the things of this user's yandro that are still there.
fn what_is_left(context: &Context) -> Vec<String> {
    let machine = &context.machine;
    let places = &machine.places;
    let mut left = Vec::new();
    if is_in_table(context) {
        left.push("a line of your crontab".to_owned());
    }
    left.extend(jobs::left_to_root(context));
    if let Ok(Some(bytes)) = files::read_if_there(&places.hosts) {
        let names = HostsFile::parse(&bytes).own_names(&places.list);
        left.extend(names.first().map(|name| format!("{}: a line of {name}", places.hosts)));
    }
    if let Ok(Some(resolver)) = resolver::observe(machine) {
        left.extend(
            resolver.own_files(&places.list).map(|path| format!("{path}: the responder for names below sites")),
        );
    }
    for found in context.present().all() {
        let names = servers::sites(&found.layout);
        let paths = names.iter().flat_map(|name| [found.layout.site_file(name), found.layout.disabled_file(name)]);
        let is_own = |path: &Utf8PathBuf| {
            let text = files::read_if_there(path).ok().flatten().unwrap_or_default();
            list_of(&text).is_some_and(|list| list == places.list)
        };
        left.extend(paths.filter(is_own).map(|path| path.to_string()));
        let main = &found.layout.main;
        let text = files::read_if_there(main).ok().flatten().unwrap_or_default();
        let pattern = found.view.there_or_same(&found.layout.pattern());
        let reads = String::from_utf8_lossy(&text).lines().any(|line| line.contains(pattern.as_str()));
        // Other users' sites need that line.
        left.extend((reads && names.is_empty()).then(|| format!("{main}: the line that reads {pattern}")));
    }
    let pools = php::homes(machine).into_values().flat_map(|folder| folder.read_dir_utf8().into_iter().flatten());
    let pools = pools.flatten().map(camino::Utf8DirEntry::into_path).filter(|path| pool_of_file(path).is_some());
    let is_own = |path: &Utf8PathBuf| list_of(&std::fs::read(path).unwrap_or_default()) == Some(places.list.clone());
    left.extend(pools.filter(is_own).map(Utf8PathBuf::into_string));
    if let Some(store) = trust::find(machine) {
        left.extend(trust::own_files(machine, store).iter().map(ToString::to_string));
        if machine.is_real() {
            left.extend(trust::dangling().iter().map(|path| format!("{path}: a link to a root that is gone")));
        }
    }
    for store in stores::find(machine).iter().filter(|store| stores::has_program(machine, store)) {
        let held = stores::former_roots(machine, store.kind, &store.path, "").unwrap_or_default();
        left.extend(held.iter().map(|(name, _)| format!("{}: the root {name}", store.path)));
    }
    left
}

/// The logs of the sites that this list has.
fn logs(context: &Context) -> Vec<Utf8PathBuf> {
    let mut logs = Vec::new();
    let Ok((_, list)) = context.list() else { return logs };
    for site in &list.sites {
        let Some(found) = context.server(context.server_of_site(site)) else { continue };
        let own = found.layout.site_file(&site.name);
        let configuration = servers::configuration(&context.machine, found);
        let is_own = |place: &yandro_core::Place| {
            found.view.here_or_same(&place.file.as_str().into()).file_name() == own.file_name()
        };
        let errors = configuration.error_logs(&is_own);
        let is_own = |path: &Utf8PathBuf| path.file_name().is_some_and(|name| name.starts_with(site.name.as_str()));
        for path in errors.iter().map(|path| found.view.here_or_same(path)).filter(is_own) {
            let access = path.as_str().replace("-error.log", "-access.log");
            logs.extend([path.clone(), access.into()]);
        }
    }
    logs.sort();
    logs.dedup();
    logs
}
