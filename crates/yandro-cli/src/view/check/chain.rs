//! The chain of one site, step by step.

use yandro_core::check::{Outcome, SiteReport, Step, StepReport};
use yandro_core::site::ServerId;

use crate::view::{BAD, DIM, GOOD, STRONG, WARN};

/// What each step is, in words.
pub(super) fn title(step: Step) -> &'static str {
    match step {
        Step::Suffix => "name",
        Step::Hosts => "hosts file",
        Step::Resolver => "resolver",
        Step::Address => "address",
        Step::Connect => "connection",
        Step::VirtualHost => "virtual host",
        Step::Http => "HTTP",
        Step::Redirect => "redirect",
        Step::Tls => "TLS handshake",
        Step::Offers => "TLS, on offer",
        Step::OtherNames => "TLS, other names",
        Step::Chain => "certificate's chain",
        Step::Name => "certificate's names",
        Step::Validity => "certificate's time",
        Step::Disk => "certificate on disk",
        Step::Stores => "trust stores",
        Step::Https => "HTTPS",
        Step::Application => "application",
        Step::Proof => "proof",
    }
}

/// Why a step was not tried.
pub(super) fn not_tried(because: Step) -> String {
    format!("not tried, since the {} failed", title(because))
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
            let proof = match name.outcome(Step::Proof) {
                _ if name.is_proven => "and proven".to_owned(),
                Outcome::Passed | Outcome::NotNeeded => format!("without proof: {}", name.detail(Step::Proof)),
                _ => "without proof".to_owned(),
            };
            lines.push(format!("{STRONG}{unicode}{STRONG:#}  {GOOD}✓{GOOD:#} the same, {proof}"));
            continue;
        } else {
            lines.push(format!("{STRONG}{unicode}{STRONG:#}"));
        }
        lines.extend(name.steps.iter().flat_map(line));
    }
    lines.join("\n")
}

/// A step, and below it its parts where there are several.
fn line(step: &StepReport) -> Vec<String> {
    let (sign, style) = match step.outcome {
        Outcome::Passed => ("✓", GOOD),
        Outcome::Warned => ("!", WARN),
        Outcome::Failed => ("✗", BAD),
        Outcome::Stopped(_) => ("·", DIM),
        Outcome::NotNeeded => ("–", DIM),
    };
    let head = format!("  {style}{sign}{style:#} {:<20}", title(step.step));
    let detail = match &step.parts[..] {
        [one] if step.outcome == Outcome::Passed => format!("{}: {}", step.detail, one.title),
        _ => step.detail.clone(),
    };
    let first = match step.outcome {
        Outcome::Stopped(because) => format!("{head}  {DIM}{}{DIM:#}", not_tried(because)),
        Outcome::NotNeeded => format!("{head}  {DIM}{detail}{DIM:#}"),
        _ if step.took.is_zero() => format!("{head}  {detail}"),
        _ => format!("{head}  {detail:<WIDTH$}{DIM}{:>7.1} ms{DIM:#}", step.took.as_secs_f64() * 1000.0),
    };
    let mut lines = vec![first];
    if step.parts.len() > 1 {
        lines.extend(step.parts.iter().map(|part| {
            let (sign, style) = if part.well { ("✓", GOOD) } else { ("!", WARN) };
            format!("{:26}{style}{sign}{style:#} {}", "", part.title)
        }));
    }
    lines
}

/// How wide a detail is before its time.
const WIDTH: usize = 50;
