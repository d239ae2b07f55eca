//! The databases of an application, and their rows with old addresses.

use camino::Utf8Path;
use yandro_core::{AppAddress, DatabaseAddress, HostName, RowsChange};
use yandro_machine::database::{self, DatabaseError, FoundRows, RowSearch};

use super::{DatabaseData, LeftRow, TableData};
use crate::args::ReaddressArgs;
use crate::commands::database::made_for;
use crate::context::Context;
use crate::databases;
use crate::error::CommandError;
use crate::view::progress;

/// The rows that change, and what is told about each database.
#[derive(Default)]
pub(super) struct Rows {
    pub(super) changes: Vec<RowsChange>,
    pub(super) data: Vec<DatabaseData>,
    /// The first changed texts: table and column, before, after.
    pub(super) samples: Vec<(String, String, String)>,
    pub(super) not_read: Vec<String>,
}

/// Looks for old addresses in the databases of the application.
///
/// # Errors
/// When none of them can be opened.
pub(super) fn look(
    context: &Context,
    args: &ReaddressArgs,
    folder: &Utf8Path,
    from: &[AppAddress],
    to: &AppAddress,
) -> Result<Rows, CommandError> {
    let mut rows = Rows::default();
    if args.no_database {
        return Ok(rows);
    }
    if !context.preview {
        // Of commands that ended before they had changed anything.
        database::remove_unrecorded(&context.machine);
    }
    let mut failed = None;
    for (address, file) in all(context, args, folder, &HostName::parse(&args.name)?)? {
        let named = file.map_or(String::new(), |file| format!(" (named in {file})"));
        if args.database.is_empty() && !address.is_local() {
            rows.not_read.push(format!(
                "{address}{named}: on another computer. To change its rows as well, name it: --database URL"
            ));
            continue;
        }
        let progress = &mut |table: &str, read: u64| _ = progress::now(&format!("reading {table}: {read} rows"));
        match database::search(&context.machine, &address, &mut RowSearch { from, to, progress }) {
            Ok(found) => rows.add(&address, found),
            Err(DatabaseError::NotBuilt) => {
                let about = format!(" and can't read {address}{named}");
                failed = failed.or(Some((DatabaseError::NotBuilt, about)));
            }
            Err(error) => failed = failed.or(Some((error, named))),
        }
    }
    match failed {
        Some((error, named)) if rows.data.is_empty() => {
            let from: String = args.from.iter().map(|from| format!(" --from {from}")).collect();
            let instead = format!("or only the files: yandro readdress {}{from} --no-database", args.name);
            Err(databases::not_opened(&error, &named, &instead))
        }
        Some((error, named)) => {
            rows.not_read.push(format!("{error}{named}"));
            Ok(rows)
        }
        None => Ok(rows),
    }
}

/// The databases to look into, each with the file that names it: the given ones, or those of the configuration.
fn all(
    context: &Context,
    args: &ReaddressArgs,
    folder: &Utf8Path,
    name: &HostName,
) -> Result<Vec<(DatabaseAddress, Option<camino::Utf8PathBuf>)>, CommandError> {
    if args.database.is_empty() {
        let configured = database::configured(folder);
        let made = made_for(context, name)?;
        let is_new = |made: &DatabaseAddress| !configured.iter().any(|found| found.address.is_same(made));
        let made: Vec<_> = made.into_iter().filter(is_new).map(|made| (made, None)).collect();
        return Ok(configured.into_iter().map(|found| (found.address, Some(found.file))).chain(made).collect());
    }
    let given = args.database.iter().map(|text| Ok((databases::address(context, text)?, None)));
    given.collect()
}

impl Rows {
    fn add(&mut self, address: &DatabaseAddress, found: FoundRows) {
        let tables = found.tables.into_iter();
        let tables = tables.map(|table| TableData { table: table.table, rows: table.rows, places: table.places });
        let left = found.left.into_iter();
        let left = left.map(|left| LeftRow { table: left.table, column: left.column, row: left.row });
        let (tables, left) = (tables.collect(), left.collect());
        self.data.push(DatabaseData { database: address.to_string(), tables, left });
        self.samples.extend(found.samples);
        self.changes.extend(found.change);
    }

    pub(super) fn places(&self) -> u64 {
        self.changes.iter().map(|change| change.places).sum()
    }

    /// Takes away what the search kept of the rows.
    pub(super) fn forget(&self) {
        self.changes.iter().for_each(database::forget);
    }
}
