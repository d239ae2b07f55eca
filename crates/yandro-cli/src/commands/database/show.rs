//! What is known of a site's databases.

use yandro_core::{DatabaseAddress, HostName, connection_lines};
use yandro_machine::database::{self, DatabaseError};

use super::{configured, made_for, none, the_one};
use crate::args::ConnectionForm;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Cell, Data, Outcome, Table, WARN, data};

data! {
    /// Data of `yandro database NAME`.
    struct Databases {
        site: String,
        databases: Vec<DatabaseRow>,
    }

    /// A database.
    struct DatabaseRow {
        /// Its address, without the password.
        database: String,
        /// Whether yandro made it.
        made_by_yandro: bool,
        /// The configuration that names it.
        named_in: Option<String>,
        /// How many tables it has, if it can be opened.
        tables: Option<usize>,
        /// Why it can't be opened.
        problem: Option<String>,
    }
}

impl Data for Databases {}

pub(super) fn run<'c>(
    context: &'c Context,
    name: &HostName,
    form: Option<ConnectionForm>,
) -> Result<Outcome<'c>, CommandError> {
    let rows = rows(context, name)?;
    if rows.is_empty() {
        super::folder(context, name)?;
        return Err(none(name));
    }
    let data = Databases { site: name.to_string(), databases: rows };
    if let Some(form) = form {
        let address = the_one(context, name)?;
        let lines = connection_lines(&address).into_iter().find(|(word, _)| *word == form.word());
        let lines = lines.map_or(String::new(), |(_, lines)| lines);
        return Ok(Outcome::new(data, move |_, ui| ui.print(&lines)));
    }
    Ok(Outcome::new(data, |data, ui| {
        let mut table = Table::new(&["DATABASE", "TABLES", "NAMED IN"]);
        for row in &data.databases {
            let tables = match row.tables {
                Some(tables) => Cell::plain(tables.to_string()),
                None => Cell::new("can't be opened", WARN),
            };
            let named = row.named_in.clone().unwrap_or_default();
            table.row(vec![Cell::plain(&row.database), tables, Cell::plain(named)]);
        }
        ui.table(&table);
        for problem in data.databases.iter().filter_map(|row| row.problem.as_ref()) {
            ui.note(problem);
        }
        ui.say(&format!("\nIts connection, with the password: yandro database {} show --format env", data.site));
    }))
}

fn rows(context: &Context, name: &HostName) -> Result<Vec<DatabaseRow>, CommandError> {
    let made = made_for(context, name)?;
    let configured = configured(context, name);
    let named = |address: &DatabaseAddress| configured.iter().find(|found| found.address.is_same(address));
    let mut all: Vec<(DatabaseAddress, bool, Option<String>)> = Vec::new();
    if let Some(made) = &made {
        all.push((made.clone(), true, named(made).map(|found| found.file.to_string())));
    }
    for found in configured.iter().filter(|found| !made.as_ref().is_some_and(|made| made.is_same(&found.address))) {
        all.push((found.address.clone(), false, Some(found.file.to_string())));
    }
    let row = |(address, made_by_yandro, named_in): (DatabaseAddress, bool, Option<String>)| {
        let tables = if address.is_local() { Some(tables(context, &address)) } else { None };
        let problem = tables.as_ref().and_then(|tables| tables.as_ref().err()).map(ToString::to_string);
        let tables = tables.and_then(Result::ok);
        DatabaseRow { database: address.to_string(), made_by_yandro, named_in, tables, problem }
    };
    Ok(all.into_iter().map(row).collect())
}

/// How many tables a database has.
pub(super) fn tables(context: &Context, address: &DatabaseAddress) -> Result<usize, DatabaseError> {
    let mut session = database::open(address, context.machine.user())?;
    Ok(session.tables(address.kind)?.len())
}
