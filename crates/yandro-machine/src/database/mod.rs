//! Databases of applications: sessions with them, and the rows that change.

mod configured;
#[cfg(feature = "databases")]
mod mysql;
#[cfg(feature = "databases")]
mod postgres;
mod rows;
mod session;
#[cfg(feature = "databases")]
mod sqlite;

pub use configured::{ConfiguredDatabase, configured};
pub use rows::{
    EachText, FoundRows, LeftText, RowSearch, TableRows, each_text, forget, later_changed, remove_unrecorded, search,
};
pub(crate) use rows::{carry_out, is_there};
pub use session::{DatabaseError, EachRow, Session, open};
