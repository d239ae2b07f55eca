//! Databases of applications: sessions with them, and the rows that change.

mod administrator;
mod configured;
mod dump;
#[cfg(feature = "databases")]
mod mysql;
#[cfg(feature = "databases")]
mod postgres;
mod rows;
mod session;
#[cfg(feature = "databases")]
mod sqlite;

pub use administrator::{create, create_file, new_password, remove};
pub use configured::{ConfiguredDatabase, configurations_in_use, configured, example, kind_of_example};
pub use dump::{export, import, kind_of_dump};
pub use rows::{
    EachText, FoundRows, LeftText, RowSearch, TableRows, each_text, forget, later_changed, remove_unrecorded, search,
};
pub(crate) use rows::{carry_out, is_there};
pub use session::{DatabaseError, EachRow, Session, open};
