//! The chain of one site, step by step.

use yandro_core::check::{Outcome, SiteReport, Step, StepReport};
use yandro_core::site::ServerId;

use crate::view::{BAD, DIM, GOOD, STRONG, WARN};

/// What each step is, in words.
pub(super) fn title(step: Step) -> &'static str {
    match step {
        Step::Hosts => "hosts file",
        Step::Resolver => "resolver",
        Step::Connect => "connection",
        Step::Http => "HTTP",
        Step::Tls => "TLS handshake",
        Step::Chain => "certificate's chain",
        Step::Name => "certificate's names",
        Step::Validity => "certificate's time",
        Step::Https => "HTTPS",
        Step::Proof => "proof",
    }
}

/// The steps of its name below one another, each with what was seen and how long it took; of an
/// alias those that differ.
pub(super) fn drawn(report: &SiteReport) -> String {
    let server = match report.server {
        ServerId::Elsewhere => "a server elsewhere".to_owned(),
        server => server.to_string(),
    };
    let mut lines = Vec::new();
    for (place, name) in report.names.iter().enumerate() {
        let unicode = name.name.to_unicode();
        if place == 0 {
            lines.push(format!("{STRONG}{unicode}{STRONG:#}  {DIM}{}, {server}{DIM:#}", report.site.content));
        } else if name.is_well() {
            lines.push(format!("{STRONG}{unicode}{STRONG:#}  {GOOD}✓{GOOD:#} the same, and proven"));
            continue;
        } else {
            lines.push(format!("{STRONG}{unicode}{STRONG:#}"));
        }
        lines.extend(name.steps.iter().map(line));
    }
    lines.join("\n")
}

fn line(step: &StepReport) -> String {
    let (sign, style) = match step.outcome {
        Outcome::Passed => ("✓", GOOD),
        Outcome::Warned => ("!", WARN),
        Outcome::Failed => ("✗", BAD),
        Outcome::Stopped(_) => ("·", DIM),
        Outcome::NotNeeded => ("–", DIM),
    };
    let head = format!("  {style}{sign}{style:#} {:<20}", title(step.step));
    match step.outcome {
        Outcome::Stopped(because) => format!("{head}  {DIM}not tried, since the {} failed{DIM:#}", title(because)),
        _ if step.took.is_zero() => format!("{head}  {}", step.detail),
        _ => format!("{head}  {:<34}{DIM}{:>7.1} ms{DIM:#}", step.detail, step.took.as_secs_f64() * 1000.0),
    }
}
