//! Apache httpd configuration: parse to spans, plan a site's virtual hosts, edit.

mod activate;
mod desired;
mod layouts;
mod model;
mod modules;
mod overrides;
mod parse;
mod read;
pub mod run;
mod shared;
mod software;
mod switches;
mod syntax;

pub use activate::{Activation, Lack, Needs};
pub use desired::required_modules;
pub use layouts::{KNOWN, USUAL_FOLDERS};
pub use model::HttpdModel;
pub use modules::{ModuleFiles, modules_to_enable};
pub use parse::parse;
pub use shared::Shared;
pub use software::Httpd;
pub use syntax::ApacheSyntax;

#[cfg(test)]
mod tests;
