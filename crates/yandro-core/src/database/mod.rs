//! Databases of applications: their addresses, and where an application's configuration names them.

mod address;
mod catalogue;
mod configuration;
mod pairs;
mod statements;
#[cfg(test)]
mod tests;

pub use address::{DatabaseAddress, DatabaseAddressError, DatabaseKind, DatabasePlace};
pub use catalogue::{DatabaseTable, catalogue as database_catalogue, tables as database_tables};
pub use configuration::named_databases;
pub use statements::{Statement, TextChange};
