//! The chain of one site, step by step.

use yandro_core::{CheckStep, ServerId, SiteReport, StepOutcome, StepReport};
use yandro_core::{NameReport, StepPart};

use crate::view::{BAD, DIM, GOOD, STRONG, WARN};

/// Title of each step.
pub(super) fn title(step: CheckStep) -> &'static str {
    match step {
        CheckStep::Suffix => "name",
        CheckStep::Hosts => "hosts file",
        CheckStep::Resolver => "resolver",
        CheckStep::Address => "address",
        CheckStep::Connect => "connection",
        CheckStep::VirtualHost => "virtual host",
        CheckStep::Http => "HTTP",
        CheckStep::Redirect => "redirect",
        CheckStep::Tls => "TLS handshake",
        CheckStep::Offers => "TLS, on offer",
        CheckStep::OtherNames => "unknown names",
        CheckStep::Chain => "certificate chain",
        CheckStep::Name => "certificate names",
        CheckStep::Validity => "certificate validity",
        CheckStep::Disk => "certificate on disk",
        CheckStep::Stores => "trust stores",
        CheckStep::Https => "HTTPS",
        CheckStep::Application => "application",
        CheckStep::Proof => "proof",
    }
}

/// Why a step was not tried.
pub(super) fn not_tried(because: CheckStep) -> String {
    format!("not tried, since the {} failed", title(because))
}

/// The steps of its name below one another, each with what was seen and how long it took; of an
/// alias those that differ.
pub(super) fn drawn(report: &SiteReport) -> String {
    let server = match report.server {
        ServerId::Elsewhere => "a server on another machine".to_owned(),
        server => server.to_string(),
    };
    let mut lines = Vec::new();
    for (place, name) in report.names.iter().enumerate() {
        let unicode = name.name.to_unicode();
        if place == 0 {
            lines.push(format!("{STRONG}{unicode}{STRONG:#}  {DIM}{}, {server}{DIM:#}", report.site.content));
        } else if name.is_well() {
            lines.push(format!("{STRONG}{unicode}{STRONG:#}  {GOOD}✓{GOOD:#} the same, {}", proof(name)));
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
        StepOutcome::Passed => ("✓", GOOD),
        StepOutcome::Warned => ("!", WARN),
        StepOutcome::Failed => ("✗", BAD),
        StepOutcome::Stopped(_) => ("·", DIM),
        StepOutcome::NotNeeded => ("–", DIM),
    };
    let head = format!("  {style}{sign}{style:#} {:<20}", title(step.step));
    let detail = match &step.parts[..] {
        [one] if step.outcome == StepOutcome::Passed => format!("{}: {}", step.detail, one.title),
        _ => step.detail.clone(),
    };
    let first = match step.outcome {
        StepOutcome::Stopped(because) => format!("{head}  {DIM}{}{DIM:#}", not_tried(because)),
        StepOutcome::NotNeeded => format!("{head}  {DIM}{detail}{DIM:#}"),
        _ if step.took.is_zero() => format!("{head}  {detail}"),
        _ => format!("{head}  {detail:<WIDTH$}{DIM}{:>7.1} ms{DIM:#}", step.took.as_secs_f64() * 1000.0),
    };
    let parts: &[StepPart] = if step.parts.len() > 1 { &step.parts } else { &[] };
    std::iter::once(first).chain(parts.iter().map(part_line)).collect()
}

fn part_line(part: &StepPart) -> String {
    let (sign, style) = if part.well { ("✓", GOOD) } else { ("!", WARN) };
    format!("{:26}{style}{sign}{style:#} {}", "", part.title)
}

/// Whether a further name is proven, in words.
fn proof(name: &NameReport) -> String {
    match name.outcome(CheckStep::Proof) {
        _ if name.is_proven => "and proven".to_owned(),
        StepOutcome::Passed | StepOutcome::NotNeeded => format!("without proof: {}", name.detail(CheckStep::Proof)),
        _ => "without proof".to_owned(),
    }
}

/// How wide a detail is before its time.
const WIDTH: usize = 50;
