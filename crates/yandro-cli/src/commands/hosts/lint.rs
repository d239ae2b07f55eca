//! `yandro hosts lint`.

use serde_json::json;
use yandro_core::hosts::{self, LintContext, LintFinding, Multi, Weight};
use yandro_core::name::HostName;
use yandro_core::site::{ListId, SiteList};
use yandro_core::system::Surroundings;
use yandro_machine::{caches, files};

use super::super::apply::apply;
use super::{planned, read};
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{BAD, COMMAND, DIM, GOOD, STRONG, Ui, WARN, count};

/// What the file is judged by, as values.
struct Judged {
    list: SiteList,
    gone: Vec<HostName>,
    multi: Multi,
    surroundings: Surroundings,
    which: ListId,
}

impl Judged {
    fn observe(context: &Context) -> Result<Self, CommandError> {
        let (_, list) = context.list()?;
        let is_gone = |root: Option<camino::Utf8PathBuf>| root.is_some_and(|root| !root.is_dir());
        let gone =
            list.sites.iter().filter(|site| is_gone(site.document_root())).map(|site| site.name.clone()).collect();
        let conf = files::read_if_there(&context.machine.path("/etc/host.conf"))?.unwrap_or_default();
        let surroundings = caches::surroundings(&context.machine);
        Ok(Self {
            list,
            gone,
            multi: Multi::of_host_conf(&conf),
            surroundings,
            which: context.machine.places.list.clone(),
        })
    }

    fn context<'a>(&'a self, path: &'a str) -> LintContext<'a> {
        LintContext {
            list: &self.which,
            sites: &self.list,
            folders_gone: &self.gone,
            multi: self.multi,
            surroundings: &self.surroundings,
            path,
        }
    }
}

pub(crate) fn run(context: &Context, mend: bool, ui: &mut Ui) -> Result<Status, CommandError> {
    let path = context.machine.places.inside(&context.machine.places.hosts);
    let judged = Judged::observe(context)?;
    let judge = judged.context(path.as_str());
    let mut mended = 0;
    if mend {
        let plan = || {
            planned(context, (), |text| {
                mended = hosts::lint(text, &judge).iter().filter(|finding| finding.is_mendable()).count();
                Ok(Some(hosts::mended(text, &judge)))
            })
        };
        if apply(context, ui, plan, |()| Ok(()))?.is_none() {
            return Ok(Status::Well);
        }
    }
    let found = hosts::lint(&read(context)?, &judge);
    let faults = found.iter().filter(|finding| finding.weight > Weight::Note).count();
    let status = if faults == 0 { Status::Well } else { Status::Findings };
    if ui.json {
        let findings: Vec<_> = found.iter().map(to_json).collect();
        ui.json(&json!({ "version": 1, "file": context.machine.places.hosts, "mended": mended, "findings": findings }));
        return Ok(status);
    }
    for finding in &found {
        ui.print(&text(finding, path.as_str(), ui.verbose));
    }
    if mended > 0 {
        ui.say(&format!(
            "{GOOD}mended: {}{GOOD:#}; to have them back: {COMMAND}yandro undo{COMMAND:#}",
            count(mended, "finding")
        ));
    }
    let mendable = found.iter().filter(|finding| finding.is_mendable()).count();
    if mendable > 0 {
        ui.say(&format!(
            "\n{} can be mended at once: {COMMAND}yandro hosts lint --mend{COMMAND:#} (with --preview first)",
            count(mendable, "finding")
        ));
    } else if faults == 0 {
        ui.say(&format!("{GOOD}{path} does what it seems to do{GOOD:#}"));
    }
    Ok(status)
}

fn text(finding: &LintFinding, path: &str, verbose: bool) -> String {
    let (style, sign) = match finding.weight {
        Weight::Error => (BAD, "✗"),
        Weight::Warning => (WARN, "!"),
        Weight::Note => (DIM, "·"),
    };
    let place = finding.line.map_or_else(|| path.to_owned(), |line| format!("{path}:{line}"));
    let mut text = format!("{style}{sign}{style:#} {STRONG}{place}{STRONG:#}: {}", finding.cause);
    if let Some(remedy) = &finding.remedy {
        text += &format!("\n    {DIM}mend:{DIM:#} {COMMAND}{remedy}{COMMAND:#}");
    }
    if verbose {
        text += &format!("\n    {DIM}code:{DIM:#} {}", word(finding));
    }
    text
}

fn word(finding: &LintFinding) -> String {
    serde_json::to_value(finding.code).ok().and_then(|value| Some(value.as_str()?.to_owned())).unwrap_or_default()
}

fn to_json(finding: &LintFinding) -> serde_json::Value {
    json!({
        "code": finding.code, "weight": finding.weight, "line": finding.line, "cause": finding.cause,
        "remedy": finding.remedy, "mendable": finding.is_mendable(),
    })
}
