//! nginx configuration: parse to spans, run through, a site's server blocks.

mod activate;
mod desired;
mod layouts;
mod model;
mod parse;
mod read;
mod report;
mod rules;
pub mod run;
mod software;
mod syntax;

pub use activate::{Included, NginxShared};
pub use desired::name_bucket;
pub use layouts::{KNOWN, USUAL_FOLDERS};
pub use model::NginxModel;
pub use parse::parse;
pub use rules::first_rule;
pub use software::Nginx;
pub use syntax::NginxSyntax;
