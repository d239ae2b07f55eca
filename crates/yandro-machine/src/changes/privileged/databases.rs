//! Databases that the helper makes, and takes away again for the same user alone.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{DatabaseKind, NewDatabase};

use super::{HelperAnswer, failed, refused};
use crate::database;
use crate::os::{self, UserId};

/// Makes a database or takes one away, at the server's usual socket. What exists already is not touched. Only what the
/// helper made for the same user goes, and only if its password is known: another server that this user runs at the usual
/// port could confirm any password.
pub(super) fn administer(caller: UserId, kind: DatabaseKind, database: &NewDatabase, removes: bool) -> HelperAnswer {
    if !database.is_plain() {
        return refused(database::DatabaseError::Name(database.name.clone()).to_string());
    }
    let record = record(caller, kind, &database.name);
    if removes {
        if !os::is_own_file(&record, os::this_user()) {
            return refused(format!("root made no database `{}` for you, and takes none away", database.name));
        }
        return match database::remove(kind, None, kind.administrator(), database) {
            Ok(()) => forgotten(&record),
            Err(error) => refused(error.to_string()),
        };
    }
    match database::create(kind, None, kind.administrator(), database) {
        Err(error) => refused(error.to_string()),
        Ok(made) => {
            let folder = record.parent().map(Utf8Path::to_owned).unwrap_or_default();
            let written = os::make_guarded_folders(&folder).and_then(|()| os::emptied_file(&record));
            match written {
                Ok(_) => HelperAnswer::Database(made.place),
                Err(error) => {
                    _ = database::remove(kind, None, kind.administrator(), database);
                    failed(&error)
                }
            }
        }
    }
}

/// Takes a record away, and the folders that have nothing else in them.
fn forgotten(record: &Utf8Path) -> HelperAnswer {
    let removed = os::remove_file(record);
    _ = record.ancestors().skip(1).take(2).map(os::remove_folder).take_while(Result::is_ok).count();
    removed.map_or_else(|error| failed(&error), |()| HelperAnswer::Done)
}

/// The file that tells that a database was made for a user.
fn record(caller: UserId, kind: DatabaseKind, name: &str) -> Utf8PathBuf {
    let folder = os::helper_folder();
    // Beside what the helper keeps for undo, since it stays when that goes.
    let folder = folder.parent().unwrap_or(folder).join("databases");
    folder.join(format!("{caller}-{}-{name}", kind.word()))
}
