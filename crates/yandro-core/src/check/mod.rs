//! From observations to findings: the problem of a site, and its fix.
//!
//! The machine crate observes; here each observation becomes the outcome of a step, in
//! the order in which a browser depends on them.

mod barred;
mod cause;
mod circumstances;
mod codes;
mod configured;
mod explain;
mod finding;
mod groups;
mod judge;
mod observation;
mod page;
mod php;
mod php_fault;
mod remedy;
mod report;
mod setup;
mod step;
mod steps;
mod steps_beside;
mod steps_page;
mod steps_tls;
mod traits;
mod words;

pub use cause::{
    CertificateFault, ConfigurationRefusal, DeniedBy, FileFault, Forbidden, HostsFault, IndexFault, OverrideRefusal,
    RequestedPage, SilenceReason, SourceReason, UnexpectedFolder, Unresolved, UpstreamFault,
};
pub use circumstances::{
    AnsweringHost, Beside, Circumstances, Configured, FileFaults, LogLine, PhpFacts, PhpState, PortHolder, Silence,
    SiteFileState, StoreStanding,
};
pub use codes::{Cause, Code, Severity};
pub use explain::explain;
pub use finding::{Diagnosis, Evidence, Finding};
pub use groups::{FindingGroup, grouped};
pub use judge::judge;
pub use observation::{
    Answer, Barrier, Chain, Connection, Expected, Failure, FailureKind, HostsAnswer, NameCommand, NameObservation,
    Offers, OtherName, Proof, ResolverAnswer, Setting, Timed, Trail, Verdict,
};
pub use page::{OwnAddress, Page, RedirectSource, RedirectTarget, target};
pub use remedy::{MapOption, Remedy, ServerVerb, other_ports};
pub use report::{NameReport, SiteReport, StepOutcome, StepPart, StepReport};
pub use setup::{ResolverSetup, TenantsSetup};
pub use step::CheckStep;
pub use traits::{Patience, SafeFix};
pub use words::{FindingText, findings_page};

/// How the name of a proof file begins.
pub const PROOF_FILE: &str = "yandro-proof-";

/// The path requested over plain HTTP when it should redirect to HTTPS: the redirect has to keep it.
pub const REDIRECT_PROBE: &str = "/tide?check=1";

#[cfg(test)]
mod tests;
