//! `yandro history`, and bringing originals back.

use camino::Utf8Path;
use yandro_core::{Access, ChangeSet, Layout, Role};
use yandro_machine::{HistoryEntry, changes, files};

use super::apply::{Planned, apply, done};
use crate::args::{HistoryArgs, HistoryCommand};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{COMMAND, Cell, DIM, Data, Outcome, STRONG, Table, Ui, count, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c HistoryArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match &args.command {
        None => Ok(list(context, ui)),
        Some(HistoryCommand::Originals) => Ok(originals(context)),
        Some(HistoryCommand::Restore { file }) => restore(context, file, ui),
    }
}

data! {
    /// Data of `yandro history`.
    struct HistoryRows {
        /// The changes, the first first.
        changes: Vec<ChangeData>,
    }

    /// A change that was applied.
    struct ChangeData {
        id: u64,
        /// When it was, RFC 3339.
        at: String,
        command: String,
        paths: Vec<String>,
        /// The change that it takes back.
        undoes: Option<u64>,
        /// The change that took it back.
        undone_by: Option<u64>,
    }

    /// Data of `yandro history originals`.
    struct Originals {
        /// The files of which there is an original.
        originals: Vec<String>,
    }

    /// Data of `yandro history restore` and `yandro hosts restore`.
    struct Restored {
        restored: String,
        /// Whether it was otherwise before.
        changed: bool,
    }
}

impl Data for HistoryRows {}
impl Data for Originals {}
impl Data for Restored {}

fn list<'c>(context: &Context, ui: &mut Ui) -> Outcome<'c> {
    let changes::History { entries: history, damaged } = changes::history(&context.machine);
    for path in &damaged {
        ui.note(&format!("the record {path} is damaged: its change is not listed and can't be undone; delete the file when you don't need it"));
    }
    Outcome::new(HistoryRows { changes: history.iter().map(to_data).collect() }, |data, ui| show(&data.changes, ui))
}

fn to_data(entry: &HistoryEntry) -> ChangeData {
    ChangeData {
        id: entry.id,
        at: entry.at.clone(),
        command: entry.command.clone(),
        paths: entry.paths.iter().map(ToString::to_string).collect(),
        undoes: entry.undoes,
        undone_by: entry.undone_by,
    }
}

/// State of a change.
fn fate(entry: &ChangeData) -> String {
    match (entry.undone_by, entry.undoes) {
        (Some(by), _) => format!("undone by {by}"),
        (None, Some(of)) => format!("takes {of} back"),
        (None, None) => String::new(),
    }
}

fn show(history: &[ChangeData], ui: &mut Ui) {
    if history.is_empty() {
        ui.say("Nothing was changed yet.");
        return;
    }
    let mut table = Table::new(&["CHANGE", "WHEN", "COMMAND", "TOUCHED", ""]).least(&["TOUCHED", "WHEN"]);
    for entry in history.iter().rev() {
        let style = if entry.undone_by.is_some() { DIM } else { STRONG };
        table.row(vec![
            Cell::new(entry.id.to_string(), style),
            Cell::plain(entry.at.replace('T', " ").trim_end_matches('Z')),
            Cell::plain(&entry.command),
            Cell::plain(count(entry.paths.len(), "path")),
            Cell::new(fate(entry), DIM),
        ]);
        if ui.verbose {
            for path in &entry.paths {
                table.row(vec![Cell::plain(""), Cell::plain(""), Cell::new(format!("  {path}"), DIM)]);
            }
        }
    }
    ui.table(&table);
    ui.say(&format!("\nTake the last one back: {COMMAND}yandro undo{COMMAND:#}; another: {COMMAND}yandro undo CHANGE{COMMAND:#}. Times are UTC."));
}

fn originals<'c>(context: &Context) -> Outcome<'c> {
    let originals = changes::originals(&context.machine).iter().map(ToString::to_string).collect();
    Outcome::new(Originals { originals }, |data, ui| {
        if data.originals.is_empty() {
            ui.say("No file that was there before was changed yet.");
            return;
        }
        for path in &data.originals {
            ui.say(path);
        }
        ui.say(&format!(
            "\nBring one back as it was: {COMMAND}yandro history restore FILE{COMMAND:#} (with --preview first)"
        ));
    })
}

/// Restores a file as it was before yandro's first change, as a separate change.
pub(crate) fn restore<'c>(context: &'c Context, file: &'c Utf8Path, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let plan = || Ok(Planned { set: plan_restored(context, file)?, starts: false, about: () });
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    let data = Restored { restored: file.to_string(), changed: !done.set.is_empty() };
    Ok(Outcome::new(data, |data, ui| {
        let file = &data.restored;
        ui.say(&if data.changed {
            format!("{STRONG}{file}{STRONG:#} is as it was before the first change; `yandro settle` writes the sites into it again")
        } else {
            format!("{file} is as it was before the first change")
        });
    }))
}

/// A file as it was before yandro first changed it.
fn plan_restored(context: &Context, file: &Utf8Path) -> Result<ChangeSet, CommandError> {
    let original = changes::original(&context.machine, file)?.ok_or_else(|| {
        CommandError::usage(format!("`{file}` has no original: yandro never changed it"))
            .hint("see of which files there is one: yandro history originals")
    })?;
    let mut set = ChangeSet::default();
    let now = files::read_if_there(file)?;
    set.file(Role::Export, file.to_owned(), (now, Some(original)), Access::Public);
    if !set.is_empty() {
        // Whichever server has it among its files.
        let is_of = |layout: &Layout| {
            layout.main.parent().is_some_and(|folder| file.starts_with(folder)) || file.starts_with(&layout.sites)
        };
        let told = context.present().all().iter().filter(|found| is_of(&found.layout));
        set.servers.extend(told.map(|found| found.id));
    }
    Ok(set)
}
