//! nginx configuration: parse to spans, run through, a site's server blocks.

mod layouts;
mod parse;
pub mod run;

pub use layouts::KNOWN;
pub use parse::parse;
