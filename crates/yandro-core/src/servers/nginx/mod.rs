//! nginx configuration: parse to spans, run through, a site's server blocks.

mod activate;
mod adopt;
mod desired;
mod layouts;
mod model;
mod parse;
mod read;
mod report;
mod rules;
pub(crate) mod run;
mod software;
mod syntax;

pub use activate::NginxShared;
pub(crate) use desired::name_bucket;
pub(crate) use layouts::{KNOWN, USUAL_FOLDERS};
pub use parse::parse;
pub(crate) use rules::first_rule;
pub(crate) use software::Nginx;
