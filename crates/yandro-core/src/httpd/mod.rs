//! Apache httpd configuration: parse to spans, plan a site's virtual hosts, edit.

mod activate;
mod desired;
mod journal;
mod layouts;
mod modules;
mod others;
mod parse;
pub mod run;
mod shared;
mod site;
mod switches;
mod syntax;

pub use activate::{Activation, Lack, Needs};
pub use desired::{PathError, ServerTraits, SiteFiles, required_modules};
pub use journal::Journal;
pub use layouts::KNOWN;
pub use modules::{ModuleFiles, modules_to_enable};
pub use others::{OTHERS, Others, others_file};
pub use parse::parse;
pub use shared::Shared;
pub use site::{hand_edits, site_file};
pub use switches::is_switching;
