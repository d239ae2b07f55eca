//! Apache httpd configuration: parse to spans, plan a site's virtual hosts, edit.

mod activate;
mod adopt;
mod commented;
mod desired;
mod layouts;
mod model;
mod modules;
mod overrides;
mod parse;
mod read;
mod rules;
pub(crate) mod run;
mod shared;
mod software;
mod switches;
mod switching;
pub(crate) mod syntax;

pub use activate::Needs;
pub(crate) use desired::required_modules;
pub(crate) use layouts::{KNOWN, USUAL_FOLDERS};
pub use modules::ModuleFiles;
pub(crate) use modules::{NoSuchModule, modules_to_enable};
pub use parse::parse;
pub use shared::HttpdShared;
pub(crate) use software::Httpd;
pub use switching::{Activation, Lack};

#[cfg(test)]
mod tests;
