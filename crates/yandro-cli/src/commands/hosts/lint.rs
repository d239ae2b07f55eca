//! `yandro hosts lint`.

use yandro_core::{
    HostName, LintContext, LintFinding, LintWeight, ListId, Multi, SiteList, Sorting, Surroundings, fixed_hosts,
    lint_hosts,
};
use yandro_machine::{caches, network};

use super::super::apply::{apply, done};
use super::{planned, read};
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{BAD, COMMAND, DIM, Data, GOOD, Outcome, STRONG, Ui, WARN, count, data};

/// The input of the lints, as values.
struct JudgedLines {
    list: SiteList,
    gone: Vec<HostName>,
    multi: Multi,
    surroundings: Surroundings,
    which: ListId,
}

impl JudgedLines {
    fn observe(context: &Context) -> Result<Self, CommandError> {
        let list = context.enabled()?;
        let is_gone = |root: Option<camino::Utf8PathBuf>| root.is_some_and(|root| !root.is_dir());
        let gone =
            list.sites.iter().filter(|site| is_gone(site.document_root())).map(|site| site.name.clone()).collect();
        let surroundings = caches::surroundings(&context.machine);
        Ok(Self {
            list,
            gone,
            multi: caches::multi(&context.machine),
            surroundings,
            which: context.machine.places.list.clone(),
        })
    }

    fn context<'a>(&'a self, path: &'a str) -> LintContext<'a> {
        LintContext {
            list: &self.which,
            sites: &self.list,
            folders_gone: &self.gone,
            sorting: Sorting { multi: self.multi, is_usable: &network::is_usable },
            surroundings: &self.surroundings,
            path,
        }
    }
}

pub(crate) fn run<'c>(context: &'c Context, fix: bool, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let path = context.machine.places.inside(&context.machine.places.hosts);
    let judged = JudgedLines::observe(context)?;
    let judge = judged.context(path.as_str());
    let mut fixed = 0;
    if fix {
        let plan = || {
            planned(context, (), |text| {
                fixed = lint_hosts(text, &judge).iter().filter(|finding| finding.is_fixable()).count();
                Ok(Some(fixed_hosts(text, &judge)))
            })
        };
        done!(apply(context, ui, plan, |()| Ok(())));
    }
    let found = lint_hosts(&read(context)?, &judge);
    let faults = found.iter().filter(|finding| finding.weight > LintWeight::Note).count();
    let status = if faults == 0 { Status::Well } else { Status::Findings };
    let file = context.machine.places.hosts.to_string();
    let data = Lint { file, fixed, findings: found.iter().map(to_data).collect() };
    Ok(Outcome::new(data, move |_, ui| show(&found, path.as_str(), fixed, ui)).with(status))
}

fn show(found: &[LintFinding], path: &str, fixed: usize, ui: &mut Ui) {
    for finding in found {
        ui.print(&text(finding, path, ui.verbose));
    }
    if fixed > 0 {
        ui.say(&format!(
            "{GOOD}fixed: {}{GOOD:#}; to have them back: {COMMAND}yandro undo{COMMAND:#}",
            count(fixed, "finding")
        ));
    }
    let fixable = found.iter().filter(|finding| finding.is_fixable()).count();
    if fixable > 0 {
        ui.say(&format!(
            "\n{} can be fixed at once: {COMMAND}yandro hosts lint --fix{COMMAND:#} (with --preview first)",
            count(fixable, "finding")
        ));
    } else if found.iter().all(|finding| finding.weight <= LintWeight::Note) {
        ui.say(&format!("{GOOD}{path} does what it seems to do{GOOD:#}"));
    }
}

fn text(finding: &LintFinding, path: &str, verbose: bool) -> String {
    let (style, sign) = match finding.weight {
        LintWeight::Error => (BAD, "✗"),
        LintWeight::Warning => (WARN, "!"),
        LintWeight::Note => (DIM, "·"),
    };
    let place = finding.line.map_or_else(|| path.to_owned(), |line| format!("{path}:{line}"));
    let mut text = format!("{style}{sign}{style:#} {STRONG}{place}{STRONG:#}: {}", finding.cause);
    if let Some(remedy) = &finding.remedy {
        text += &format!("\n    {DIM}fix:{DIM:#} {COMMAND}{remedy}{COMMAND:#}");
    }
    if verbose {
        text += &format!("\n    {DIM}code:{DIM:#} {}", word(finding));
    }
    text
}

fn word(finding: &LintFinding) -> String {
    serde_json::to_value(finding.code).ok().and_then(|value| Some(value.as_str()?.to_owned())).unwrap_or_default()
}

data! {
    /// Data of `yandro hosts lint`.
    struct Lint {
        file: String,
        /// How many findings were fixed.
        fixed: usize,
        findings: Vec<LintData>,
    }

    /// A finding of it.
    struct LintData {
        code: String,
        /// `error`, `warning` or `note`.
        weight: String,
        /// The line, from 1; none for one of the whole file.
        line: Option<usize>,
        cause: String,
        remedy: Option<String>,
        /// Whether `--fix` fixes it.
        fixable: bool,
    }
}

impl Data for Lint {}

fn to_data(finding: &LintFinding) -> LintData {
    let weight = serde_json::to_value(finding.weight).ok();
    LintData {
        code: word(finding),
        weight: weight.and_then(|value| Some(value.as_str()?.to_owned())).unwrap_or_default(),
        line: finding.line,
        cause: finding.cause.clone(),
        remedy: finding.remedy.clone(),
        fixable: finding.is_fixable(),
    }
}
