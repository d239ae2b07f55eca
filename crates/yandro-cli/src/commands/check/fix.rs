//! `yandro check --fix`: the remedies that are safe, as one change set.

use yandro_core::{Code, Orphans, SafeFix, SiteList, SiteReport, settle};
use yandro_machine::SystemFresh;

use crate::commands::apply::{Applied, Planned, apply};
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::view::change;
use crate::view::{STRONG, Ui, count};

/// Plans and applies the fixes; whether something was changed.
pub(super) fn run(
    context: &Context,
    list: &SiteList,
    reports: &[SiteReport],
    ui: &mut Ui,
) -> Result<bool, CommandError> {
    let fixes =
        |report: &SiteReport| report.findings.iter().filter_map(|own| own.code().safe_fix()).collect::<Vec<_>>();
    let fixed: Vec<&SiteReport> = reports.iter().filter(|report| !fixes(report).is_empty()).collect();
    if fixed.is_empty() {
        ui.note("nothing of what was found can be fixed without you: see each remedy");
        return Ok(false);
    }
    let plan = || {
        let (text, _) = context.list()?;
        let mut observed = context.observer().observe_all(text, list, now())?;
        let has_other_key = |report: &&SiteReport| report.findings.iter().any(|own| own.code() == Code::KeyMismatch);
        let mismatched = reports.iter().filter(has_other_key);
        observed.wishes.suspect = mismatched.map(|report| report.site.name.clone()).collect();
        let default = context.default_server(list)?;
        let mut set = settle(&mut observed, list, default, Orphans::Kept, &mut SystemFresh::new())?.set;
        let is_to_reload = |report: &&&SiteReport| fixes(report).contains(&SafeFix::Reload);
        let reloaded = fixed.iter().filter(is_to_reload).map(|report| report.server);
        set.servers.extend(reloaded.filter(|server| server.is_configured()));
        Ok(Planned { set, starts: true, about: () })
    };
    let done = match apply(context, ui, plan, |()| Ok(()))? {
        Applied::Done(done) => *done,
        Applied::Preview(set) => {
            change::preview(*set).show(ui);
            return Ok(false);
        }
    };
    if done.set.is_empty() {
        return Ok(false);
    }
    ui.say(&format!("{STRONG}fixed for {}{STRONG:#}, and looked again:", count(fixed.len(), "site")));
    ui.say(&done.summary(context));
    ui.say("");
    Ok(true)
}
