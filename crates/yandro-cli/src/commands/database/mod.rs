//! `yandro database`: the database of a site.

mod create;
mod record;
mod show;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Content, DatabaseAddress, DatabaseKind, DatabasePlace, HostName, NewDatabase, Site};
use yandro_machine::database::{self, ConfiguredDatabase};

pub(super) use create::{Made, Wanted};

use super::consent;
use super::rename::own_site;
use crate::args::{DatabaseArgs, DatabaseCommand, DropArgs, ImportArgs};
use crate::context::Context;
use crate::databases;
use crate::error::CommandError;
use crate::view::{Data, Outcome, STRONG, Ui, count, data, progress};

pub(super) use record::{Configured, kept_and_told};

data! {
    /// Data of `yandro database NAME import`, `export` and `drop`.
    struct DatabaseDone {
        site: String,
        /// The database, without its password.
        database: String,
        /// The dump that was read or written.
        file: Option<String>,
        /// Whether the database is gone.
        dropped: bool,
    }
}

impl Data for DatabaseDone {}

pub(crate) fn run<'c>(context: &'c Context, args: &'c DatabaseArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    match &args.command {
        None => show::run(context, &name, None),
        Some(DatabaseCommand::Show(args)) => show::run(context, &name, args.format),
        Some(DatabaseCommand::Create(args)) => {
            let folder = folder(context, &name)?;
            let (_, list) = context.list()?;
            let root = list.site(&name).and_then(Site::document_root);
            let root = root.map(|root| context.machine.path(root.as_str()));
            let wanted = Wanted::of(context, &name, (&folder, root.as_deref()), args.which.as_deref(), &args.new)?;
            if context.preview {
                return Ok(record::previewed(&name, &wanted));
            }
            let made = wanted.make(context, ui.is_quiet())?;
            let configured = Configured::of(&folder, &made, args.yes);
            record::record(context, &name, made, configured, ui)
        }
        Some(DatabaseCommand::Import(args)) => import(context, &name, args, ui),
        Some(DatabaseCommand::Export { file }) => export(context, &name, file, ui),
        Some(DatabaseCommand::Drop(args)) => drop_it(context, &name, args, ui),
    }
}

/// The folder of a site's application.
pub(super) fn folder(context: &Context, name: &HostName) -> Result<Utf8PathBuf, CommandError> {
    let (_, list) = context.list()?;
    match &own_site(&list, name)?.content {
        Content::Folder { folder, .. } => Ok(context.machine.path(folder.as_str())),
        Content::Upstream(_) => {
            let words = format!("`{name}` is a running server, whose folder yandro doesn't know");
            Err(CommandError::usage(words).hint("map its folder instead: yandro map NAME FOLDER"))
        }
    }
}

/// The file that keeps the address of a database that yandro made, with its password.
fn kept(context: &Context, name: &HostName) -> Utf8PathBuf {
    context.machine.places.data.join("databases").join(format!("{name}.url"))
}

/// The files that keep the addresses of databases that yandro made.
pub(super) fn all_made(context: &Context) -> Vec<Utf8PathBuf> {
    let entries = context.machine.places.data.join("databases").read_dir_utf8().into_iter().flatten().flatten();
    let mut files: Vec<Utf8PathBuf> = entries.map(|entry| entry.path().to_owned()).collect();
    files.retain(|path| path.extension() == Some("url"));
    files.sort();
    files
}

/// Has the database of a renamed site go with it.
pub(super) fn renamed(context: &Context, old: &HostName, new: &HostName) -> Result<(), CommandError> {
    let (from, to) = (kept(context, old), kept(context, new));
    match yandro_machine::files::read_if_there(&from)? {
        Some(address) if !to.exists() => {
            context.machine.write_private(&to, &address)?;
            Ok(yandro_machine::files::remove_own(&from)?)
        }
        _ => Ok(()),
    }
}

/// The database that yandro made for a site.
pub(super) fn made_for(context: &Context, name: &HostName) -> Result<Option<DatabaseAddress>, CommandError> {
    let text = yandro_machine::files::read_if_there(&kept(context, name))?;
    let text = text.map(|text| String::from_utf8_lossy(&text).trim().to_owned());
    Ok(text.and_then(|text| DatabaseAddress::parse(&text).ok()))
}

/// The databases that the configuration of a site's application names.
fn configured(context: &Context, name: &HostName) -> Vec<ConfiguredDatabase> {
    folder(context, name).map(|folder| database::configured(&folder)).unwrap_or_default()
}

/// The one database of a site: the one that yandro made, or that its configuration names.
fn the_one(context: &Context, name: &HostName) -> Result<DatabaseAddress, CommandError> {
    if let Some(made) = made_for(context, name)? {
        return Ok(made);
    }
    let folder = folder(context, name)?;
    let mut found = database::configured(&folder);
    found.retain(|found| found.address.is_local());
    match found.as_slice() {
        [only] => Ok(only.address.clone()),
        [] => Err(none(name)),
        _ => Err(CommandError::usage(format!("the configuration of `{name}` names more than one database"))
            .hint(format!("see which: yandro database {name}"))),
    }
}

fn none(name: &HostName) -> CommandError {
    CommandError::usage(format!("`{name}` has no database that yandro knows"))
        .hint(format!("make one: yandro database {name} create"))
}

/// The error of something that is done with a database.
fn failed(error: &database::DatabaseError) -> CommandError {
    databases::not_opened(error, "", "")
}

fn telling(what: &'static str) -> impl FnMut(u64, u64) {
    move |read, of| {
        let part = read.saturating_mul(100).checked_div(of).unwrap_or(0);
        _ = progress::now(&format!("{what}: {part} %"));
    }
}

fn import<'c>(context: &Context, name: &HostName, args: &ImportArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let address = the_one(context, name)?;
    let file = context.given(&args.file);
    let tables = show::tables(context, &address).map_err(|error| failed(&error))?;
    if tables > 0 && !args.yes && !context.preview {
        consent::ask(
            &format!(
                "{address} has {} already; the dump may replace some of them, and undo can't bring them back",
                count(tables, "table")
            ),
            "Read the dump into it?",
            &format!("to do so, add `--yes`; to keep a copy first: yandro database {name} export FILE"),
        )?;
    }
    if context.preview {
        return Ok(told(name, &address, Some(&file), false, format!("{file} would be read into {address}")));
    }
    let _work = ui.work("reading the dump");
    database::import(&address, &file, &mut telling("reading the dump")).map_err(|error| failed(&error))?;
    Ok(told(name, &address, Some(&file), false, format!("{STRONG}{file} is read{STRONG:#} into {address}")))
}

fn export<'c>(context: &Context, name: &HostName, file: &Utf8Path, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let (address, file) = (the_one(context, name)?, context.given(file));
    if context.preview {
        return Ok(told(name, &address, Some(&file), false, format!("{address} would be written into {file}")));
    }
    let _work = ui.work("writing the dump");
    database::export(&address, &file).map_err(|error| failed(&error))?;
    Ok(told(name, &address, Some(&file), false, format!("{address} {STRONG}is written{STRONG:#} into {file}")))
}

fn told<'c>(
    name: &HostName,
    address: &DatabaseAddress,
    file: Option<&Utf8PathBuf>,
    dropped: bool,
    words: String,
) -> Outcome<'c> {
    let (site, database) = (name.to_string(), address.to_string());
    let data = DatabaseDone { site, database, file: file.map(ToString::to_string), dropped };
    Outcome::new(data, move |_, ui: &mut Ui| ui.say(&words))
}

fn drop_it<'c>(context: &Context, name: &HostName, args: &DropArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let made = made_for(context, name)?;
    if made.is_none() {
        // Of a site that was unmapped it may be there still; of one that never was it is not.
        folder(context, name)?;
    }
    let address = made.ok_or_else(|| {
        CommandError::usage(format!("yandro made no database for `{name}`, and takes no other away"))
            .hint(format!("see what there is: yandro database {name}"))
    })?;
    if context.preview {
        return Ok(told(name, &address, None, false, format!("{address} would be gone, with all its rows")));
    }
    if !args.yes {
        consent::ask(
            &format!("{address} would be gone with all its rows, and undo can't bring them back"),
            "Drop it?",
            &format!("to drop it, add `--yes`; to keep a copy first: yandro database {name} export FILE"),
        )?;
    }
    let administrator = create::administrator(args.admin.as_deref())?;
    if file_of(&address).is_none() {
        create::may_look_for_server(context, administrator.as_ref())?;
    }
    create::remove(context, administrator.as_ref(), &address, ui.is_quiet()).map_err(|error| failed(&error))?;
    let account = if file_of(&address).is_some() { "" } else { ", with its account" };
    let kept = kept(context, name);
    yandro_machine::files::remove_own(&kept)?;
    Ok(told(name, &address, None, true, format!("{STRONG}{address} is gone{STRONG:#}{account}")))
}

/// A database that yandro made, as its server's administrator knows it.
fn as_new(address: &DatabaseAddress) -> NewDatabase {
    NewDatabase { name: address.name.clone(), password: address.password.clone().unwrap_or_default() }
}

/// Whether a database is a file.
fn file_of(address: &DatabaseAddress) -> Option<&Utf8PathBuf> {
    match (&address.kind, &address.place) {
        (DatabaseKind::Sqlite, DatabasePlace::File(path)) => Some(path),
        _ => None,
    }
}

#[cfg(test)]
pub(crate) mod schemas {
    pub(crate) use super::DatabaseDone;
    pub(crate) use super::record::DatabaseMade;
    pub(crate) use super::show::Databases;
}
