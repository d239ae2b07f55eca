//! Apache httpd configuration: parse to spans, plan a site's virtual hosts, edit.

mod activate;
mod commented;
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
mod switching;
mod syntax;

pub use activate::Needs;
pub use desired::required_modules;
pub use layouts::{KNOWN, USUAL_FOLDERS};
pub use model::HttpdModel;
pub use modules::{ModuleFiles, NoSuchModule, modules_to_enable};
pub use parse::parse;
pub use shared::HttpdShared;
pub use software::Httpd;
pub use switching::{Activation, Lack};
pub use syntax::ApacheSyntax;

#[cfg(test)]
mod tests;
