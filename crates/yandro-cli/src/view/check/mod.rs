//! The result of a check: a table, the findings, a line that sums up.

mod chain;
mod junit;
mod page;

use std::time::Duration;

use yandro_core::{
    CheckStep, Finding, FindingGroup, FindingText, HostName, NameReport, Severity, Site, SiteReport, StepOutcome,
    StepReport, grouped,
};

pub(crate) use junit::junit;
pub(crate) use page::page;

use super::{BAD, COMMAND, Cell, DIM, Data, FixedTable, GOOD, STRONG, Table, Tone, Ui, WARN, count, data, width_of};

/// The columns of a table of many sites: the first step is shown, another one of its group if that is worse.
const COLUMNS: [(&str, &[CheckStep]); 10] = [
    ("HOSTS FILE", &[CheckStep::Hosts, CheckStep::Suffix]),
    ("RESOLVER", &[CheckStep::Resolver]),
    ("CONNECT", &[CheckStep::Connect, CheckStep::Address, CheckStep::VirtualHost]),
    ("HTTP", &[CheckStep::Http, CheckStep::Redirect]),
    ("TLS", &[CheckStep::Tls, CheckStep::Offers, CheckStep::OtherNames]),
    ("CHAIN", &[CheckStep::Chain, CheckStep::Disk, CheckStep::Stores]),
    ("NAME", &[CheckStep::Name]),
    ("VALID", &[CheckStep::Validity]),
    ("HTTPS", &[CheckStep::Https, CheckStep::Application]),
    ("PROOF", &[CheckStep::Proof]),
];

/// A mark in every report file, by which it may be overwritten.
pub(crate) const MARK: &str = "yandro-check";

/// Prints the reports of all sites that were checked.
pub(crate) fn print(ui: &mut Ui, reports: &[SiteReport], took: Duration) {
    match reports {
        [one] => ui.say(&chain::drawn(one)),
        _ => ui.table(&table(reports)),
    }
    print_findings(ui, reports, took);
}

/// The findings and the sum, below a table whose rows were printed as they came.
pub(crate) fn print_findings(ui: &mut Ui, reports: &[SiteReport], took: Duration) {
    let findings = findings_text(reports.iter().flat_map(|report| &report.findings), ui.verbose);
    if !findings.is_empty() {
        ui.print(&findings);
    }
    ui.say(&sum(reports, took));
}

/// The table of many sites, whose rows are printed as they come: its columns have the widths that their cells have as
/// a rule.
pub(crate) struct StreamedTable {
    table: FixedTable,
}

impl StreamedTable {
    /// The table for these sites, in a terminal of this width.
    pub(crate) fn of(sites: &[Site], width: Option<usize>) -> Self {
        let names = sites.iter().flat_map(Site::names).map(HostName::to_unicode);
        let usual = COLUMNS.iter().zip(["127.0.0.1", "::1, 127.0.0.1", "ports 80, 443", "307", "TLS 1.3"]);
        let mut columns = vec![("SITE", names.max_by_key(|name| width_of(name)).unwrap_or_default())];
        let further = ["trusted", "covered", "396 days", "200", "proven"];
        columns.extend(usual.map(|((heading, _), cell)| (*heading, cell.to_owned())));
        columns.extend(COLUMNS.iter().skip(5).zip(further).map(|((heading, _), cell)| (*heading, cell.to_owned())));
        Self { table: FixedTable::new(&columns, width) }
    }

    /// The line above the rows.
    pub(crate) fn heading(&self) -> String {
        self.table.heading()
    }

    /// The rows of a site.
    pub(crate) fn of_site(&mut self, report: &SiteReport) -> String {
        let rows: Vec<String> = report.names.iter().map(|name| self.table.row(&row(report, name))).collect();
        rows.join("\n")
    }
}

/// The same as one text.
pub(crate) fn text(ui: &Ui, reports: &[SiteReport], took: Duration) -> String {
    let seen = match reports {
        [one] => chain::drawn(one),
        _ => table(reports).render(ui.width()),
    };
    let findings = findings_text(reports.iter().flat_map(|report| &report.findings), ui.verbose);
    format!("{seen}{}{findings}\n{}", if findings.is_empty() { "" } else { "\n" }, sum(reports, took))
}

fn table(reports: &[SiteReport]) -> Table {
    let mut headings = vec!["SITE"];
    headings.extend(COLUMNS.iter().map(|(heading, _)| *heading));
    let mut table = Table::new(&headings);
    for report in reports {
        for name in &report.names {
            table.row(row(report, name));
        }
    }
    table
}

fn sum(reports: &[SiteReport], took: Duration) -> String {
    let names = reports.iter().map(|report| report.names.len()).sum();
    let verdict: Vec<String> = verdict(reports)
        .into_iter()
        .map(|(words, state)| {
            let style = match state {
                NameState::Proven => GOOD,
                NameState::Unproven => WARN,
                NameState::Bad => BAD,
            };
            format!("{style}{words}{style:#}")
        })
        .collect();
    format!(
        "\n{}, {}: {} {DIM}({} ms){DIM:#}",
        count(reports.len(), "site"),
        count(names, "name"),
        verdict.join(", "),
        took.as_millis()
    )
}

/// State of a name.
#[derive(Clone, Copy)]
enum NameState {
    Proven,
    /// Without problems, but not proven.
    Unproven,
    Bad,
}

/// How many names have which state, in words.
fn verdict(reports: &[SiteReport]) -> Vec<(String, NameState)> {
    let names = || reports.iter().flat_map(|report| &report.names);
    let (proven, well) = (names().filter(|name| name.is_proven).count(), names().filter(|name| name.is_well()).count());
    let bad = names().count() - well;
    if proven == names().count() {
        return vec![("all proven".to_owned(), NameState::Proven)];
    }
    let mut parts = vec![(format!("{proven} proven"), NameState::Proven)];
    if well > proven {
        parts.push((format!("{} well without proof", well - proven), NameState::Unproven));
    }
    if bad > 0 {
        parts.push((format!("{bad} not"), NameState::Bad));
    }
    parts
}

fn row(report: &SiteReport, name: &NameReport) -> Vec<Cell> {
    let style = if name.name == report.site.name { STRONG } else { Tone::PLAIN };
    let mut cells = vec![Cell::new(name.name.to_unicode(), style)];
    for (_, group) in COLUMNS {
        let Some(step) = worst(name, group) else { continue };
        let detail = step.detail.as_str();
        cells.push(match step.outcome {
            StepOutcome::Passed if step.step == CheckStep::Proof => Cell::new(detail, GOOD),
            StepOutcome::Passed => Cell::plain(detail),
            StepOutcome::Warned => Cell::new(format!("! {detail}"), WARN),
            StepOutcome::Failed => Cell::new(format!("✗ {detail}"), BAD),
            StepOutcome::Stopped(_) => Cell::new("·", DIM),
            StepOutcome::NotNeeded => Cell::new("–", DIM),
        });
    }
    cells
}

/// The first of these steps, unless another one went worse.
fn worst<'n>(name: &'n NameReport, group: &[CheckStep]) -> Option<&'n StepReport> {
    let of_group = |step: &CheckStep| name.steps.iter().find(|own| own.step == *step);
    // Of equal ones the first stays.
    group.iter().filter_map(of_group).min_by_key(|step| rank(step))
}

fn rank(step: &StepReport) -> u8 {
    match step.outcome {
        StepOutcome::Failed => 0,
        StepOutcome::Warned => 1,
        _ => 2,
    }
}

/// Each cause once, with the first of the names that it concerns.
fn findings_text<'a>(findings: impl Iterator<Item = &'a Finding>, verbose: bool) -> String {
    grouped(findings).iter().map(|group| group_text(group, verbose)).collect::<Vec<_>>().join("\n")
}

/// A finding in two or three lines.
pub(crate) fn finding_text(finding: &Finding, verbose: bool) -> String {
    let remedy = finding.diagnosis.remedies.first().cloned();
    group_text(&FindingGroup { first: finding, others: Vec::new(), remedy }, verbose)
}

/// How many further names of a finding are listed.
const NAMES_SHOWN: usize = 60;

/// A finding of one site, or of several with the names of all.
fn group_text(group: &FindingGroup<'_>, verbose: bool) -> String {
    let FindingGroup { first: finding, others, remedy: of_all } = group;
    let (style, sign) = if finding.severity() == Severity::Error { (BAD, "✗") } else { (WARN, "!") };
    let FindingText { code, name, cause, evidence, otherwise, .. } = finding.text();
    let mut text = format!("\n{style}{sign}{style:#} {STRONG}{name}{STRONG:#}: {cause}");
    if !others.is_empty() {
        let names: Vec<String> = others.iter().take(NAMES_SHOWN).map(|name| name.to_unicode()).collect();
        let more = others.len().saturating_sub(NAMES_SHOWN);
        let rest = if more == 0 { String::new() } else { format!(" and {more} more") };
        text += &format!("\n    {DIM}also:{DIM:#} {}: {}{rest}", count(others.len(), "further name"), names.join(", "));
    }
    if let Some(evidence) = evidence {
        // The words of a server may have several lines.
        text += &format!("\n    {DIM}seen:{DIM:#} {}", evidence.replace('\n', "\n          "));
    }
    if let Some(remedy) = of_all {
        text += &format!("\n    {DIM}fix:{DIM:#} {COMMAND}{remedy}{COMMAND:#}");
    }
    // The other ways are each of one site.
    for other in otherwise.iter().filter(|_| others.is_empty()) {
        text += &format!("\n     {DIM}or:{DIM:#} {COMMAND}{other}{COMMAND:#}");
    }
    if verbose {
        text += &format!("\n    {DIM}code:{DIM:#} {}", code.word());
    }
    text
}

data! {
    /// Data of `yandro check`.
    struct Checked {
        milliseconds: u64,
        sites: Vec<CheckedSite>,
    }

    /// A site that was checked.
    struct CheckedSite {
        site: String,
        server: String,
        /// The project's folder, or the upstream.
        content: String,
        well: bool,
        /// The name, then the aliases.
        names: Vec<CheckedName>,
        findings: Vec<FindingData>,
    }

    /// A name of it.
    struct CheckedName {
        name: String,
        well: bool,
        /// Whether its answer is proven to come from the site's own folder or upstream.
        proven: bool,
        steps: Vec<CheckedStep>,
    }

    /// A step of a name.
    struct CheckedStep {
        step: String,
        /// `passed`, `warned`, `failed`, `stopped` or `not-needed`.
        outcome: &'static str,
        /// The step that failed before, of one that was stopped.
        stopped_by: Option<String>,
        detail: String,
        milliseconds: f64,
        parts: Vec<CheckedPart>,
    }

    /// A part of a step.
    struct CheckedPart {
        title: String,
        well: bool,
    }

    /// A problem, with the command that fixes it.
    struct FindingData {
        code: String,
        /// `error` or `warning`.
        severity: String,
        step: String,
        name: String,
        cause: String,
        evidence: Option<String>,
        remedy: Option<String>,
        otherwise: Vec<String>,
    }
}

impl Data for Checked {
    const VERSION: u32 = 2;
}

/// The word of an enum, as serde writes it.
fn word(value: impl serde::Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|value| Some(value.as_str()?.to_owned())).unwrap_or_default()
}

/// The documented form for programs: `docs/check-json.md`.
pub(crate) fn to_data(reports: &[SiteReport], took: Duration) -> Checked {
    let milliseconds = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
    Checked { milliseconds, sites: reports.iter().map(site_data).collect() }
}

fn site_data(report: &SiteReport) -> CheckedSite {
    let name = |name: &NameReport| CheckedName {
        name: name.name.to_string(),
        well: name.is_well(),
        proven: name.is_proven,
        steps: name.steps.iter().map(step_data).collect(),
    };
    CheckedSite {
        site: report.site.name.to_string(),
        server: report.server.word().to_owned(),
        content: report.site.content.to_string(),
        well: report.is_well(),
        names: report.names.iter().map(name).collect(),
        findings: report.findings.iter().map(finding_data).collect(),
    }
}

fn step_data(step: &StepReport) -> CheckedStep {
    let (outcome, stopped_by) = match step.outcome {
        StepOutcome::Passed => ("passed", None),
        StepOutcome::Warned => ("warned", None),
        StepOutcome::Failed => ("failed", None),
        StepOutcome::Stopped(because) => ("stopped", Some(word(because))),
        StepOutcome::NotNeeded => ("not-needed", None),
    };
    CheckedStep {
        step: word(step.step),
        outcome,
        stopped_by,
        detail: step.detail.clone(),
        milliseconds: step.took.as_secs_f64() * 1000.0,
        parts: step.parts.iter().map(|part| CheckedPart { title: part.title.clone(), well: part.well }).collect(),
    }
}

/// A finding for programs.
pub(crate) fn finding_data(finding: &Finding) -> FindingData {
    let text = finding.text();
    FindingData {
        code: text.code.word(),
        severity: word(text.severity),
        step: word(text.step),
        name: text.name,
        cause: text.cause,
        evidence: text.evidence,
        remedy: text.remedy,
        otherwise: text.otherwise,
    }
}
