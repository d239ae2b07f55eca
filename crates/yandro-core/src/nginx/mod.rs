//! nginx configuration: parse to spans, run through, a site's server blocks.

mod activate;
mod desired;
mod layouts;
mod parse;
pub mod run;
mod syntax;

pub use activate::{Included, Shared};
pub use layouts::KNOWN;
pub use parse::parse;
pub use syntax::NginxSyntax;
