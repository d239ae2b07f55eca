//! A report as one page for a browser, with nothing fetched from anywhere.

use std::time::Duration;

use yandro_core::{CheckStep, Finding, NameReport, Severity, SiteReport, StepOutcome, StepPart, StepReport};

use super::chain::{not_tried, title};
use super::junit::escaped;
use super::{MARK, NameState, verdict};

const PAGE: &str = include_str!("page.html");

/// The whole page. `at` is when it was seen, RFC 3339.
pub(crate) fn page(reports: &[SiteReport], at: &str) -> String {
    let names: Vec<&NameReport> = reports.iter().flat_map(|report| &report.names).collect();
    let sum = verdict(reports).into_iter().map(|(words, state)| {
        let class = match state {
            NameState::Proven => "good",
            NameState::Unproven => "warn",
            NameState::Bad => "bad",
        };
        format!("<span class=\"{class}\">{words}</span>")
    });
    let sum = sum.collect::<Vec<_>>().join(", ");
    // One scale for all bars, so that they can be compared.
    let longest = names.iter().flat_map(|name| &name.steps).map(|step| step.took).max().unwrap_or_default();
    let sites: String = reports.iter().map(|report| site(report, longest)).collect();
    PAGE.replace("{mark}", MARK)
        .replace("{at}", &escaped(at))
        .replace("{count}", &format!("{} sites, {} names", reports.len(), names.len()))
        .replace("{sum}", &sum)
        .replace("{dates}", &dates(reports))
        .replace("{sites}", &sites)
}

fn site(report: &SiteReport, longest: Duration) -> String {
    let class = if report.is_well() && report.findings.is_empty() {
        "good"
    } else if report.is_well() {
        "warn"
    } else {
        "bad"
    };
    let names: String = report.names.iter().map(|name| chain(name, longest)).collect();
    let findings: String = report.findings.iter().map(finding).collect();
    format!(
        "<section class=\"site {class}\"><h2>{}</h2><p class=\"from\">{} <span class=\"by\">{}</span></p>{findings}{names}</section>\n",
        escaped(&report.site.name.to_unicode()),
        escaped(&report.site.content.to_string()),
        escaped(&report.server.to_string())
    )
}

fn chain(name: &NameReport, longest: Duration) -> String {
    let steps: String = name.steps.iter().map(|own| step(own, longest)).collect();
    let open = if name.is_well() { "" } else { " open" };
    let took: Duration = name.steps.iter().map(|step| step.took).sum();
    format!(
        "<details{open}><summary>{} <span class=\"took\">{}</span></summary><ol>{steps}</ol></details>\n",
        escaped(&name.name.to_unicode()),
        milliseconds(took)
    )
}

fn step(step: &StepReport, longest: Duration) -> String {
    let (class, word) = match step.outcome {
        StepOutcome::Passed => ("good", "passed"),
        StepOutcome::Warned => ("warn", "warning"),
        StepOutcome::Failed => ("bad", "failed"),
        StepOutcome::Stopped(_) => ("none", "not tried"),
        StepOutcome::NotNeeded => ("none", "not needed"),
    };
    let share = if longest.is_zero() { 0.0 } else { step.took.as_secs_f64() / longest.as_secs_f64() * 100.0 };
    let bar = if step.took.is_zero() {
        "<span></span>".to_owned()
    } else {
        format!("<span class=\"track\"><span class=\"bar\" style=\"width:{:.1}%\"></span></span>", share.max(0.5))
    };
    let took = if step.took.is_zero() { String::new() } else { milliseconds(step.took) };
    format!(
        "<li class=\"{class}\"><span class=\"sign\" title=\"{word}\"></span><span class=\"step\">{}</span><span class=\"detail\">{}</span>{bar}<span class=\"took\">{took}</span></li>",
        title(step.step),
        escaped(&detail(step))
    )
}

/// The observation, with its parts.
fn detail(step: &StepReport) -> String {
    let part = |part: &StepPart| format!("{} {}", if part.well { "✓" } else { "!" }, part.title);
    if let StepOutcome::Stopped(because) = step.outcome {
        return not_tried(because);
    }
    match &step.parts[..] {
        [] => step.detail.clone(),
        [one] if step.outcome == StepOutcome::Passed => format!("{}: {}", step.detail, one.title),
        parts => format!("{}: {}", step.detail, parts.iter().map(part).collect::<Vec<_>>().join(", ")),
    }
}

fn finding(finding: &Finding) -> String {
    let finding = finding.text();
    let class = if finding.severity == Severity::Error { "bad" } else { "warn" };
    let seen = finding.evidence.as_ref().map(|seen| format!("<pre>{}</pre>", escaped(seen))).unwrap_or_default();
    let fix: String = finding
        .remedies()
        .enumerate()
        .map(|(turn, fix)| {
            let word = if turn == 0 { "fix" } else { "or" };
            format!("<p class=\"fix\">{word}: <code>{}</code></p>", escaped(fix))
        })
        .collect();
    format!(
        "<div class=\"finding {class}\"><p>{} <span class=\"code\">{}</span></p>{seen}{fix}</div>",
        prose(&finding.cause),
        finding.code.word()
    )
}

/// A sentence with names in backticks.
fn prose(text: &str) -> String {
    text.split('`').enumerate().map(code_or_text).collect()
}

fn code_or_text((place, part): (usize, &str)) -> String {
    if place % 2 == 1 { format!("<code>{}</code>", escaped(part)) } else { escaped(part) }
}

fn milliseconds(took: Duration) -> String {
    format!("{:.1} ms", took.as_secs_f64() * 1000.0)
}

/// When the certificates end, on one line of time: as far as the check saw them.
fn dates(reports: &[SiteReport]) -> String {
    let days = |report: &SiteReport| {
        let of_name =
            |name: &NameReport| Some((name.days_left?, name.outcome(CheckStep::Validity) == StepOutcome::Warned));
        report.names.iter().filter_map(of_name).min()
    };
    let known: Vec<_> = reports.iter().filter_map(|report| Some((report, days(report)?))).collect();
    let Some(most) = known.iter().map(|(_, (days, _))| *days).max().filter(|most| *most > 0) else {
        return String::new();
    };
    let lines: String = known
        .iter()
        .map(|(report, (days, is_due))| {
            #[allow(clippy::cast_precision_loss, reason = "days of a few years")]
            let share = (*days).max(0) as f64 / most as f64 * 100.0;
            let class = if *is_due { "warn" } else { "good" };
            format!(
                "<li class=\"{class}\"><span class=\"step\">{}</span><span class=\"track\"><span class=\"bar\" style=\"width:{share:.1}%\"></span></span><span class=\"took\">{days} days</span></li>",
                escaped(&report.site.name.to_unicode())
            )
        })
        .collect();
    format!("<section><h2>Certificates end in</h2><ol class=\"dates\">{lines}</ol></section>")
}
