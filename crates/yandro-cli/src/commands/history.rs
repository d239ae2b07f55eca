//! `yandro history`, and bringing originals back.

use camino::Utf8Path;
use serde_json::json;
use yandro_core::config::Layout;
use yandro_core::plan::{Access, ChangeSet, Role};
use yandro_machine::{changes, files};

use super::apply::{Planned, apply};
use crate::args::{HistoryArgs, HistoryCommand};
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{COMMAND, Cell, DIM, STRONG, Table, Ui, count};

pub(crate) fn run(context: &Context, args: &HistoryArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    match &args.command {
        None => {
            list(context, ui);
            Ok(Status::Well)
        }
        Some(HistoryCommand::Originals) => {
            originals(context, ui);
            Ok(Status::Well)
        }
        Some(HistoryCommand::Restore { file }) => restore(context, file, ui),
    }
}

fn list(context: &Context, ui: &mut Ui) {
    let changes::History { entries: history, damaged } = changes::history(&context.machine);
    for path in &damaged {
        ui.note(&format!("the record {path} is damaged: its change is not listed and can't be undone; delete the file when you don't need it"));
    }
    if ui.json {
        let entries: Vec<_> = history
            .iter()
            .map(|entry| {
                json!({
                    "id": entry.id, "at": entry.at, "command": entry.command, "paths": entry.paths,
                    "undoes": entry.undoes, "undone-by": entry.undone_by,
                })
            })
            .collect();
        ui.json(&json!({ "version": 1, "changes": entries }));
        return;
    }
    if history.is_empty() {
        ui.say("Nothing was changed yet.");
        return;
    }
    let mut table = Table::new(&["CHANGE", "WHEN", "COMMAND", "TOUCHED", ""]);
    for entry in history.iter().rev() {
        let state = match (entry.undone_by, entry.undoes) {
            (Some(by), _) => format!("taken back by {by}"),
            (None, Some(of)) => format!("takes {of} back"),
            (None, None) => String::new(),
        };
        let style = if entry.undone_by.is_some() { DIM } else { STRONG };
        table.row(vec![
            Cell::new(entry.id.to_string(), style),
            Cell::plain(entry.at.replace('T', " ").trim_end_matches('Z')),
            Cell::plain(&entry.command),
            Cell::plain(count(entry.paths.len(), "path")),
            Cell::new(state, DIM),
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

fn originals(context: &Context, ui: &mut Ui) {
    let originals = changes::originals(&context.machine);
    if ui.json {
        ui.json(&json!({ "version": 1, "originals": originals }));
        return;
    }
    if originals.is_empty() {
        ui.say("No file that was there before was changed yet.");
        return;
    }
    for path in &originals {
        ui.say(path.as_str());
    }
    ui.say(&format!(
        "\nBring one back as it was: {COMMAND}yandro history restore FILE{COMMAND:#} (with --preview first)"
    ));
}

/// Brings a file back as it was before yandro ever touched it, as a change of its own.
pub(crate) fn restore(context: &Context, file: &Utf8Path, ui: &mut Ui) -> Result<Status, CommandError> {
    let plan = || {
        let original = changes::original(&context.machine, file)?.ok_or_else(|| {
            CommandError::usage(format!("there is no original of `{file}`: yandro never changed it"))
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
            let told = context.servers().iter().filter(|found| is_of(&found.layout));
            set.servers.extend(told.map(|found| found.id));
        }
        Ok(Planned { set, starts: false, about: () })
    };
    let Some(done) = apply(context, ui, plan, |()| Ok(()))? else { return Ok(Status::Well) };
    if ui.json {
        ui.json(&json!({ "version": 1, "restored": file, "changed": !done.set.is_empty() }));
    } else if done.set.is_empty() {
        ui.say(&format!("{file} is as it was before the first change"));
    } else {
        ui.say(&format!("{STRONG}{file}{STRONG:#} is as it was before the first change; `yandro settle` writes the sites into it again"));
    }
    Ok(Status::Well)
}
