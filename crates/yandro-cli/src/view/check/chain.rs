//! The chain of one site, step by step.

use std::time::Duration;

use yandro_core::check::{Outcome, SiteReport, Step};
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

/// The steps below one another, each with what was seen and how long it took.
pub(super) fn drawn(report: &SiteReport) -> String {
    let Some(name) = report.names.first() else { return String::new() };
    let server = match report.server {
        ServerId::Elsewhere => "a server elsewhere".to_owned(),
        server => server.to_string(),
    };
    let mut lines =
        vec![format!("{STRONG}{}{STRONG:#}  {DIM}{}, {server}{DIM:#}", name.name.to_unicode(), report.site.content)];
    for step in &name.steps {
        let (sign, style) = match step.outcome {
            Outcome::Passed => ("✓", GOOD),
            Outcome::Warned => ("!", WARN),
            Outcome::Failed => ("✗", BAD),
            Outcome::Stopped(_) => ("·", DIM),
            Outcome::NotNeeded => ("–", DIM),
        };
        let detail = match step.outcome {
            Outcome::Stopped(because) => format!("not tried, since the {} failed", title(because)),
            _ => step.detail.clone(),
        };
        let took = if step.took > Duration::ZERO {
            format!("{:.1} ms", step.took.as_secs_f64() * 1000.0)
        } else {
            String::new()
        };
        lines.push(
            format!("  {style}{sign}{style:#} {:<20}  {:<34}{DIM}{took:>10}{DIM:#}", title(step.step), detail)
                .trim_end()
                .to_owned(),
        );
    }
    lines.join("\n")
}
