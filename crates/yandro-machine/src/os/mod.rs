//! What differs between operating systems: each of its modules offers the same items, and everything else of yandro is
//! the same code.

mod unix;

pub use unix::Attributes;
pub(crate) use unix::*;
