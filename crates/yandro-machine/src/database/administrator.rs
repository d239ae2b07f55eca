//! Databases made and taken away by the administrator of their server.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Access, DatabaseAddress, DatabaseKind, DatabasePlace, NewDatabase};

use super::session::{DatabaseError, Session, closed, open};
use crate::caller;
use crate::files::FileError;
use crate::fresh::random;
use crate::machine::Machine;
use crate::os;

/// How long a password is, in letters and digits.
const PASSWORD: usize = 24;

/// A random password of letters and digits.
pub fn new_password() -> String {
    const LETTERS: &[u8] = b"abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789";
    // Of 256 values the last are left out, so that each letter is as likely as the others.
    let fair = LETTERS.len() * (256 / LETTERS.len());
    let mut password = String::new();
    while password.len() < PASSWORD {
        let bytes: [u8; 64] = random();
        let letters = bytes.iter().filter(|byte| usize::from(**byte) < fair);
        let letters = letters.map(|byte| char::from(LETTERS[usize::from(*byte) % LETTERS.len()]));
        password.extend(letters.take(PASSWORD - password.len()));
    }
    password
}

/// Does something as the administrator of a server; is given the server's address without a database.
type AsAdministrator<'a, T> = &'a (dyn Fn(&mut dyn Session, &DatabaseAddress) -> Result<T, DatabaseError> + Sync);

/// Opens a session of the administrator: with what is given, else at the server's usual socket, with the rights that
/// this process has there.
///
/// # Errors
/// When there is no server, or it takes nobody here for its administrator.
fn with<T: Send>(
    kind: DatabaseKind,
    given: Option<&DatabaseAddress>,
    user: &str,
    work: AsAdministrator<'_, T>,
) -> Result<T, DatabaseError> {
    if !cfg!(feature = "databases") {
        return Err(DatabaseError::NotBuilt);
    }
    if let Some(given) = given {
        return work(&mut *open(given, user)?, given);
    }
    // Anybody can have a socket in a folder that all may write to, and answer root there.
    let is_safe = |socket: &&&str| !os::is_root() || !socket.starts_with("/tmp");
    let there = kind.sockets().iter().filter(is_safe).filter(|socket| kind.socket_file(socket).exists());
    let sockets: Vec<Utf8PathBuf> = there.map(Utf8PathBuf::from).collect();
    let mut first = None;
    for socket in &sockets {
        for name in [kind.administrator(), user] {
            let place = DatabasePlace::Socket(socket.clone());
            let address =
                DatabaseAddress { kind, place, name: String::new(), user: Some(name.to_owned()), password: None };
            // The server asks the system who is at the other end of its socket.
            let opened = || {
                let mut session = open(&address, user)?;
                if kind == DatabaseKind::PostgreSql {
                    // What others have put into the database in the place of the server's own functions is not called.
                    session.run("SET search_path = pg_catalog")?;
                }
                work(&mut *session, &address)
            };
            let done = os::as_account(name, || Ok(opened()));
            match done.unwrap_or_else(|error| Err(closed(&address, error.to_string()))) {
                Err(error @ DatabaseError::Closed { .. }) => first = first.or(Some(error)),
                done => return done,
            }
        }
    }
    Err(first.unwrap_or(DatabaseError::NoServer(kind)))
}

/// Where an account opens its database: by the network of this computer, which every program takes, or by the socket,
/// where some servers let in only the system's user of that name. The password proves that it is the same server.
fn opened_by(
    account: &NewDatabase,
    server: &DatabaseAddress,
) -> Result<(DatabaseAddress, Box<dyn Session>), DatabaseError> {
    let (name, user, password) = (account.name.clone(), Some(account.name.clone()), Some(account.password.clone()));
    let own = DatabaseAddress { name, user, password, ..server.clone() };
    let network = DatabasePlace::Server("127.0.0.1".to_owned(), server.kind.port());
    let is_socket = matches!(server.place, DatabasePlace::Socket(_));
    if is_socket {
        let address = DatabaseAddress { place: network, ..own.clone() };
        if let Ok(session) = open(&address, "") {
            return Ok((address, session));
        }
    }
    open(&own, "").map(|session| (own, session))
}

/// Makes a database with an account that may use only it; gives the server's place. All of it is made, or nothing.
///
/// # Errors
/// When one of that name exists already, and what [`DatabaseError`] names.
pub fn create(
    kind: DatabaseKind,
    given: Option<&DatabaseAddress>,
    user: &str,
    new: &NewDatabase,
) -> Result<DatabaseAddress, DatabaseError> {
    if !new.is_plain() {
        return Err(DatabaseError::Name(new.name.clone()));
    }
    with(kind, given, user, &|session, address| {
        let mut exists = None;
        session.query(&kind.existing(&new.name), &mut |mut row| {
            exists = exists.take().or(row.pop().flatten());
            Ok(())
        })?;
        if let Some(what) = exists {
            return Err(DatabaseError::Exists { what, name: new.name.clone() });
        }
        let mut back = Vec::new();
        for (statement, inverse) in kind.creating(new) {
            if let Err(error) = session.run(&statement) {
                back.iter().rev().for_each(|inverse: &String| _ = session.run(inverse));
                return Err(error);
            }
            back.extend(inverse);
        }
        opened_by(new, address).map(|(found, _)| found).inspect_err(|_| {
            back.iter().rev().for_each(|inverse: &String| _ = session.run(inverse));
        })
    })
}

/// Takes a database and its account away, once its password was proven.
///
/// # Errors
/// When the password is not the account's, and what [`DatabaseError`] names.
pub fn remove(
    kind: DatabaseKind,
    given: Option<&DatabaseAddress>,
    user: &str,
    old: &NewDatabase,
) -> Result<(), DatabaseError> {
    if !old.is_plain() {
        return Err(DatabaseError::Name(old.name.clone()));
    }
    with(kind, given, user, &|session, address| {
        // Whoever knows the password may do anything in that database anyway.
        drop(opened_by(old, address)?);
        kind.dropping(&old.name).iter().try_for_each(|statement| session.run(statement).map(drop))
    })
}

/// Makes the empty file of a database of SQLite, which has no content before its first table, with the folder that it
/// is in.
///
/// # Errors
/// When it is there already, or can't be written.
pub fn create_file(machine: &Machine, path: &Utf8Path) -> Result<(), DatabaseError> {
    let _rights = caller::rights_for(path);
    if let Some(folder) = path.parent() {
        os::make_folders(folder, Access::Project).map_err(FileError::at(folder))?;
    }
    let file = os::new_file(path).map_err(FileError::at(path))?;
    os::give_access(&file, Access::Project).map_err(FileError::at(path))?;
    Ok(machine.give_project(path)?)
}
