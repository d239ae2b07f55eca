//! Making a database: all of it, or nothing.

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use yandro_core::{DatabaseAddress, DatabaseKind, DatabasePlace, HostName, NewDatabase, database_name};
use yandro_machine::changes;
use yandro_machine::database::{self, DatabaseError};
use yandro_machine::files;

use super::{as_new, failed, file_of, kept, made_for, telling};
use crate::args::NewDatabaseArgs;
use crate::context::Context;
use crate::databases;
use crate::error::CommandError;
use crate::sudo::Sudo;
use crate::view::on_wait;

/// A database that is to be made.
pub(in crate::commands) struct Wanted {
    site: HostName,
    pub(super) kind: DatabaseKind,
    new: NewDatabase,
    /// The file, of SQLite.
    file: Option<Utf8PathBuf>,
    administrator: Option<DatabaseAddress>,
    pub(super) dump: Option<Utf8PathBuf>,
}

/// A database that was made and is not yet put down.
pub(in crate::commands) struct Made {
    pub(super) address: DatabaseAddress,
    pub(super) dump: Option<Utf8PathBuf>,
    administrator: Option<DatabaseAddress>,
    is_quiet: bool,
    /// The file that holds its address while it is being made.
    marker: Utf8PathBuf,
    /// Whether it was there before.
    pub(super) is_old: bool,
}

impl Wanted {
    /// What the arguments ask for, for the application in a folder of which `root` is served; nothing is made yet.
    pub(in crate::commands) fn of(
        context: &Context,
        site: &HostName,
        (folder, root): (&Utf8Path, Option<&Utf8Path>),
        which: Option<&str>,
        args: &NewDatabaseArgs,
    ) -> Result<Self, CommandError> {
        if let Some(made) = made_for(context, site)? {
            return Err(CommandError::usage(format!("`{site}` has a database already: {made}"))
                .hint(format!(
                    "see it: yandro database {site}; read a dump into it: yandro database {site} import FILE"
                ))
                .hint(format!("or drop it first: yandro database {site} drop")));
        }
        let administrator = administrator(args.admin.as_deref())?;
        let dump = args.import.as_ref().map(|file| context.given(file));
        let of_dump =
            dump.as_deref().map(database::kind_of_dump).transpose().map_err(|error| failed(&error))?.flatten();
        let which = which.unwrap_or_default();
        let (word, name) = which.split_once(':').map_or((which, None), |(kind, name)| (kind, Some(name)));
        let given = if word.is_empty() { None } else { Some(kind_named(word)?) };
        let kind = given.or(administrator.as_ref().map(|given| given.kind)).or(of_dump);
        let kind = kind.or_else(|| kind_of_project(folder)).or_else(kind_of_server).ok_or_else(no_kind)?;
        if let Some(of_dump) = of_dump.filter(|of_dump| *of_dump != kind) {
            let words = format!("the dump is one of {}, not of {}", of_dump.name(), kind.name());
            return Err(CommandError::usage(words).hint(format!("name its kind: {}", of_dump.word())));
        }
        if kind != DatabaseKind::Sqlite {
            may_look_for_server(context, administrator.as_ref())?;
        }
        let file = if kind == DatabaseKind::Sqlite { Some(new_file(site, folder, root, name)?) } else { None };
        let name = name.map_or_else(|| database_name(site), ToOwned::to_owned);
        let new = NewDatabase { name, password: database::new_password() };
        if file.is_none() && !new.is_plain() {
            return Err(failed(&DatabaseError::Name(new.name)));
        }
        Ok(Self { site: site.clone(), kind, new, file, administrator, dump })
    }

    /// Its name for people.
    pub(super) fn title(&self) -> String {
        self.file.as_ref().map_or_else(|| format!("{} of {}", self.new.name, self.kind.name()), ToString::to_string)
    }

    /// Makes the database and reads the dump into it.
    pub(in crate::commands) fn make(&self, context: &Context, is_quiet: bool) -> Result<Made, CommandError> {
        let marker = marker_of(context, &self.site);
        self.remove_unfinished(context, &marker, is_quiet)?;
        let address = match &self.file {
            Some(path) => {
                database::create_file(&context.machine, path).map_err(|error| failed(&error))?;
                DatabaseAddress::file(path.clone())
            }
            None => self.make_on_server(context, &marker, is_quiet)?,
        };
        let (administrator, dump) = (self.administrator.clone(), self.dump.clone());
        let made = Made { address, dump, administrator, is_quiet, marker, is_old: false };
        if let Some(dump) = &self.dump
            && let Err(error) = database::import(&made.address, dump, &mut telling("reading the dump"))
        {
            made.take_back(context);
            return Err(failed(&error));
        }
        Ok(made)
    }

    /// Of a command that was ended while it made the database: its password is known by the marker.
    fn remove_unfinished(&self, context: &Context, marker: &Utf8Path, is_quiet: bool) -> Result<(), CommandError> {
        let Some(text) = files::read_if_there(marker)? else { return Ok(()) };
        let address = DatabaseAddress::parse(String::from_utf8_lossy(&text).trim()).ok();
        if let Some(address) = address {
            // It may not have come to be.
            _ = remove(context, self.administrator.as_ref(), &address, is_quiet);
        }
        Ok(files::remove_own(marker)?)
    }

    fn make_on_server(
        &self,
        context: &Context,
        marker: &Utf8Path,
        is_quiet: bool,
    ) -> Result<DatabaseAddress, CommandError> {
        let place = self.administrator.as_ref().map_or_else(
            || DatabasePlace::Server("localhost".to_owned(), self.kind.port()),
            |given| given.place.clone(),
        );
        let (name, password) = (self.new.name.clone(), Some(self.new.password.clone()));
        let planned = DatabaseAddress { kind: self.kind, place, user: Some(name.clone()), name, password };
        context.machine.write_private(marker, planned.url().as_bytes())?;
        let made = self.ask_server(context, &planned, is_quiet);
        made.map_err(|error| {
            _ = files::remove_own(marker);
            failed(&error)
        })
    }

    /// With this user's own rights, or through the helper of root.
    fn ask_server(
        &self,
        context: &Context,
        planned: &DatabaseAddress,
        is_quiet: bool,
    ) -> Result<DatabaseAddress, DatabaseError> {
        let user = context.machine.user();
        let own = database::create(self.kind, self.administrator.as_ref(), user, &self.new);
        match own {
            Err(DatabaseError::Closed { .. } | DatabaseError::Refused(_))
                if may_escalate(context, self.administrator.as_ref()) =>
            {
                let place = through_root(context, self.kind, &self.new, false, is_quiet)?;
                Ok(DatabaseAddress { place: place.unwrap_or(planned.place.clone()), ..planned.clone() })
            }
            own => own,
        }
    }
}

impl Made {
    /// The database that yandro made for a site before.
    pub(in crate::commands) fn before(context: &Context, site: &HostName) -> Result<Option<Self>, CommandError> {
        let (made, marker) = (made_for(context, site)?, marker_of(context, site));
        let old = |address| Self { address, dump: None, administrator: None, is_quiet: true, marker, is_old: true };
        Ok(made.map(old))
    }

    /// Takes the database away again: what came after it failed.
    pub(in crate::commands) fn take_back(&self, context: &Context) {
        if self.is_old {
            return;
        }
        // If it can't be removed, the next command tries again by the marker.
        if remove(context, self.administrator.as_ref(), &self.address, self.is_quiet).is_ok() {
            _ = files::remove_own(&self.marker);
        }
    }

    /// Its address is kept for good: nothing of it is unfinished.
    pub(super) fn is_kept(&self) -> Result<(), CommandError> {
        Ok(files::remove_own(&self.marker)?)
    }
}

/// The file that holds the address of a site's database while it is being made.
fn marker_of(context: &Context, site: &HostName) -> Utf8PathBuf {
    kept(context, site).with_extension("making")
}

/// Whether root may be asked, through sudo, to speak with the server at its usual socket.
fn may_escalate(context: &Context, administrator: Option<&DatabaseAddress>) -> bool {
    administrator.is_none() && context.machine.is_real() && !context.machine.is_root()
}

fn through_root(
    context: &Context,
    kind: DatabaseKind,
    database: &NewDatabase,
    removes: bool,
    is_quiet: bool,
) -> Result<Option<DatabasePlace>, DatabaseError> {
    let sudo = Sudo::new(&context.machine, is_quiet);
    changes::administer_database(&sudo, &on_wait(is_quiet), kind, database, removes)
}

/// Takes a database of yandro's away.
pub(super) fn remove(
    context: &Context,
    administrator: Option<&DatabaseAddress>,
    address: &DatabaseAddress,
    is_quiet: bool,
) -> Result<(), DatabaseError> {
    if let Some(path) = file_of(address) {
        return Ok(files::remove_own(path)?);
    }
    let old = as_new(address);
    match database::remove(address.kind, administrator, context.machine.user(), &old) {
        Err(DatabaseError::Closed { .. } | DatabaseError::Refused(_)) if may_escalate(context, administrator) => {
            through_root(context, address.kind, &old, true, is_quiet).map(drop)
        }
        done => done,
    }
}

/// The administrator's address that was given; none for the server's usual socket.
pub(super) fn administrator(given: Option<&str>) -> Result<Option<DatabaseAddress>, CommandError> {
    let parsed = given.map(DatabaseAddress::parse_server).transpose();
    parsed.map_err(|error| CommandError::usage(error).hint(databases::FORMS))
}

/// Refuses to look for a server outside of a sysroot.
pub(super) fn may_look_for_server(
    context: &Context,
    administrator: Option<&DatabaseAddress>,
) -> Result<(), CommandError> {
    if administrator.is_some() || context.machine.is_real() {
        return Ok(());
    }
    let words = "within a sysroot, yandro opens only a database server that you name";
    Err(CommandError::usage(words).hint("name it and its administrator: --admin mysql://root@localhost/"))
}

fn kind_named(word: &str) -> Result<DatabaseKind, CommandError> {
    let kind = DatabaseKind::ALL.into_iter().find(|kind| kind.word() == word);
    kind.or_else(|| DatabaseKind::parse(word)).ok_or_else(|| {
        CommandError::usage(format!("`{word}` is not a kind of database that yandro knows"))
            .hint("the kinds are mysql (also for MariaDB), postgresql and sqlite; a name follows a colon: mysql:NAME")
    })
}

fn no_kind() -> CommandError {
    CommandError::usage("which kind of database? The project's configuration names none, and no server was found")
        .hint("name it: mysql (also for MariaDB), postgresql or sqlite")
}

/// A path without `..`, for a file that isn't there yet.
fn without_dots(path: &Utf8Path) -> Utf8PathBuf {
    let mut plain = Utf8PathBuf::new();
    for part in path.components() {
        match part {
            Utf8Component::ParentDir => _ = plain.pop(),
            Utf8Component::CurDir => {}
            part => plain.push(part),
        }
    }
    plain
}

/// The kind that the project's configuration speaks of, also in an example of it.
fn kind_of_project(folder: &Utf8Path) -> Option<DatabaseKind> {
    database::configured(folder).first().map(|found| found.address.kind).or_else(|| database::kind_of_example(folder))
}

fn kind_of_server() -> Option<DatabaseKind> {
    let listens = |kind: &DatabaseKind| kind.sockets().iter().any(|socket| kind.socket_file(socket).exists());
    DatabaseKind::ALL.into_iter().find(listens)
}

/// The file of a new database: outside of what the web server serves.
fn new_file(
    site: &HostName,
    folder: &Utf8Path,
    root: Option<&Utf8Path>,
    name: Option<&str>,
) -> Result<Utf8PathBuf, CommandError> {
    let named = database::configured(folder).into_iter().find_map(|found| file_of(&found.address).cloned());
    let path = match name {
        Some(name) => without_dots(&folder.join(name)),
        None => named.unwrap_or_else(|| folder.join("var").join(format!("{}.sqlite", database_name(site)))),
    };
    if root.is_some_and(|root| path.starts_with(root)) {
        let words = format!("{path} is in the folder that the web server serves: everybody could load it");
        return Err(CommandError::usage(words)
            .hint("name a file outside of it, such as sqlite:../saltmarsh.sqlite; or serve a subfolder: --document-root public"));
    }
    if path.exists() {
        return Err(CommandError::usage(format!("{path} is there already")).hint("name another file: sqlite:FILE"));
    }
    Ok(path)
}
