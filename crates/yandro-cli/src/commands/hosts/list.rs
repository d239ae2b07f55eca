//! `yandro hosts list`.

use serde_json::json;
use yandro_core::hosts::{HostsFile, Row, rows};
use yandro_core::name::HostName;
use yandro_core::site::SiteList;

use super::read;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{COMMAND, Cell, DIM, STRONG, Table, Ui, WARN, both_ways, count};

pub(crate) fn run(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let bytes = read(context)?;
    let (_, list) = context.list()?;
    let rows = rows(&HostsFile::parse(&bytes));
    if ui.json {
        let entries: Vec<_> = rows.iter().map(|row| to_json(row, &list)).collect();
        ui.json(&json!({ "version": 1, "file": context.machine.places.hosts, "entries": entries }));
        return Ok(Status::Well);
    }
    let mut table = Table::new(&["LINE", "ADDRESS", "NAMES", "WHOSE", ""]);
    let mut shadowed = 0;
    for row in &rows {
        let names: Vec<String> = row.names.iter().map(|(name, _)| shown(name)).collect();
        let lines = row.names.iter().filter_map(|(name, by)| Some(format!("{} by line {}", shown(name), (*by)?)));
        let lines: Vec<String> = lines.collect();
        shadowed += lines.len();
        let note = if lines.is_empty() { String::new() } else { format!("answered before: {}", lines.join(", ")) };
        table.row(vec![
            Cell::new(row.entry.line.to_string(), DIM),
            Cell::plain(row.entry.address.to_string()),
            Cell::new(names.join(" "), STRONG),
            Cell::plain(whose(row, &list)),
            Cell::new(note, WARN),
        ]);
    }
    ui.table(&table);
    let doubt = if shadowed > 0 { format!("; {shadowed} answered by an earlier line") } else { String::new() };
    let entries = if rows.len() == 1 { "1 entry".to_owned() } else { format!("{} entries", rows.len()) };
    let names = rows.iter().map(|row| row.names.len()).sum();
    ui.say(&format!("\n{entries}, {}{doubt}. Judge them: {COMMAND}yandro hosts lint{COMMAND:#}", count(names, "name")));
    Ok(Status::Well)
}

/// A name in letters that people read, if it has a form for them.
fn shown(name: &str) -> String {
    match HostName::parse(name) {
        Ok(parsed) if parsed.to_unicode() != parsed.as_str() => both_ways(&parsed),
        _ => name.escape_debug().to_string(),
    }
}

fn whose(row: &Row, list: &SiteList) -> String {
    if !row.entry.ours {
        return "yours".into();
    }
    let owner = row.names.iter().find_map(|(name, _)| list.owner(&HostName::parse(name).ok()?));
    owner.map_or_else(|| "yandro, of no site".into(), |site| format!("site {}", site.name))
}

fn to_json(row: &Row, list: &SiteList) -> serde_json::Value {
    let names: Vec<_> =
        row.names.iter().map(|(name, by)| json!({ "name": name, "answered-before-by-line": by })).collect();
    json!({
        "line": row.entry.line, "address": row.entry.address, "names": names,
        "whose": if row.entry.ours { "yandro" } else { "person" },
        "site": row.names.iter().find_map(|(name, _)| list.owner(&HostName::parse(name).ok()?)).map(|site| site.name.as_str()),
    })
}
