//! Proving a site right after a change, while its server reloads.

use std::time::{Duration, Instant};

use yandro_core::{Code, Finding, Patience, ServerId, Severity, Site, SiteReport};
use yandro_machine::Closeness;

use super::look;
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;
use crate::view::check::finding_text;

/// How long a reloaded server has until it answers with its new configuration.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long a page's own status may come from the old configuration: a folder that is proven
/// may have had another index.
const PATIENCE_WITH_STATUS: Duration = Duration::from_secs(1);
/// How long to wait between two looks: at first, and at most. A server that takes its time isn't asked all the while.
const PAUSES: (Duration, Duration) = (Duration::from_millis(10), Duration::from_millis(200));

/// The result of the proof.
pub(crate) enum Proven {
    Seen(Box<SiteReport>),
    /// There was nothing to ask, and why.
    NotTried(String),
}

impl Proven {
    /// The problems.
    pub(crate) fn findings(&self) -> &[Finding] {
        match self {
            Self::Seen(report) => &report.findings,
            Self::NotTried(_) => &[],
        }
    }

    /// Whether the site's answer is proven to come from its folder or upstream.
    pub(crate) fn is_proven(&self) -> bool {
        matches!(self, Self::Seen(report) if report.is_proven())
    }
}

/// Reason for a rollback.
pub(crate) enum ProofFailed {
    Report(Box<SiteReport>),
    Interrupted,
    Other(CommandError),
}

impl From<CommandError> for ProofFailed {
    fn from(error: CommandError) -> Self {
        Self::Other(error)
    }
}

/// Looks until the site is well or patience ends.
pub(crate) fn prove(context: &Context, site: &Site) -> Result<Proven, ProofFailed> {
    let is_asked = context.machine.is_real() || site.server == Some(ServerId::BuiltIn);
    if !is_asked {
        return Ok(Proven::NotTried("within a sysroot no server is asked".into()));
    }
    // A server that yandro doesn't reload doesn't change because of us.
    let is_ours = site.server.is_none_or(|id| is_told(context, id));
    let runtime = signals::runtime()?;
    let began = Instant::now();
    let report = runtime.block_on(async {
        let mut pause = PAUSES.0;
        loop {
            let looked = signals::unless_interrupted(look::at_one(context, site, Closeness::default())).await;
            let report = looked.ok_or(ProofFailed::Interrupted)??;
            let closed =
                report.findings.iter().all(|finding| finding.code() == Code::PortClosed) && !report.findings.is_empty();
            if site.server == Some(ServerId::BuiltIn) && closed {
                return Ok(None);
            }
            if !is_ours || patience(&report).is_none_or(|patience| began.elapsed() > patience) {
                return Ok::<_, ProofFailed>(Some(report));
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(PAUSES.1);
        }
    })?;
    let Some(report) = report else {
        return Ok(Proven::NotTried("the built-in server doesn't run: yandro servers start built-in".into()));
    };
    let was_kept = is_kept(&report);
    // The cause, before a rollback does away with it. A page's own status takes nothing back, and has one as well.
    let is_unexplained = !was_kept || report.findings.iter().any(|finding| finding.code() == Code::HttpsStatus);
    let report = if is_ours && is_unexplained {
        let closely = Closeness { is_close: true, ..Closeness::default() };
        let looked = runtime.block_on(signals::unless_interrupted(look::at_one(context, site, closely)));
        looked.and_then(Result::ok).unwrap_or(report)
    } else {
        report
    };
    // The user may still have to change the other server.
    if was_kept || is_kept(&report) || !is_ours {
        Ok(Proven::Seen(Box::new(report)))
    } else {
        Err(ProofFailed::Report(Box::new(report)))
    }
}

/// Whether yandro reloads a server.
fn is_told(context: &Context, id: ServerId) -> bool {
    let named = context.server(id).and_then(|found| found.named.as_ref());
    id != ServerId::Elsewhere && named.is_none_or(|named| !named.is_elsewhere() || !named.reload.is_empty())
}

/// How long to wait for a better look, if waiting can correct what was found at all.
///
/// A server that reloads gracefully answers with the old configuration for a moment more: an
/// upstream's answer that doesn't come through may be the last one of what was there before.
fn patience(report: &SiteReport) -> Option<Duration> {
    match report.findings.iter().map(|finding| finding.code().patience()).max()? {
        Patience::None => None,
        Patience::Brief => Some(PATIENCE_WITH_STATUS),
        Patience::Full => Some(PATIENCE),
    }
}

/// Whether the change is worth keeping: nothing is in the way but warnings, an upstream that is yet to be started, and
/// names below the site that don't resolve yet.
fn is_kept(report: &SiteReport) -> bool {
    report.findings.iter().all(|finding| finding.severity() == Severity::Warning || is_kept_with(finding.code()))
}

fn is_kept_with(code: Code) -> bool {
    matches!(code, Code::UpstreamDown | Code::ResponderDown | Code::TenantsUnresolved)
}

pub(crate) fn not_proven(failed: ProofFailed, verbose: bool) -> CommandError {
    match failed {
        ProofFailed::Interrupted => CommandError::not_made("interrupted"),
        ProofFailed::Other(error) => error,
        ProofFailed::Report(mut report) => {
            // A new site was rolled back and isn't listed: what fixes it has to map it.
            let SiteReport { site, findings, .. } = &mut *report;
            for remedy in findings.iter_mut().flat_map(|finding| &mut finding.diagnosis.remedies) {
                *remedy = remedy.clone().for_unlisted(&site.name, &site.content);
            }
            let words: String = report.findings.iter().map(|finding| finding_text(finding, verbose)).collect();
            CommandError::not_made(format!("`{}` could not be proven:{words}\n", report.site.name))
                .hint("correct what was found, then map the site again")
        }
    }
}
