//! Rows with old addresses: found, kept in a file, changed, and changed back.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufRead as _, BufReader, BufWriter, Write as _};

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};
use yandro_core::{
    AppAddress, DatabaseAddress, DatabaseKind, DatabaseTable, RowsChange, Statement, TextChange, readdress,
};

use super::session::{DatabaseError, Session, open};
use crate::caller;
use crate::files::FileError;
use crate::fresh::nonce;
use crate::machine::Machine;
use crate::os;

/// How many changed texts are shown.
const SAMPLES: usize = 20;
/// After how many rows the progress is told.
const TOLD_EVERY: u64 = 1000;

/// What is looked for in a database.
pub struct RowSearch<'s> {
    /// The old addresses.
    pub from: &'s [AppAddress],
    /// The new one.
    pub to: &'s AppAddress,
    /// Is told the table and how many of its rows with an old host were read.
    pub progress: &'s mut dyn FnMut(&str, u64),
}

/// The rows of a table that change.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TableRows {
    /// The table.
    pub table: String,
    /// How many rows change.
    pub rows: u64,
    /// How many addresses change.
    pub places: u64,
}

/// A text with an old address that is left, since the length of the serialised string around it is wrong already.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftText {
    /// The table.
    pub table: String,
    /// The column.
    pub column: String,
    /// What says which row it is.
    pub row: String,
}

/// The rows with old addresses of a database.
#[derive(Debug)]
pub struct FoundRows {
    /// What changes them; `None` if no row does.
    pub change: Option<RowsChange>,
    /// The tables with such rows.
    pub tables: Vec<TableRows>,
    /// The first texts: table and column, before, after.
    pub samples: Vec<(String, String, String)>,
    /// What is left.
    pub left: Vec<LeftText>,
}

/// A row that changes, in its file. The first line of the file is the list of tables.
#[derive(Serialize, Deserialize)]
struct KeptRow {
    /// The table's place in the list.
    t: usize,
    /// Its key.
    k: Vec<Option<String>>,
    /// Its texts: the column's place, before, after.
    c: Vec<(usize, String, String)>,
}

/// Looks for old addresses in all texts of a database, and keeps the rows that change in a file of yandro's own. Changes
/// nothing.
///
/// # Errors
/// When the database can't be read, or the file not be written.
pub fn search(
    machine: &Machine,
    address: &DatabaseAddress,
    search: &mut RowSearch<'_>,
) -> Result<FoundRows, DatabaseError> {
    let mut session = open(address, machine.user())?;
    let tables = session.tables(address.kind)?;
    let folder = folder(machine);
    machine.make_own_folder(&folder)?;
    let path = folder.join(format!("{}.rows", nonce()));
    let mut keeping = Keeping::begin(machine, &path, &tables)?;
    let found = keeping.fill(&mut *session, address.kind, &tables, search);
    let (rows, places) = (keeping.total(|table| table.rows), keeping.total(|table| table.places));
    let Keeping { out, found: by_table, samples, left } = keeping;
    let ended = found.and_then(|()| end(out, &path).map_err(DatabaseError::from));
    if ended.is_err() || rows == 0 {
        remove(&path);
    }
    ended?;
    let address = address.clone();
    let change = RowsChange { database: address, rows_file: path, rows, places, before: false, after: true };
    let change = (rows > 0).then_some(change);
    Ok(FoundRows { change, tables: by_table.into_values().collect(), samples, left })
}

fn folder(machine: &Machine) -> Utf8PathBuf {
    machine.places.data.join("rows")
}

fn remove(path: &Utf8Path) {
    let _rights = caller::rights_for(path);
    _ = os::remove_file(path);
}

fn end(mut out: BufWriter<File>, path: &Utf8Path) -> Result<(), FileError> {
    out.flush().and_then(|()| out.get_ref().sync_all()).map_err(FileError::at(path))
}

/// The file of the rows while it is written.
struct Keeping {
    out: BufWriter<File>,
    found: BTreeMap<String, TableRows>,
    samples: Vec<(String, String, String)>,
    left: Vec<LeftText>,
}

impl Keeping {
    fn begin(machine: &Machine, path: &Utf8Path, tables: &[DatabaseTable]) -> Result<Self, FileError> {
        let _rights = caller::rights_for(path);
        let mut out = BufWriter::new(os::new_file(path).map_err(FileError::at(path))?);
        machine.give_to_keeper(path)?;
        write_line(&mut out, &tables).map_err(FileError::at(path))?;
        Ok(Self { out, found: BTreeMap::new(), samples: Vec::new(), left: Vec::new() })
    }

    fn total(&self, of: impl Fn(&TableRows) -> u64) -> u64 {
        self.found.values().map(of).sum()
    }

    fn fill(
        &mut self,
        session: &mut dyn Session,
        kind: DatabaseKind,
        tables: &[DatabaseTable],
        search: &mut RowSearch<'_>,
    ) -> Result<(), DatabaseError> {
        let words: Vec<String> = search.from.iter().flat_map(AppAddress::hosts).collect();
        for (place, table) in tables.iter().enumerate() {
            let Some(statement) = table.reading(kind, &words) else { continue };
            let key_length = table.key_length(kind);
            let mut read = 0;
            session.query(&statement, &mut |mut row| {
                read += 1;
                if read % TOLD_EVERY == 0 {
                    (search.progress)(&table.name, read);
                }
                let texts = row.split_off(key_length);
                self.row(place, table, row, texts, search)
            })?;
        }
        Ok(())
    }

    fn row(
        &mut self,
        place: usize,
        table: &DatabaseTable,
        key: Vec<Option<String>>,
        texts: Vec<Option<String>>,
        search: &RowSearch<'_>,
    ) -> Result<(), DatabaseError> {
        let mut changes = Vec::new();
        let mut places = 0;
        for (column, before) in texts.into_iter().enumerate() {
            let Some(before) = before else { continue };
            let Some(done) = readdress(before.as_bytes(), search.from, search.to) else { continue };
            let name = || table.texts().nth(column).unwrap_or_default();
            if !done.left.is_empty() {
                let row = key.iter().map(|value| value.as_deref().unwrap_or("NULL")).collect::<Vec<_>>().join(", ");
                self.left.push(LeftText { table: table.name.clone(), column: name().to_owned(), row });
            }
            let Ok(after) = String::from_utf8(done.text) else { continue };
            if done.places.is_empty() {
                continue;
            }
            places += done.places.len() as u64;
            if self.samples.len() < SAMPLES {
                self.samples.push((format!("{}.{}", table.name, name()), before.clone(), after.clone()));
            }
            changes.push((column, before, after));
        }
        if changes.is_empty() {
            return Ok(());
        }
        let found = self.found.entry(table.name.clone()).or_default();
        found.table.clone_from(&table.name);
        found.rows += 1;
        found.places += places;
        let row = KeptRow { t: place, k: key, c: changes };
        write_line(&mut self.out, &row).map_err(|error| FileError::at(Utf8Path::new("rows"))(error).into())
    }
}

fn write_line(out: &mut impl std::io::Write, value: &impl Serialize) -> std::io::Result<()> {
    serde_json::to_writer(&mut *out, value)?;
    out.write_all(b"\n")
}

/// Reads a file of rows, one row at a time.
fn each_row(
    path: &Utf8Path,
    mut each: impl FnMut(&DatabaseTable, KeptRow) -> Result<(), DatabaseError>,
) -> Result<(), DatabaseError> {
    let at = |error: std::io::Error| DatabaseError::File(FileError::at(path)(error));
    let file = {
        let _rights = caller::rights_for(path);
        os::open_reading(path).map_err(at)?
    };
    let mut lines = BufReader::new(file).lines();
    let first = lines.next().transpose().map_err(at)?.unwrap_or_default();
    let tables: Vec<DatabaseTable> = serde_json::from_str(&first).map_err(|error| at(error.into()))?;
    for line in lines {
        let row: KeptRow = serde_json::from_str(&line.map_err(at)?).map_err(|error| at(error.into()))?;
        let table = tables.get(row.t).ok_or_else(|| at(std::io::ErrorKind::InvalidData.into()))?;
        each(table, row)?;
    }
    Ok(())
}

/// A row on the way that a change goes: its key as it is now, and its texts.
fn directed(
    kind: DatabaseKind,
    table: &DatabaseTable,
    row: KeptRow,
    is_back: bool,
) -> (Vec<Option<String>>, Vec<TextChange>) {
    let changes = row.c.into_iter().map(|(column, before, after)| TextChange { column, before, after });
    let changes: Vec<TextChange> = changes.collect();
    if !is_back {
        return (row.k, changes);
    }
    let key = table.key_after(kind, &row.k, &changes);
    (key, changes.into_iter().map(TextChange::inverse).collect())
}

/// Whether the file of a change's rows is there.
pub(crate) fn is_there(change: &RowsChange) -> bool {
    let _rights = caller::rights_for(&change.rows_file);
    change.rows_file.exists()
}

/// Changes the rows in one transaction. A row that isn't as it was read is left, or if `is_strict` nothing is changed.
/// `mark` is called before the first row changes.
pub(crate) fn carry_out(
    machine: &Machine,
    change: &RowsChange,
    is_strict: bool,
    mark: impl FnOnce() -> Result<(), FileError>,
) -> Result<(), DatabaseError> {
    let mut session = open(&change.database, machine.user())?;
    let is_back = change.before;
    let begin = if change.database.kind == DatabaseKind::Sqlite { "BEGIN IMMEDIATE" } else { "START TRANSACTION" };
    session.run(begin)?;
    mark()?;
    let kind = change.database.kind;
    let done = each_row(&change.rows_file, |table, row| {
        let (key, changes) = directed(kind, table, row, is_back);
        if !is_back && table.has_equal(kind) {
            let after: Vec<TextChange> = changes.iter().cloned().map(TextChange::inverse).collect();
            if has_row(&mut *session, &table.reading_one(kind, &table.key_after(kind, &key, &changes), &after))? {
                return Err(DatabaseError::Equal(table.name.clone()));
            }
        }
        let found = session.execute(&table.writing(kind, &key, &changes))?;
        if found == 0 && is_strict { Err(DatabaseError::ChangedMeanwhile(table.name.clone())) } else { Ok(()) }
    });
    match done {
        Ok(()) => session.run("COMMIT").map(drop),
        Err(error) => {
            _ = session.run("ROLLBACK");
            Err(error)
        }
    }
}

fn has_row(session: &mut dyn Session, statement: &Statement<'_>) -> Result<bool, DatabaseError> {
    let mut is_found = false;
    session.query(statement, &mut |_| {
        is_found = true;
        Ok(())
    })?;
    Ok(is_found)
}

/// Is told a text: its table and column, before and after.
pub type EachText<'e> = &'e mut dyn FnMut(&str, &str, &str);

/// Goes through the texts of a change.
///
/// # Errors
/// When the file of the rows can't be read.
pub fn each_text(change: &RowsChange, each: EachText<'_>) -> Result<(), DatabaseError> {
    each_row(&change.rows_file, |table, row| {
        for (column, before, after) in &row.c {
            let name = table.texts().nth(*column).unwrap_or_default();
            let place = format!("{}.{name}", table.name);
            if change.before { each(&place, after, before) } else { each(&place, before, after) }
        }
        Ok(())
    })
}

/// Takes the file of rows away again that a search has made.
pub fn forget(change: &RowsChange) {
    remove(&change.rows_file);
}

/// How many rows of a change were changed again since: taken back, they stay as they are. Changes nothing.
///
/// # Errors
/// When the database can't be opened or read.
pub fn later_changed(machine: &Machine, change: &RowsChange) -> Result<u64, DatabaseError> {
    let mut session = open(&change.database, machine.user())?;
    let kind = change.database.kind;
    let mut later = 0;
    each_row(&change.rows_file, |table, row| {
        let (key, changes) = directed(kind, table, row, change.before);
        later += u64::from(!has_row(&mut *session, &table.reading_one(kind, &key, &changes))?);
        Ok(())
    })?;
    Ok(later)
}

/// Removes the files of rows that no record of the history speaks of.
pub fn remove_unrecorded(machine: &Machine) {
    let Ok(entries) = folder(machine).read_dir_utf8() else { return };
    let recorded = crate::changes::recorded_rows(machine);
    for entry in entries.flatten() {
        if !recorded.iter().any(|path| path == entry.path()) {
            remove(entry.path());
        }
    }
}
