//! MySQL and MariaDB, over their protocol.

use mysql::consts::CapabilityFlags;
use mysql::prelude::Queryable as _;
use mysql::{Conn, OptsBuilder, Params, Value};
use yandro_core::{DatabaseAddress, DatabasePlace, Statement};

use super::session::{DatabaseError, EachRow, PATIENCE, Session, closed};

struct MySql(Conn);

/// Begins a session in which a text that is too long for its column is an error.
pub(super) fn open(address: &DatabaseAddress, user: &str) -> Result<Box<dyn Session>, DatabaseError> {
    let options = OptsBuilder::new()
        .user(Some(address.user.as_deref().unwrap_or(user)))
        .pass(address.password.clone())
        .db_name(Some(address.name.clone()).filter(|name| !name.is_empty()))
        .prefer_socket(false)
        .tcp_connect_timeout(Some(PATIENCE))
        // Rows are counted that are found, and not only those that change.
        .additional_capabilities(CapabilityFlags::CLIENT_FOUND_ROWS)
        .init(vec!["SET SESSION sql_mode = 'STRICT_ALL_TABLES'"]);
    let options = match &address.place {
        DatabasePlace::Server(host, port) => {
            // The clients of this database take `localhost` as its socket, servers listen on the address.
            options.ip_or_hostname(Some(host.trim_matches(['[', ']']))).tcp_port(*port)
        }
        DatabasePlace::Socket(path) | DatabasePlace::File(path) => options.socket(Some(path.as_str())),
    };
    match Conn::new(options) {
        Ok(session) => Ok(Box::new(MySql(session))),
        Err(error) => Err(closed(address, words(&error))),
    }
}

fn words(error: &mysql::Error) -> String {
    match error {
        mysql::Error::MySqlError(error) => error.message.clone(),
        mysql::Error::IoError(error) => error.to_string(),
        other => other.to_string(),
    }
}

impl From<mysql::Error> for DatabaseError {
    fn from(error: mysql::Error) -> Self {
        Self::Refused(words(&error))
    }
}

fn values(statement: &Statement<'_>) -> Params {
    if statement.values.is_empty() {
        return Params::Empty;
    }
    let value =
        |value: &Option<_>| value.as_ref().map_or(Value::NULL, |text: &std::borrow::Cow<'_, str>| Value::from(&**text));
    Params::Positional(statement.values.iter().map(value).collect())
}

fn text(value: Option<Value>) -> Option<String> {
    match value? {
        Value::Bytes(bytes) => String::from_utf8(bytes).ok(),
        Value::Int(number) => Some(number.to_string()),
        Value::UInt(number) => Some(number.to_string()),
        _ => None,
    }
}

impl Session for MySql {
    fn query(&mut self, statement: &Statement<'_>, each: EachRow<'_>) -> Result<(), DatabaseError> {
        for row in self.0.exec_iter(&*statement.text, values(statement))? {
            let row = row?;
            each(row.unwrap_raw().into_iter().map(text).collect())?;
        }
        Ok(())
    }

    fn execute(&mut self, statement: &Statement<'_>) -> Result<u64, DatabaseError> {
        if statement.values.is_empty() {
            // Not every statement can be prepared.
            self.0.query_drop(&*statement.text)?;
        } else {
            self.0.exec_drop(&*statement.text, values(statement))?;
        }
        Ok(self.0.affected_rows())
    }
}
