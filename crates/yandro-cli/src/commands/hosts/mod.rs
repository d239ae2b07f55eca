//! `yandro hosts`.

pub(crate) mod edit;
pub(crate) mod exchange;
pub(crate) mod lint;
pub(crate) mod list;

use std::borrow::Cow;

use yandro_core::{Access, ChangeSet, EditError, FileContent, HostName, Role, Site, SiteList};
use yandro_machine::files;

use super::apply::Planned;
use super::history;
use crate::args::{HostsArgs, HostsCommand};
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{Outcome, Ui};

pub(crate) fn run<'c>(context: &'c Context, args: &'c HostsArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match &args.command {
        HostsCommand::List => list::run(context),
        HostsCommand::Lint { fix } => lint::run(context, *fix, ui),
        HostsCommand::Point { name, address } => edit::point(context, name, *address, ui),
        HostsCommand::Drop { names } => edit::drop(context, names, ui),
        HostsCommand::Export(args) => exchange::export(context, args, ui),
        HostsCommand::Import { file, replace, hide_real } => exchange::import(context, file, *replace, *hide_real, ui),
        HostsCommand::Restore => history::restore(context, &context.machine.places.hosts, ui),
    }
}

/// The bytes of the hosts file.
fn read(context: &Context) -> Result<Vec<u8>, CommandError> {
    let path = &context.machine.places.hosts;
    files::read_if_there(path)?.ok_or_else(|| yandro_core::PlanError::HostsMissing(path.clone()).into())
}

/// A change of the hosts file only.
fn planned<T>(
    context: &Context,
    about: T,
    edit: impl FnOnce(&[u8]) -> Result<Option<Vec<u8>>, CommandError>,
) -> Result<Planned<T>, CommandError> {
    let mut set = ChangeSet::default();
    let before = FileContent::from(read(context)?);
    if let Some(after) = edit(&before)? {
        let hosts = context.machine.places.hosts.clone();
        set.file(Role::HostsFile, hosts, (Some(before), Some(after)), Access::Public);
    }
    Ok(Planned { set, starts: false, about })
}

/// The new text of an edit, if it is one.
fn changed(edited: Cow<'_, [u8]>) -> Option<Vec<u8>> {
    match edited {
        Cow::Borrowed(_) => None,
        Cow::Owned(text) => Some(text),
    }
}

/// An edit that was refused, with the file and line.
fn refused(context: &Context, error: &EditError) -> CommandError {
    let message = error.at(&context.machine.places.hosts);
    CommandError { status: Status::NotMade, ..CommandError::usage(message) }
}

/// Names of sites follow the site list, and not single lines.
fn refuse_site(list: &SiteList, name: &HostName, hint: impl FnOnce(&Site) -> String) -> Result<(), CommandError> {
    match list.owner(name) {
        Some(site) => {
            Err(CommandError::usage(format!("`{name}` belongs to the site `{}`", site.name)).hint(hint(site)))
        }
        None => Ok(()),
    }
}
