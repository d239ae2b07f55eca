//! Sessions with databases.

use camino::Utf8PathBuf;
use yandro_core::{DatabaseAddress, DatabaseKind, DatabaseTable, Statement, database_catalogue, database_tables};

use crate::files::FileError;

/// Why a database can't be read or changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DatabaseError {
    /// This program was built without drivers for databases.
    #[error("this build of yandro has no drivers for databases")]
    NotBuilt,
    /// It lets nobody in, in its own words.
    #[error("{address} can't be opened: {words}")]
    Closed {
        /// The database.
        address: Box<DatabaseAddress>,
        /// What the database or the system says.
        words: String,
    },
    /// A file isn't there, or is none of SQLite's.
    #[error("{0}: not a database of SQLite")]
    NotSqlite(Utf8PathBuf),
    /// No server of this kind was found.
    #[error("no server of {} listens at its usual socket", .0.name())]
    NoServer(DatabaseKind),
    /// A database or account of that name is there already.
    #[error("`{name}` is taken: the server has {what} of that name")]
    Exists {
        /// `a database` or `an account`.
        what: String,
        /// Its name.
        name: String,
    },
    /// A name that would need quotes.
    #[error("`{0}` can't be the name of a database: it takes up to 32 of a-z, 0-9 and _, a letter first")]
    Name(String),
    /// A dump that the database can't take.
    #[error("{path}: {why}")]
    Dump {
        /// The dump.
        path: Utf8PathBuf,
        /// What is wrong with it, or the words of the database's client.
        why: String,
    },
    /// The database's own client, which reads and writes dumps, is not there.
    #[error("{0} is not installed: dumps are read and written by the database's own programs")]
    NoClient(String),
    /// Only the server's administrator may do that, and root's rights were not given.
    #[error("you may not do this on the server of {}, and nothing was changed", .0.name())]
    NotPermitted(DatabaseKind),
    /// The helper that runs as root refuses, in its words.
    #[error("{0}")]
    Helper(String),
    /// It refused a statement, in its own words.
    #[error("the database says: {0}")]
    Refused(String),
    /// A row is not as it was read. Nothing was changed.
    #[error("a row of the table {0} was changed meanwhile; nothing was changed in the database")]
    ChangedMeanwhile(String),
    /// Rows of a table could not be told apart any more. Nothing was changed.
    #[error("the table {0} has no primary key, and rows of it would become equal; nothing was changed in the database")]
    Equal(String),
    /// The file that holds the rows.
    #[error("{0}")]
    File(#[from] FileError),
}

/// What is done with each row of an answer: its values as texts, nothing where a value is missing or no text.
pub type EachRow<'e> = &'e mut dyn FnMut(Vec<Option<String>>) -> Result<(), DatabaseError>;

/// A session with a database. All values are texts.
pub trait Session {
    /// Reads rows; they come one by one, so that any number of them fits into the memory.
    ///
    /// # Errors
    /// [`DatabaseError::Refused`], and what `each` gives.
    fn query(&mut self, statement: &Statement<'_>, each: EachRow<'_>) -> Result<(), DatabaseError>;

    /// Does something; gives the number of rows that it found to change.
    ///
    /// # Errors
    /// [`DatabaseError::Refused`].
    fn execute(&mut self, statement: &Statement<'_>) -> Result<u64, DatabaseError>;
}

/// Begins a session. `user` is the one whose rights are taken where the address names none.
///
/// # Errors
/// When the database isn't there or lets this user not in.
pub fn open(address: &DatabaseAddress, user: &str) -> Result<Box<dyn Session>, DatabaseError> {
    #[cfg(feature = "databases")]
    return match address.kind {
        DatabaseKind::MySql => super::mysql::open(address, user),
        DatabaseKind::PostgreSql => super::postgres::open(address, user),
        DatabaseKind::Sqlite => super::sqlite::open(address),
    };
    #[cfg(not(feature = "databases"))]
    {
        _ = (address, user);
        Err(DatabaseError::NotBuilt)
    }
}

impl dyn Session + '_ {
    /// Does something that takes no values.
    ///
    /// # Errors
    /// [`DatabaseError::Refused`].
    pub fn run(&mut self, text: &str) -> Result<u64, DatabaseError> {
        self.execute(&Statement { text: text.to_owned(), values: Vec::new() })
    }

    /// The tables of the database.
    ///
    /// # Errors
    /// [`DatabaseError::Refused`].
    pub fn tables(&mut self, kind: DatabaseKind) -> Result<Vec<DatabaseTable>, DatabaseError> {
        let mut rows = Vec::new();
        let list = Statement { text: database_catalogue(kind).to_owned(), values: Vec::new() };
        self.query(&list, &mut |row| {
            rows.push(row);
            Ok(())
        })?;
        Ok(database_tables(rows))
    }
}

/// The error of a database that can't be opened.
pub(super) fn closed(address: &DatabaseAddress, words: impl Into<String>) -> DatabaseError {
    DatabaseError::Closed { address: Box::new(address.clone()), words: words.into() }
}

/// How long a server may take to answer.
#[cfg(feature = "databases")]
pub(super) const PATIENCE: std::time::Duration = std::time::Duration::from_secs(5);
