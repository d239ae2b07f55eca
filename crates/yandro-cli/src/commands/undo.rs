//! `yandro undo`.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, Change, DoneStep, FileChange, HostName, Role, Site, Step, UndoError, Undoing, undo, unified_diff,
};
use yandro_machine::{HistoryEntry, SystemFresh, changes, database, files};

use super::apply::{Planned, apply, done};
use super::jobs;
use crate::args::UndoArgs;
use crate::context::{Context, now};
use crate::databases;
use crate::error::CommandError;
use crate::view::change;
use crate::view::{Data, Outcome, STRONG, Ui, count, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c UndoArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let mut later_rows = 0;
    let plan = || {
        let machine = &context.machine;
        let history = changes::history(machine).entries;
        let entry = chosen(&history, args.id)?;
        let steps = changes::done_steps(machine, entry.id)?.ok_or_else(|| no_such(entry.id))?;
        if let Some((later, name)) = later_change(&history, entry) {
            return Err(site_changed(entry, &name, Some(later)));
        }
        let hosts = &machine.places.hosts;
        if let Some(later) = changes::overlapped_by(machine, entry.id, hosts) {
            return Err(overlapped(entry, hosts, Some(later)));
        }
        later_rows = rows_changed_since(context, &steps)?;
        let mut leftovers = Vec::new();
        for undone in history.iter().rev().filter(|other| !other.stands()) {
            leftovers.extend(changes::done_steps(machine, undone.id)?.unwrap_or_default());
        }
        let (text, list) = context.list()?;
        let both = entry.sites.iter().flat_map(|change| [&change.before, &change.after]).flatten();
        let mut sites: Vec<&Site> = both.collect();
        sites.dedup_by(|a, b| a.name == b.name);
        // A restored authority issues all certificates again.
        let former = context.machine.places.former_authorities();
        let is_all = steps.iter().any(|step| step.path().starts_with(&former));
        let observed = if is_all {
            context.observer().observe_all(text, &list, now())?
        } else {
            context.observer().observe(text, &sites, now())?
        };
        // Later changes may need parts of this one.
        let is_last = !history.iter().any(|later| later.id > entry.id && later.stands());
        let undoing = Undoing { sites: &entry.sites, steps: &steps, leftovers: &leftovers, is_last };
        let mut set =
            undo(observed, &list, &undoing, &mut SystemFresh::new()).map_err(|error| refused(entry, error))?;
        if set.is_empty() {
            return Err(CommandError::not_made(format!(
                "nothing of change {} can be undone: `{}`",
                entry.id, entry.command
            ))
            .hint("what it changed was changed again since, or is a key, of which no copy is kept"));
        }
        set.undoes = Some(entry.id);
        Ok(Planned { set, starts: false, about: entry.clone() })
    };
    let done = done!(apply(context, ui, plan, |_| Ok(())));
    jobs::follow(context, &done.set);

    let (undone, command) = (done.about.id, done.about.command.clone());
    let data = Undone { undone, command, changed: change::paths(&done.set) };
    Ok(Outcome::new(data, move |data, ui| {
        ui.say(&format!("{STRONG}change {} is undone{STRONG:#}: `{}`", data.undone, data.command));
        ui.say(&done.summary(context));
        if later_rows > 0 {
            let as_it = if later_rows == 1 { "it is: it was" } else { "they are: they were" };
            ui.note(&format!("{} of the database stayed as {as_it} changed again since", count(later_rows, "row")));
        }
        let writes_list = done.set.steps.iter().any(|step| step.role == Role::SiteList);
        if !done.set.sites.is_empty() && !writes_list {
            ui.note("the site list stays as you wrote it: edit it, or `yandro settle` brings the same about again");
        }
    }))
}

data! {
    /// Data of `yandro undo`.
    struct Undone {
        /// The change that is undone.
        undone: u64,
        /// The command that made it.
        command: String,
        /// The paths that were changed.
        changed: Vec<String>,
    }
}

impl Data for Undone {}

/// How many rows of databases that the change has written were changed again since.
fn rows_changed_since(context: &Context, steps: &[DoneStep]) -> Result<usize, CommandError> {
    let mut later = 0;
    for step in steps {
        let DoneStep::Untouched(Step { change: Change::Rows(change), .. }) = step else { continue };
        let changed = database::later_changed(&context.machine, change);
        later += changed.map_err(|error| databases::not_opened(&error, "", ""))?;
    }
    Ok(usize::try_from(later).unwrap_or(usize::MAX))
}

/// The change to undo: the named one, or the last that is in effect and is not an undo.
fn chosen(history: &[HistoryEntry], id: Option<u64>) -> Result<&HistoryEntry, CommandError> {
    let Some(id) = id else {
        return history
            .iter()
            .rev()
            .find(|entry| entry.stands())
            .ok_or_else(|| CommandError::usage("no change is left to undo"));
    };
    let entry = history.iter().find(|entry| entry.id == id).ok_or_else(|| no_such(id))?;
    match entry.undone_by {
        Some(by) => Err(CommandError::usage(format!("change {id} was undone already, by change {by}"))
            .hint(format!("to have it again, take that one back: yandro undo {by}"))),
        None => Ok(entry),
    }
}

/// The last later change that is in effect and is about one of its sites, with that site's name.
fn later_change<'h>(history: &'h [HistoryEntry], entry: &HistoryEntry) -> Option<(&'h HistoryEntry, HostName)> {
    let names = names_of(entry);
    let mut later = history.iter().rev().filter(|later| later.id > entry.id && later.stands());
    later.find_map(|later| Some((later, names_of(later).into_iter().find(|name| names.contains(name))?)))
}

/// The sites that a change is about.
fn names_of(entry: &HistoryEntry) -> Vec<HostName> {
    let sites = entry.sites.iter().flat_map(|change| [&change.before, &change.after]).flatten();
    sites.map(|site| site.name.clone()).collect()
}

/// A site of the change was changed again, by a later change or in the list by hand.
fn site_changed(entry: &HistoryEntry, name: &HostName, later: Option<&HistoryEntry>) -> CommandError {
    let message = format!("change {} can't be undone: the site `{name}` was changed again since", entry.id);
    let error = CommandError::not_made(message).code("changed-since");
    match later {
        Some(later) => error.hint(format!("undo the later change first: yandro undo {}", later.id)),
        None => {
            error.hint(format!("the site list was edited by hand; change the site as you want it: yandro map {name}"))
        }
    }
}

/// The lines that a change made were changed again since.
fn overlapped(entry: &HistoryEntry, path: &Utf8Path, later: Option<u64>) -> CommandError {
    let message =
        format!("change {} can't be undone: lines that it changed in {path} were changed again since", entry.id);
    let error = CommandError::not_made(message).code("changed-since");
    match later {
        Some(later) => error.hint(format!("undo the later change first: yandro undo {later}")),
        None => error.hint(format!("set those lines as you want them by hand: {path}")),
    }
}

fn no_such(id: u64) -> CommandError {
    CommandError::usage(format!("change {id} doesn't exist")).hint("see which there are: yandro history")
}

fn refused(entry: &HistoryEntry, error: UndoError) -> CommandError {
    match error {
        UndoError::Plan(error) => error.into(),
        UndoError::SiteChanged(name) => site_changed(entry, &name, None),
        UndoError::Edited { path, made } => edited(entry, path, made),
        UndoError::Overlaps(path) => overlapped(entry, &path, None),
        UndoError::AuthorityReplaced => CommandError::not_made(format!(
            "change {} can't be undone: the authority was replaced again since",
            entry.id
        ))
        .hint("take the later change back first: see which in yandro history"),
        error => CommandError::not_made(error),
    }
}

/// A file that was edited since, with the difference.
fn edited(entry: &HistoryEntry, path: Utf8PathBuf, made: Vec<u8>) -> CommandError {
    let now = files::read_if_there(&path).ok().flatten();
    let (before, after) = (Some(made.into()), now.map(Into::into));
    let change = FileChange { path, before, after, access: Access::Public };
    CommandError::not_made(format!(
        "change {} can't be undone: {} was edited since, and that would be lost:\n{}",
        entry.id,
        change.path,
        unified_diff(&change)
    ))
    .hint("move those lines to another file, then run the command again")
}
