//! What the configuration files of all servers have in common: a tree of spans, and bringing one
//! to say what is wanted without losing what a person wrote.

mod tree;
mod want;

pub use tree::{Argument, Directive, Node, ParseError, Section, Tree};
pub use want::{HandEdit, Syntax, Want};
pub(crate) use want::{changed_by_hand, foreign, set_opening, update};
