//! Files of SQLite.

use std::io::Read as _;

use camino::Utf8Path;
use rusqlite::limits::Limit;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags, params_from_iter};
use yandro_core::{DatabaseAddress, DatabasePlace, Statement};

use super::session::{DatabaseError, EachRow, PATIENCE, Session, closed};
use crate::caller::{self, AsCaller};
use crate::os;

/// What every such file begins with.
const MAGIC: &[u8] = b"SQLite format 3\0";

struct Sqlite {
    session: Connection,
    /// The files that it makes beside its own belong to the person.
    _rights: AsCaller,
}

/// Opens a file that is there.
pub(super) fn open(address: &DatabaseAddress) -> Result<Box<dyn Session>, DatabaseError> {
    let DatabasePlace::File(path) = &address.place else { return Err(closed(address, "no file")) };
    let rights = caller::rights_for(path);
    let mut head = [0; MAGIC.len()];
    let read = os::open_reading(path).and_then(|mut file| file.read_exact(&mut head));
    match read {
        // A database without a table has no content yet.
        Err(_) if path.metadata().is_ok_and(|meta| meta.len() == 0) => {}
        Err(error) if error.kind() != std::io::ErrorKind::UnexpectedEof => {
            return Err(closed(address, error.to_string()));
        }
        Ok(()) if head == MAGIC => {}
        _ => return Err(DatabaseError::NotSqlite(path.clone())),
    }
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let opened = Connection::open_with_flags(path, flags).and_then(|session| {
        session.busy_timeout(PATIENCE)?;
        Ok(session)
    });
    match opened {
        Ok(session) => Ok(Box::new(Sqlite { session, _rights: rights })),
        Err(error) => Err(closed(address, error.to_string())),
    }
}

impl From<rusqlite::Error> for DatabaseError {
    fn from(error: rusqlite::Error) -> Self {
        Self::Refused(match &error {
            rusqlite::Error::SqliteFailure(_, Some(words)) => words.clone(),
            other => other.to_string(),
        })
    }
}

fn text(value: ValueRef<'_>) -> Option<String> {
    match value {
        ValueRef::Text(bytes) => String::from_utf8(bytes.to_vec()).ok(),
        ValueRef::Integer(number) => Some(number.to_string()),
        _ => None,
    }
}

impl Session for Sqlite {
    fn query(&mut self, statement: &Statement<'_>, each: EachRow<'_>) -> Result<(), DatabaseError> {
        let mut prepared = self.session.prepare_cached(&statement.text)?;
        let columns = prepared.column_count();
        let mut rows = prepared.query(params_from_iter(statement.values.iter().map(Option::as_deref)))?;
        while let Some(row) = rows.next()? {
            each((0..columns).map(|column| row.get_ref(column).ok().and_then(text)).collect())?;
        }
        Ok(())
    }

    fn execute(&mut self, statement: &Statement<'_>) -> Result<u64, DatabaseError> {
        if statement.values.is_empty() {
            return self.session.execute_batch(&statement.text).map(|()| 0).map_err(DatabaseError::from);
        }
        let mut prepared = self.session.prepare_cached(&statement.text)?;
        let values = params_from_iter(statement.values.iter().map(Option::as_deref));
        prepared.execute(values).map(|count| count as u64).map_err(DatabaseError::from)
    }
}

/// Reads a dump into a file, in one transaction unless it has its own. It can open no other file.
///
/// # Errors
/// What is refused.
pub(super) fn import(path: &Utf8Path, dump: &str) -> Result<(), DatabaseError> {
    let _rights = caller::rights_for(path);
    let session =
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
    session.set_limit(Limit::SQLITE_LIMIT_ATTACHED, 0)?;
    let done = session.execute_batch(dump);
    if done.is_err() && !session.is_autocommit() {
        _ = session.execute_batch("ROLLBACK");
    }
    Ok(done?)
}
