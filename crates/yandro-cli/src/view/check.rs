//! The result of a check: a table, the findings, a line that sums up.

use std::time::Duration;

use serde_json::{Value, json};
use yandro_core::check::{Finding, NameReport, Outcome, Severity, SiteReport, Step};

use super::{BAD, COMMAND, Cell, DIM, GOOD, STRONG, Table, Ui, WARN, count};

const COLUMNS: [(&str, Step); 10] = [
    ("HOSTS FILE", Step::Hosts),
    ("RESOLVER", Step::Resolver),
    ("CONNECT", Step::Connect),
    ("HTTP", Step::Http),
    ("TLS", Step::Tls),
    ("CHAIN", Step::Chain),
    ("NAME", Step::Name),
    ("VALID", Step::Validity),
    ("HTTPS", Step::Https),
    ("PROOF", Step::Proof),
];

/// Prints the reports of all sites that were checked.
pub(crate) fn print(ui: &mut Ui, reports: &[SiteReport], took: Duration) {
    if ui.json {
        ui.json(&to_json(reports, took));
        return;
    }
    let mut headings = vec!["SITE"];
    headings.extend(COLUMNS.iter().map(|(heading, _)| *heading));
    let mut table = Table::new(&headings);
    for report in reports {
        for name in &report.names {
            table.row(row(report, name));
        }
    }
    ui.table(&table);
    print_findings(ui, reports.iter().flat_map(|report| &report.findings));
    let names = reports.iter().map(|report| report.names.len()).sum();
    let proven = reports.iter().flat_map(|report| &report.names).filter(|name| name.is_well()).count();
    let verdict = if proven == names {
        format!("{GOOD}all proven{GOOD:#}")
    } else {
        format!("{GOOD}{proven} proven{GOOD:#}, {BAD}{} not{BAD:#}", names - proven)
    };
    let sum = format!(
        "\n{}, {}: {verdict} {DIM}({} ms){DIM:#}",
        count(reports.len(), "site"),
        count(names, "name"),
        took.as_millis()
    );
    ui.say(&sum);
}

fn row(report: &SiteReport, name: &NameReport) -> Vec<Cell> {
    let style = if name.name == report.site.name { STRONG } else { anstyle::Style::new() };
    let mut cells = vec![Cell::new(name.name.to_unicode(), style)];
    for (_, step) in COLUMNS {
        let detail =
            name.steps.iter().find(|seen| seen.step == step).map(|seen| seen.detail.as_str()).unwrap_or_default();
        cells.push(match name.outcome(step) {
            Outcome::Passed if step == Step::Proof => Cell::new(detail, GOOD),
            Outcome::Passed => Cell::plain(detail),
            Outcome::Warned => Cell::new(format!("! {detail}"), WARN),
            Outcome::Failed => Cell::new(format!("✗ {detail}"), BAD),
            Outcome::Stopped(_) => Cell::new("·", DIM),
            Outcome::NotNeeded => Cell::new("–", DIM),
        });
    }
    cells
}

/// Prints each cause once, with the first of the names that it stands in the way of.
fn print_findings<'a>(ui: &mut Ui, findings: impl Iterator<Item = &'a Finding>) {
    let mut groups: Vec<(&Finding, usize)> = Vec::new();
    for finding in findings {
        match groups.iter_mut().find(|(first, _)| (first.code, &first.cause) == (finding.code, &finding.cause)) {
            Some((_, more)) => *more += 1,
            None => groups.push((finding, 0)),
        }
    }
    for (finding, more) in groups {
        let mut text = finding_text(finding, ui.verbose);
        if more > 0 {
            text += &format!("\n    {DIM}also:{DIM:#} {}", count(more, "further site"));
        }
        ui.print(&text);
    }
}

/// A finding in two or three lines.
pub(crate) fn finding_text(finding: &Finding, verbose: bool) -> String {
    let style = if finding.severity == Severity::Error { BAD } else { WARN };
    let mut text = format!("\n{style}{}{style:#} {STRONG}{}{STRONG:#}: {}", sign(finding), finding.name, finding.cause);
    if let Some(evidence) = &finding.evidence {
        text += &format!("\n    {DIM}seen:{DIM:#} {evidence}");
    }
    if let Some(remedy) = &finding.remedy {
        text += &format!("\n    {DIM}mend:{DIM:#} {COMMAND}{remedy}{COMMAND:#}");
    }
    if verbose {
        text += &format!("\n    {DIM}code:{DIM:#} {}", finding.code.word());
    }
    text
}

fn sign(finding: &Finding) -> &'static str {
    if finding.severity == Severity::Error { "✗" } else { "!" }
}

/// The documented form for programs: `docs/check-json.md`.
fn to_json(reports: &[SiteReport], took: Duration) -> Value {
    let sites: Vec<Value> = reports
        .iter()
        .map(|report| {
            let names: Vec<Value> = report
                .names
                .iter()
                .map(|name| {
                    let steps: Vec<Value> = name
                        .steps
                        .iter()
                        .map(|step| {
                            let (outcome, because) = match step.outcome {
                                Outcome::Passed => ("passed", None),
                                Outcome::Warned => ("warned", None),
                                Outcome::Failed => ("failed", None),
                                Outcome::Stopped(because) => ("stopped", Some(because)),
                                Outcome::NotNeeded => ("not-needed", None),
                            };
                            let milliseconds = step.took.as_secs_f64() * 1000.0;
                            json!({
                                "step": step.step, "outcome": outcome, "stopped-by": because,
                                "detail": step.detail, "milliseconds": milliseconds,
                            })
                        })
                        .collect();
                    json!({ "name": name.name.as_str(), "well": name.is_well(), "steps": steps })
                })
                .collect();
            json!({
                "site": report.site.name.as_str(), "server": report.server,
                "content": report.site.content.to_string(), "well": report.is_well(),
                "names": names, "findings": report.findings,
            })
        })
        .collect();
    json!({ "version": 1, "milliseconds": u64::try_from(took.as_millis()).unwrap_or(u64::MAX), "sites": sites })
}
