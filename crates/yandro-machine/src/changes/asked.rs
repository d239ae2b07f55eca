//! What the helper under sudo is asked for outside change sets.

use camino::Utf8Path;
use yandro_core::{DatabaseKind, DatabasePlace, NewDatabase};

use super::control::{ControlError, OnWait};
use super::hands::{Escalate, Hands, Reach};
use super::privileged::{self, HelperAnswer, Request};
use crate::caller;
use crate::database::DatabaseError;
use crate::machine::Machine;
use crate::os;
use crate::php;

/// Has root make a database with an account that may use only it, or take one away whose password this is; gives the
/// place of the server of one that was made.
///
/// # Errors
/// When root's rights are not given, or the helper refuses.
pub fn administer_database(
    escalate: &dyn Escalate,
    on_wait: OnWait<'_>,
    kind: DatabaseKind,
    database: &NewDatabase,
    removes: bool,
) -> Result<Option<DatabasePlace>, DatabaseError> {
    let hands = Hands::new(escalate, on_wait);
    let NewDatabase { name, password } = database.clone();
    let server = Utf8Path::new(kind.name());
    if !hands.prepare(&[], Reach::Database) {
        return Err(DatabaseError::NotPermitted(kind));
    }
    match hands.ask(server, &Request::Database { kind, name, password, removes }) {
        Ok(HelperAnswer::Database(place)) => Ok(Some(place)),
        Ok(HelperAnswer::Refused { words }) => Err(DatabaseError::Helper(words)),
        Ok(_) => Ok(None),
        // The helper didn't come to be.
        Err(_) => Err(DatabaseError::NotPermitted(kind)),
    }
}

/// Starts the php-fpm of a version, with root's rights.
///
/// # Errors
/// When root's rights are not given, or it doesn't start, with the reason.
pub fn start_php(
    machine: &Machine,
    escalate: &dyn Escalate,
    on_wait: OnWait<'_>,
    version: &str,
) -> Result<(), ControlError> {
    if os::is_root() {
        return php::start(machine, version);
    }
    let hands = Hands::new(escalate, on_wait);
    if !hands.prepare(&[], Reach::Php) {
        return Err(ControlError::Said("only root may start it".to_owned()));
    }
    hands.told(&Request::StartPhp { version: version.to_owned() })
}

/// Has root's helper forget what it did for this user, if it ever did anything.
///
/// # Errors
/// When root was not to be had, or the record can't be changed.
pub fn forget_helped(escalate: &dyn Escalate, on_wait: OnWait<'_>) -> Result<(), ControlError> {
    let folder = os::helper_folder();
    if !folder.exists() {
        return Ok(());
    }
    if os::is_root() {
        let caller = caller::number().unwrap_or_else(os::this_user);
        return privileged::forget(caller).map_err(|error| ControlError::Said(error.to_string()));
    }
    let hands = Hands::new(escalate, on_wait);
    let paths = [folder.to_owned()];
    if !hands.prepare(&paths, Reach::Files) {
        return Err(ControlError::Said(format!("only root can take {folder} away")));
    }
    hands.told(&Request::Forget)
}
