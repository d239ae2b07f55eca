//! From observations to findings: what stands in the way of a site, and what mends it.
//!
//! The machine crate observes; here each observation is judged, step by step, in
//! the order in which a browser depends on them.

mod finding;
mod judge;
mod observation;
mod steps;
mod steps_page;
mod steps_tls;

pub use finding::{Code, Finding, Severity};
pub use judge::{NameReport, Outcome, SiteReport, Step, StepReport, judge};
pub use observation::{
    Answer, Barrier, Chain, Connection, Expected, Failure, FailureKind, HostsAnswer, NameObservation, Proof,
    ResolverAnswer, ResolverSetup, Timed, Verdict,
};

#[cfg(test)]
mod tests;
