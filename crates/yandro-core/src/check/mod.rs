//! From observations to findings: what stands in the way of a site, and what mends it.
//!
//! The machine crate observes; here each observation is judged, step by step, in
//! the order in which a browser depends on them.

mod circumstances;
mod configured;
mod explain;
mod fault;
mod finding;
mod judge;
mod observation;
mod page;
mod php_fault;
mod remedy;
mod steps;
mod steps_beside;
mod steps_page;
mod steps_tls;

pub use circumstances::{
    AnsweringHost, Beside, Circumstances, Configured, LogLine, PortHolder, SiteFileState, StoreStanding,
};
pub use explain::explain;
pub use finding::{Code, Finding, Severity, findings_page};
pub use judge::{NameReport, Outcome, Part, SiteReport, Step, StepReport, judge};
pub use observation::{
    Answer, Barrier, Chain, Connection, Expected, Failure, FailureKind, HostsAnswer, NameObservation, Offers,
    OtherName, OwnAddress, Page, Proof, ResolverAnswer, ResolverSetup, Setting, Timed, Trail, Verdict,
};
pub use page::{Target, target};
pub use remedy::other_ports;

/// How the name of a proof file begins.
pub const PROOF_FILE: &str = "yandro-proof-";

/// What is asked for over plain HTTP where that is to lead to HTTPS: a redirect has to keep it.
pub const REDIRECT_PROBE: &str = "/tide?check=1";

#[cfg(test)]
mod tests;
