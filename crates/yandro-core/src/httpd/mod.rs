//! Apache httpd configuration: parse to spans, plan a site's virtual hosts, edit.

mod activate;
mod desired;
mod layouts;
mod modules;
mod overrides;
mod parse;
pub mod run;
mod shared;
mod switches;
mod syntax;

pub use activate::{Activation, Lack, Needs};
pub use desired::required_modules;
pub use layouts::{KNOWN, USUAL_FOLDERS};
pub use modules::{ModuleFiles, modules_to_enable};
pub use overrides::{Overrides, denies};
pub use parse::parse;
pub use shared::Shared;
pub use switches::is_switching;
pub use syntax::ApacheSyntax;

#[cfg(test)]
mod tests;
