//! PostgreSQL, over its protocol.

use std::collections::HashMap;
use std::io::Write as _;

use postgres::fallible_iterator::FallibleIterator as _;
use postgres::types::ToSql;
use postgres::{Client, Config, NoTls};
use yandro_core::{DatabaseAddress, DatabasePlace, DumpLines, Statement};

use super::session::{DatabaseError, EachRow, PATIENCE, Session, closed};

struct PostgreSql {
    client: Client,
    prepared: HashMap<String, postgres::Statement>,
}

pub(super) fn open(address: &DatabaseAddress, user: &str) -> Result<Box<dyn Session>, DatabaseError> {
    Ok(Box::new(PostgreSql { client: connected(address, user)?, prepared: HashMap::new() }))
}

fn connected(address: &DatabaseAddress, user: &str) -> Result<Client, DatabaseError> {
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
    config.connect(NoTls).map_err(|error| closed(address, words(&error)))
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

/// How much of a dump is sent at once, in bytes, if no statement goes on there.
const AT_ONCE: usize = 256 << 10;

/// Reads the lines of a dump into a database, in one transaction. psql's own commands, which could run programs, are
/// refused; and the database's owner, who reads it in, becomes the owner of everything.
///
/// # Errors
/// What the server refuses, and what `next` gives.
pub(super) fn import(
    address: &DatabaseAddress,
    next: &mut dyn FnMut() -> Result<Option<Vec<u8>>, DatabaseError>,
) -> Result<(), DatabaseError> {
    let mut client = connected(address, "")?;
    client.batch_execute("BEGIN")?;
    let mut lines = DumpLines::default();
    let mut text = Vec::new();
    while let Some(line) = next()? {
        if lines.is_between() {
            if line.starts_with(b"COPY ") && line.trim_ascii_end().ends_with(b"FROM stdin;") {
                send(&mut client, &mut text)?;
                copy(&mut client, &line, next)?;
                continue;
            }
            if line.starts_with(b"\\restrict") || line.starts_with(b"\\unrestrict") {
                continue;
            }
            if line.starts_with(b"ALTER ") && line.trim_ascii_end().ends_with(b";") && is_about_owner(&line) {
                continue;
            }
        }
        lines.take(&line);
        text.extend_from_slice(&line);
        if text.len() > AT_ONCE && lines.is_between() {
            send(&mut client, &mut text)?;
        }
    }
    send(&mut client, &mut text)?;
    Ok(client.batch_execute("COMMIT")?)
}

fn is_about_owner(line: &[u8]) -> bool {
    String::from_utf8_lossy(line).contains(" OWNER TO ")
}

/// Sends statements.
fn send(client: &mut Client, text: &mut Vec<u8>) -> Result<(), DatabaseError> {
    let statements = String::from_utf8(std::mem::take(text))
        .map_err(|_| DatabaseError::Refused("the dump is not in UTF-8: write it with --encoding=UTF8".to_owned()))?;
    Ok(client.batch_execute(&statements)?)
}

/// Sends the rows behind a COPY.
fn copy(
    client: &mut Client,
    statement: &[u8],
    next: &mut dyn FnMut() -> Result<Option<Vec<u8>>, DatabaseError>,
) -> Result<(), DatabaseError> {
    let mut rows = client.copy_in(String::from_utf8_lossy(statement).trim().trim_end_matches(';'))?;
    while let Some(line) = next()? {
        if line.starts_with(b"\\.") {
            break;
        }
        rows.write_all(&line).map_err(|error| DatabaseError::Refused(error.to_string()))?;
    }
    Ok(rows.finish().map(drop)?)
}
