//! A new database put down: its address in a file of yandro's, and in the application's configuration on consent.

use std::io::IsTerminal as _;

use camino::Utf8Path;
use yandro_core::{
    Access, ChangeSet, DatabaseAddress, FileChange, HostName, Role, connection_lines, unified_diff, with_database,
};
use yandro_machine::{database, files};

use super::{Made, Wanted, consent, kept};
use crate::commands::apply::{Planned, apply};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Data, Outcome, STRONG, Ui, data};

data! {
    /// Data of `yandro database NAME create`.
    struct DatabaseMade {
        site: String,
        /// The database, without its password.
        database: String,
        /// Whether it was made now, or before.
        made: bool,
        /// The file that keeps its address with the password.
        kept: String,
        /// The configuration that names it now.
        written: Option<String>,
        /// The dump that was read into it.
        imported: Option<String>,
    }
}

impl Data for DatabaseMade {}

/// With `--preview`: what would be made.
pub(super) fn previewed<'c>(name: &HostName, wanted: &Wanted) -> Outcome<'c> {
    let database = wanted.title();
    let imported = wanted.dump.as_ref().map(ToString::to_string);
    let data =
        DatabaseMade { site: name.to_string(), database, made: false, kept: String::new(), written: None, imported };
    Outcome::new(data, |data, ui| {
        let dump = data.imported.as_ref().map_or(String::new(), |dump| format!(", with {dump} read into it"));
        ui.say(&format!(
            "{} would be made for {}{dump}, with an account that may use only it",
            data.database, data.site
        ));
        ui.say("Nothing was changed: this was a preview.");
    })
}

/// The configuration of an application that is to name a new database.
pub(in crate::commands) struct Configured(Option<FileChange>);

impl Configured {
    /// The configuration that names a database already, or an example of it; after a question unless the user agreed.
    pub(in crate::commands) fn of(folder: &Utf8Path, made: &Made, agrees: bool) -> Self {
        Self(configuration(folder, &made.address).filter(|change| agrees || agree(change, &made.address)))
    }

    /// Adds its change. Undo gives the configuration back; the database and its password stay.
    pub(in crate::commands) fn add_to(&self, set: &mut ChangeSet) {
        if let Some(change) = &self.0 {
            let content = (change.before.clone(), change.after.clone());
            set.file(Role::Application, change.path.clone(), content, change.access);
        }
    }
}

/// Writes a database that was made into the application's configuration, keeps its address, and tells of it.
pub(super) fn record<'c>(
    context: &'c Context,
    name: &HostName,
    made: Made,
    configured: Configured,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    if configured.0.is_some() {
        let plan = || {
            let mut set = ChangeSet::default();
            configured.add_to(&mut set);
            Ok(Planned { set, starts: false, about: () })
        };
        if let Err(error) = apply(context, ui, plan, |()| Ok(())) {
            made.take_back(context);
            return Err(error);
        }
    }
    kept_and_told(context, name, made, configured)
}

/// Keeps the address of a database that was made and configured, and tells of it.
pub(in crate::commands) fn kept_and_told<'c>(
    context: &Context,
    name: &HostName,
    made: Made,
    configured: Configured,
) -> Result<Outcome<'c>, CommandError> {
    let (address, path) = (made.address.clone(), kept(context, name));
    context.machine.write_private(&path, format!("{}\n", address.url()).as_bytes())?;
    made.is_kept()?;
    let data = DatabaseMade {
        site: name.to_string(),
        database: address.to_string(),
        made: !made.is_old,
        kept: path.to_string(),
        written: configured.0.map(|change| change.path.to_string()),
        imported: made.dump.map(|dump| dump.to_string()),
    };
    Ok(Outcome::new(data, move |data, ui| tell(data, &address, ui)))
}

fn tell(data: &DatabaseMade, address: &DatabaseAddress, ui: &mut Ui) {
    let dump = data.imported.as_ref().map_or(String::new(), |dump| format!(", and {dump} is read into it"));
    let done = if data.made { "is made" } else { "was there" };
    ui.say(&format!("{STRONG}{address} {done}{STRONG:#}{dump}"));
    ui.say(&format!("  address and password are in {}", data.kept));
    if let Some(file) = &data.written {
        ui.say(&format!("  {file} names it now"));
        return;
    }
    let env = connection_lines(address).into_iter().find(|(form, _)| *form == "env");
    let lines = env.map_or(String::new(), |(_, lines)| lines.replace('\n', "\n  "));
    let other = format!("other forms: yandro database {} show --format php", data.site);
    ui.say(&format!("\nFor your application's configuration ({other}):\n  {lines}"));
}

/// The configuration that names a database, with this one in its place; a new one from its example, where only that is
/// there.
fn configuration(folder: &Utf8Path, address: &DatabaseAddress) -> Option<FileChange> {
    let change = |path: &Utf8Path, from: &Utf8Path| {
        let text = String::from_utf8(files::read_if_there(from).ok().flatten()?).ok()?;
        let written = with_database(path, &text, address)?;
        let before = (path == from).then(|| text.into_bytes().into());
        let after = Some(written.into_bytes().into());
        Some(FileChange { path: path.to_owned(), before, after, access: Access::Project })
    };
    let in_use = database::configurations_in_use(folder);
    let found = in_use.iter().find_map(|path| change(path, path));
    found.or_else(|| {
        let (example, path) = database::example(folder)?;
        change(&path, &example)
    })
}

fn agree(change: &FileChange, address: &DatabaseAddress) -> bool {
    // Nobody can be asked: what to write is printed.
    if !std::io::stdin().is_terminal() {
        return false;
    }
    let fact = format!("the configuration of the application would name {address}:\n\n{}", unified_diff(change));
    consent::ask(&fact, &format!("Write {}?", change.path), "").is_ok()
}
