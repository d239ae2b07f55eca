//! Databases of applications: their addresses, and where an application's configuration names them.

mod accounts;
mod address;
mod catalogue;
mod code;
mod configuration;
mod dump;
mod pairs;
mod statements;
#[cfg(test)]
mod tests;
mod writing;

pub use accounts::{NewDatabase, database_name};
pub use address::{DatabaseAddress, DatabaseAddressError, DatabaseKind, DatabasePlace};
pub use catalogue::{DatabaseTable, catalogue as database_catalogue, tables as database_tables};
pub use configuration::named_databases;
pub use dump::DumpLines;
pub use statements::{Statement, TextChange};
pub use writing::{connection_lines, with_database};
