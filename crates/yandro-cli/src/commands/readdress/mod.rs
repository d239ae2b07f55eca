//! `yandro readdress`.

mod old;
mod rows;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, AppAddress, Change, ChangeSet, Content, HostName, Role, Site, Step, readdress, unified_diff,
};
use yandro_machine::{database, files, project};

use super::apply::{Applied, Planned, apply};
use super::consent;
use super::rename::own_site;
use crate::args::ReaddressArgs;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::change::preview;
use crate::view::rows::text_change;
use crate::view::{Cell, Data, Outcome, STRONG, Table, Ui, WARN, data};
use old::Known;
use rows::Rows;

/// How much of a changed line is shown before the question, in characters.
const LINE: usize = 160;
/// How many changed lines are shown before the question; `--preview` shows all.
const SHOWN: usize = 40;

data! {
    /// Data of `yandro readdress`.
    struct Readdressed {
        site: String,
        /// The old addresses that were looked for.
        from: Vec<String>,
        /// The new address.
        to: String,
        /// The files with old addresses.
        files: Vec<FileData>,
        /// The databases that were looked into.
        databases: Vec<DatabaseData>,
        /// Files and databases that were not looked at, each with the reason.
        not_read: Vec<String>,
    }

    /// A database of the application.
    struct DatabaseData {
        /// Its address, without the password.
        database: String,
        /// The tables with old addresses.
        tables: Vec<TableData>,
        /// The texts that were left, since the serialised string around an old address has a wrong length.
        left: Vec<LeftRow>,
    }

    /// A table with old addresses.
    struct TableData {
        table: String,
        /// How many rows were changed.
        rows: u64,
        /// How many addresses were changed.
        places: u64,
    }

    /// A text that was left.
    struct LeftRow {
        table: String,
        column: String,
        /// What says which row it is.
        row: String,
    }

    /// A file with old addresses.
    struct FileData {
        path: String,
        /// How many addresses were changed.
        places: usize,
        /// The lines of old addresses that were left, since the serialised string around them has a wrong length.
        left: Vec<usize>,
    }
}

impl Data for Readdressed {}

/// A file with old addresses, and its new content.
struct Changed {
    path: Utf8PathBuf,
    before: Vec<u8>,
    after: Vec<u8>,
    data: FileData,
}

pub(crate) fn run<'c>(context: &'c Context, args: &ReaddressArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    let (_, list) = context.list()?;
    let site = own_site(&list, &name)?;
    let folder = folder(context, args, site)?;
    let to = AppAddress::parse(&context.url(site)).map_err(CommandError::usage)?;
    let from = old_addresses(context, args, site, &to)?;
    let mut data = Readdressed {
        site: site.name.to_string(),
        from: from.iter().map(ToString::to_string).collect(),
        to: to.to_string(),
        files: Vec::new(),
        databases: Vec::new(),
        not_read: Vec::new(),
    };
    let mut is_agreed = args.yes || context.preview;
    let plan = || {
        let (changed, not_read) = look(context, &folder, &from, &to);
        let mut rows = rows::look(context, args, &folder, &from, &to)?;
        let set = change_set(&changed, &rows);
        if !is_agreed && !set.is_empty() {
            agree(&changed, &rows, &set, &folder, &to).inspect_err(|_| rows.forget())?;
            is_agreed = true;
        }
        data.files = changed.into_iter().map(|changed| changed.data).collect();
        data.not_read = [not_read, std::mem::take(&mut rows.not_read)].concat();
        data.databases = std::mem::take(&mut rows.data);
        Ok(Planned { set, starts: false, about: rows })
    };
    let done = match apply(context, ui, plan, |_| Ok(()))? {
        Applied::Done(done) => *done,
        Applied::Preview(set) => {
            let shown = preview(*set.clone());
            // The preview has read them.
            set.steps.iter().for_each(forget_rows);
            return Ok(shown);
        }
    };
    let has_left = data.files.iter().any(|file| !file.left.is_empty())
        || data.databases.iter().any(|database| !database.left.is_empty());
    let is_changed = !done.set.is_empty();
    let outcome = Outcome::new(data, move |data, ui| show(data, &folder, is_changed, ui));
    Ok(outcome.with(if has_left { Status::Findings } else { Status::Well }))
}

fn forget_rows(step: &Step) {
    if let Change::Rows(change) = &step.change {
        database::forget(change);
    }
}

/// The folder of the application.
fn folder(context: &Context, args: &ReaddressArgs, site: &Site) -> Result<Utf8PathBuf, CommandError> {
    let folder = match (&args.folder, &site.content) {
        (Some(given), _) => context.given(given),
        (None, Content::Folder { folder, .. }) => context.machine.path(folder.as_str()),
        (None, Content::Upstream(_)) => {
            let name = &site.name;
            return Err(CommandError::usage(format!("`{name}` is a running server, whose folder yandro doesn't know"))
                .hint(format!("name the folder of the application: yandro readdress {name} --folder DIR")));
        }
    };
    if folder.is_dir() {
        return Ok(folder);
    }
    Err(CommandError::usage(format!("no such folder: `{folder}`"))
        .hint("name the folder of the application: --folder DIR"))
}

/// The addresses to look for: the given ones, or those that yandro knows.
fn old_addresses(
    context: &Context,
    args: &ReaddressArgs,
    site: &Site,
    to: &AppAddress,
) -> Result<Vec<AppAddress>, CommandError> {
    let given = args.from.iter().map(|text| {
        AppAddress::parse(text).map_err(|error| {
            CommandError::usage(error)
                .hint("write it as http://HOST:PORT/PATH or HOST, as in `--from http://old.test:8080`")
        })
    });
    let given = given.collect::<Result<Vec<_>, _>>()?;
    if !given.is_empty() {
        return Ok(given);
    }
    let known = Known::of(context, site)?;
    if !known.sure.is_empty() {
        return Ok(known.sure.into_iter().filter(|old| old != to).collect());
    }
    let name = &site.name;
    let error = CommandError::usage(format!("yandro knows no old address of `{name}`"));
    Err(match known.possible.first() {
        Some(origin) => error.hint(format!(
            "its page leads to {origin}. If that was its address: yandro readdress {name} --from {origin}"
        )),
        None => error.hint(format!("name the address that it had: yandro readdress {name} --from http://OLD")),
    })
}

/// The files with old addresses, and those that could not be read.
fn look(context: &Context, folder: &Utf8Path, from: &[AppAddress], to: &AppAddress) -> (Vec<Changed>, Vec<String>) {
    let (mut changed, mut not_read) = (Vec::new(), Vec::new());
    let own = [&context.machine.places.config, &context.machine.places.data];
    for path in project::files(folder) {
        if own.iter().any(|own| path.starts_with(own)) {
            continue;
        }
        if path.metadata().is_ok_and(|meta| meta.len() > project::LONGEST) {
            not_read.push(format!("{path}: longer than 64 MB"));
            continue;
        }
        let before = match files::read_if_there(&path) {
            Ok(Some(before)) if project::is_text(&before) => before,
            Ok(_) => continue,
            Err(error) => {
                not_read.push(error.to_string());
                continue;
            }
        };
        let Some(done) = readdress(&before, from, to) else { continue };
        let line = |offset: &usize| before[..*offset].iter().filter(|byte| **byte == b'\n').count() + 1;
        let left = done.left.iter().map(line).collect();
        let data = FileData { path: path.to_string(), places: done.places.len(), left };
        changed.push(Changed { path, before, after: done.text, data });
    }
    (changed, not_read)
}

/// The files first: what can fail for the database's reasons comes last.
fn change_set(changed: &[Changed], rows: &Rows) -> ChangeSet {
    let mut set = ChangeSet::default();
    for file in changed.iter().filter(|file| file.data.places > 0) {
        let content = (Some(file.before.clone()), Some(file.after.clone()));
        set.file(Role::Application, file.path.clone(), content, Access::Project);
    }
    for change in &rows.changes {
        set.step(Role::Application, Change::Rows(change.clone()));
    }
    set
}

/// Shows the places and the changed lines, and asks.
fn agree(
    changed: &[Changed],
    rows: &Rows,
    set: &ChangeSet,
    folder: &Utf8Path,
    to: &AppAddress,
) -> Result<(), CommandError> {
    let data: Vec<&FileData> = changed.iter().map(|changed| &changed.data).collect();
    let mut lines: Vec<String> = Vec::new();
    for step in &set.steps {
        let Change::File(change) = &step.change else { continue };
        let diff = unified_diff(change);
        let changed = diff.lines().filter(|line| line.starts_with(['+', '-']));
        lines.extend(changed.map(|line| line.chars().take(LINE).collect()));
    }
    let places: usize = data.iter().map(|file| file.places).sum();
    let mut fact = format!("{} would become {to}:\n\n", addresses(places as u64 + rows.places()));
    let tables = [table(&data, folder), rows_table(&rows.data)];
    let tables = tables.iter().filter(|table| !table.is_empty()).map(|table| table.render(None));
    fact += &tables.collect::<Vec<_>>().join("\n\n");
    fact += "\n\n";
    let is_cut = lines.len() > SHOWN;
    fact += &lines.iter().take(SHOWN).cloned().collect::<Vec<_>>().join("\n");
    if is_cut {
        fact += &format!("\n… and {} more lines: --preview shows all", lines.len() - SHOWN);
    }
    for (place, before, after) in &rows.samples {
        fact += &format!("\n{place}\n{}", text_change(before, after));
    }
    let shown = rows.samples.len() as u64;
    let texts: u64 = rows.changes.iter().map(|change| change.rows).sum();
    if texts > shown {
        fact += &format!("\n… and {} more rows: --preview shows more", texts - shown);
    }
    let what = match (data.is_empty(), rows.changes.is_empty()) {
        (false, false) => "files and rows",
        (true, false) => "rows",
        (_, true) => "files",
    };
    consent::ask(&fact, &format!("Change these {what}?"), "to change them, add `--yes`; to see every line: --preview")
}

fn addresses(number: u64) -> String {
    if number == 1 { "1 old address".to_owned() } else { format!("{number} old addresses") }
}

/// The files, with how many places each has, and how many were left if there are such.
fn table(files: &[&FileData], folder: &Utf8Path) -> Table {
    let has_left = files.iter().any(|file| !file.left.is_empty());
    let mut table = Table::new(if has_left { &["FILE", "PLACES", "LEFT"] } else { &["FILE", "PLACES"] });
    for file in files {
        let path = Utf8Path::new(&file.path);
        let path = path.strip_prefix(folder).unwrap_or(path);
        let mut row = vec![Cell::plain(path), Cell::plain(file.places.to_string())];
        if !file.left.is_empty() {
            row.push(Cell::new(file.left.len().to_string(), WARN));
        }
        table.row(row);
    }
    table
}

/// The tables of databases, with how many rows and places each has.
fn rows_table(databases: &[DatabaseData]) -> Table {
    let mut table = Table::new(&["DATABASE", "TABLE", "ROWS", "PLACES"]);
    for database in databases {
        for found in &database.tables {
            let cells = [&database.database, &found.table, &found.rows.to_string(), &found.places.to_string()];
            table.row(cells.into_iter().map(Cell::plain).collect());
        }
    }
    table
}

fn show(data: &Readdressed, folder: &Utf8Path, is_changed: bool, ui: &mut Ui) {
    let in_files: usize = data.files.iter().map(|file| file.places).sum();
    let tables = data.databases.iter().flat_map(|database| &database.tables);
    let in_rows: u64 = tables.map(|table| table.places).sum();
    let from = data.from.join(" or ");
    if is_changed {
        ui.say(&format!("{STRONG}{} became {}{STRONG:#}", addresses(in_files as u64 + in_rows), data.to));
        for table in [table(&data.files.iter().collect::<Vec<_>>(), folder), rows_table(&data.databases)] {
            if !table.is_empty() {
                ui.table(&table);
            }
        }
        ui.say(&format!("\nTo see whether its pages stay there now: yandro check {}", data.site));
    } else if data.files.is_empty() && in_rows == 0 {
        let databases: String =
            data.databases.iter().map(|database| format!(" and no row of {}", database.database)).collect();
        ui.say(&format!("no file of {folder}{databases} names {from}; nothing was changed"));
    } else {
        ui.say("nothing was changed");
    }
    let left = |place: &str, ui: &mut Ui| {
        ui.warn(&format!(
            "{place}: left as it is, since the length of the serialised string around it is wrong already"
        ));
    };
    for file in &data.files {
        file.left.iter().for_each(|line| left(&format!("{}:{line}", file.path), ui));
    }
    for row in data.databases.iter().flat_map(|database| &database.left) {
        left(&format!("{}.{}, row {}", row.table, row.column, row.row), ui);
    }
    for problem in &data.not_read {
        ui.note(&format!("not read: {problem}"));
    }
}
