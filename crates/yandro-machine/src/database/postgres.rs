//! PostgreSQL, over its protocol.

use std::collections::HashMap;

use postgres::fallible_iterator::FallibleIterator as _;
use postgres::types::ToSql;
use postgres::{Client, Config, NoTls};
use yandro_core::{DatabaseAddress, DatabasePlace, Statement};

use super::session::{DatabaseError, EachRow, PATIENCE, Session, closed};

struct PostgreSql {
    client: Client,
    prepared: HashMap<String, postgres::Statement>,
}

pub(super) fn open(address: &DatabaseAddress, user: &str) -> Result<Box<dyn Session>, DatabaseError> {
    let mut config = Config::new();
    config.user(address.user.as_deref().unwrap_or(user)).connect_timeout(PATIENCE).application_name("yandro");
    config.dbname(if address.name.is_empty() { "postgres" } else { &address.name });
    if let Some(password) = &address.password {
        config.password(password);
    }
    match &address.place {
        DatabasePlace::Server(host, port) => config.host(host.trim_matches(['[', ']'])).port(*port),
        DatabasePlace::Socket(path) | DatabasePlace::File(path) => {
            let (folder, port) = folder_and_port(path);
            config.host(folder.as_str()).port(port)
        }
    };
    match config.connect(NoTls) {
        Ok(client) => Ok(Box::new(PostgreSql { client, prepared: HashMap::new() })),
        Err(error) => Err(closed(address, words(&error))),
    }
}

/// The folder of a socket, and the port that is part of its name.
fn folder_and_port(path: &camino::Utf8Path) -> (&camino::Utf8Path, u16) {
    let port = path.file_name().and_then(|name| name.strip_prefix(".s.PGSQL.")).and_then(|port| port.parse().ok());
    match (port, path.parent()) {
        (Some(port), Some(folder)) => (folder, port),
        _ => (path, 5432),
    }
}

fn words(error: &postgres::Error) -> String {
    if let Some(told) = error.as_db_error() {
        let detail = told.detail().map_or(String::new(), |detail| format!(" ({detail})"));
        return format!("{}{detail}", told.message());
    }
    let source = std::error::Error::source(error);
    source.map_or_else(|| error.to_string(), ToString::to_string)
}

impl From<postgres::Error> for DatabaseError {
    fn from(error: postgres::Error) -> Self {
        Self::Refused(words(&error))
    }
}

impl PostgreSql {
    fn prepared(&mut self, text: &str) -> Result<postgres::Statement, DatabaseError> {
        if let Some(known) = self.prepared.get(text) {
            return Ok(known.clone());
        }
        let statement = self.client.prepare(text)?;
        self.prepared.insert(text.to_owned(), statement.clone());
        Ok(statement)
    }
}

impl Session for PostgreSql {
    fn query(&mut self, statement: &Statement<'_>, each: EachRow<'_>) -> Result<(), DatabaseError> {
        let prepared = self.prepared(&statement.text)?;
        let values = statement.values.iter().map(Option::as_deref);
        let mut rows = self.client.query_raw(&prepared, values)?;
        while let Some(row) = rows.next()? {
            each((0..row.len()).map(|column| row.try_get(column).ok().flatten()).collect())?;
        }
        Ok(())
    }

    fn execute(&mut self, statement: &Statement<'_>) -> Result<u64, DatabaseError> {
        if statement.values.is_empty() {
            return self.client.batch_execute(&statement.text).map(|()| 0).map_err(DatabaseError::from);
        }
        let prepared = self.prepared(&statement.text)?;
        let values: Vec<Option<&str>> = statement.values.iter().map(Option::as_deref).collect();
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as &(dyn ToSql + Sync)).collect();
        self.client.execute(&prepared, &values).map_err(DatabaseError::from)
    }
}
