//! `yandro hosts list`.

use std::collections::HashMap;

use yandro_core::{HostName, HostsFile, HostsRow, SiteList, Sorting, hosts_rows};
use yandro_machine::{caches, network};

use super::read;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{COMMAND, Cell, DIM, Data, Outcome, STRONG, Table, Ui, WARN, both_ways, count, data};

pub(crate) fn run(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let bytes = read(context)?;
    let (_, list) = context.list()?;
    let sorting = Sorting { multi: caches::multi(&context.machine), is_usable: &network::is_usable };
    let rows = hosts_rows(&HostsFile::parse(&bytes), sorting);
    let file = context.machine.places.hosts.to_string();
    let owners = owners(&list);
    let data = Entries { entries: rows.into_iter().map(|row| to_data(row, &owners)).collect(), file };
    Ok(Outcome::new(data, |data, ui| show(&data.entries, ui)))
}

fn show(rows: &[EntryData], ui: &mut Ui) {
    let mut table = Table::new(&["LINE", "ADDRESS", "NAMES", "OWNER", ""]).least(&["OWNER"]);
    let mut shadowed = 0;
    for row in rows {
        let names: Vec<String> = row.names.iter().map(|own| shown(&own.name)).collect();
        let by_line = |own: &NameData| Some(format!("{} by line {}", shown(&own.name), own.answered_before_by_line?));
        let lines = row.names.iter().filter_map(by_line);
        let lines: Vec<String> = lines.collect();
        shadowed += lines.len();
        let note = if lines.is_empty() { String::new() } else { format!("answered before: {}", lines.join(", ")) };
        table.row(vec![
            Cell::new(row.line.to_string(), DIM),
            Cell::plain(row.address.to_string()),
            Cell::new(names.join(" "), STRONG),
            Cell::plain(whose(row)),
            Cell::new(note, WARN),
        ]);
    }
    ui.table(&table);
    let doubt = if shadowed > 0 { format!("; {shadowed} answered by an earlier line") } else { String::new() };
    let entries = if rows.len() == 1 { "1 entry".to_owned() } else { format!("{} entries", rows.len()) };
    let names = rows.iter().map(|row| row.names.len()).sum();
    ui.say(&format!("\n{entries}, {}{doubt}. Judge them: {COMMAND}yandro hosts lint{COMMAND:#}", count(names, "name")));
}

/// A name in letters that people read, if it has a form for them.
fn shown(name: &str) -> String {
    match HostName::parse(name) {
        Ok(parsed) if parsed.to_unicode() != parsed.as_str() => both_ways(&parsed),
        _ => name.escape_debug().to_string(),
    }
}

fn whose(row: &EntryData) -> String {
    match &row.site {
        _ if row.whose == PERSON => "manual".into(),
        Some(site) => format!("site {site}"),
        None => "yandro, of no site".into(),
    }
}

/// Owner of a line that yandro didn't write.
const PERSON: &str = "person";

data! {
    /// Data of `yandro hosts list`.
    struct Entries {
        entries: Vec<EntryData>,
        file: String,
    }

    /// A line that points names to an address.
    struct EntryData {
        address: std::net::IpAddr,
        /// Its number, from 1.
        line: usize,
        names: Vec<NameData>,
        /// The site that has one of the names.
        site: Option<String>,
        /// `yandro` or `person`.
        whose: &'static str,
    }

    /// A name of it.
    struct NameData {
        /// The earlier line that answers in its place.
        answered_before_by_line: Option<usize>,
        name: String,
    }
}

impl Data for Entries {
    // A file that blocks advertisers has a hundred thousand lines.
    const IS_IN_ORDER: bool = true;
}

/// The sites by each of their names.
fn owners(list: &SiteList) -> HashMap<&str, &str> {
    list.sites.iter().flat_map(|site| site.names().map(|name| (name.as_str(), site.name.as_str()))).collect()
}

fn to_data(row: HostsRow, owners: &HashMap<&str, &str>) -> EntryData {
    let owner = |name: &str| {
        // Only what has another form has to be read as a name.
        if name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || b"-._".contains(&byte)) {
            return owners.get(name).copied();
        }
        owners.get(HostName::parse(name).ok()?.as_str()).copied()
    };
    let site = if owners.is_empty() { None } else { row.names.iter().find_map(|(name, _)| owner(name)) };
    EntryData {
        line: row.entry.line,
        address: row.entry.address,
        site: site.map(str::to_owned),
        whose: if row.entry.ours { "yandro" } else { PERSON },
        names: row.names.into_iter().map(|(name, by)| NameData { answered_before_by_line: by, name }).collect(),
    }
}
