//! From observations to findings: what stands in the way of a site, and what mends it.
//!
//! The machine crate observes; here each observation is judged, step by step, in
//! the order in which a browser depends on them.

mod circumstances;
mod explain;
mod finding;
mod judge;
mod observation;
mod page;
mod steps;
mod steps_page;
mod steps_tls;

pub use circumstances::{Circumstances, LogLine, OtherHost, PortHolder, SiteFileState};
pub use explain::explain;
pub use finding::{Code, Finding, Severity, findings_page};
pub use judge::{NameReport, Outcome, SiteReport, Step, StepReport, judge};
pub use observation::{
    Answer, Barrier, Chain, Connection, Expected, Failure, FailureKind, HostsAnswer, NameObservation, Page, Proof,
    ResolverAnswer, ResolverSetup, Setting, Timed, Trail, Verdict,
};
pub use page::{Target, target};

/// What is asked for over plain HTTP where that is to lead to HTTPS: a redirect has to keep it.
pub const REDIRECT_PROBE: &str = "/tide?check=1";

#[cfg(test)]
mod tests;
