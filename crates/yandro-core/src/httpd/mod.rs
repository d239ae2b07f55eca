//! Apache httpd configuration: parse to spans, plan a site's virtual hosts, edit.

mod layout;
mod listen;
mod others;
mod parse;
pub mod run;
mod site;
mod want;

pub use layout::{DebianLayout, ModuleFiles, modules_to_enable, named_virtual_host};
pub use listen::listens_on_v6;
pub use others::{OTHERS, Others, has_port, modules_of, others_file};
pub use parse::{Argument, Directive, Node, ParseError, Section, Tree};
pub use site::{HandEdit, PathError, SiteFiles, hand_edits, required_modules, site_file};
pub use want::Want;
