//! nginx configuration: parse to spans, run through, a site's server blocks.

mod activate;
mod desired;
mod layouts;
mod parse;
mod report;
mod rules;
pub mod run;
mod syntax;

pub use activate::{Included, Shared};
pub use desired::name_bucket;
pub use layouts::{KNOWN, USUAL_FOLDERS};
pub use parse::parse;
pub use report::ServerReport;
pub use rules::first_rule;
pub use syntax::NginxSyntax;
