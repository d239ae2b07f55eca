//! Sessions with databases.

use camino::Utf8PathBuf;
use yandro_core::{DatabaseAddress, Statement};

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
    /// A file isn't there, or is none of `SQLite`'s.
    #[error("{0}: not a database of SQLite")]
    NotSqlite(Utf8PathBuf),
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
        yandro_core::DatabaseKind::MySql => super::mysql::open(address, user),
        yandro_core::DatabaseKind::PostgreSql => super::postgres::open(address, user),
        yandro_core::DatabaseKind::Sqlite => super::sqlite::open(address),
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
}

/// An error of a program that can't open its database.
#[cfg(feature = "databases")]
pub(super) fn closed(address: &DatabaseAddress, words: impl Into<String>) -> DatabaseError {
    DatabaseError::Closed { address: Box::new(address.clone()), words: words.into() }
}

/// How long a server may take to answer.
#[cfg(feature = "databases")]
pub(super) const PATIENCE: std::time::Duration = std::time::Duration::from_secs(5);
