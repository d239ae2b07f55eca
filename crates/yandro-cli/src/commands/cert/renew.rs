//! `yandro cert renew`.

use camino::Utf8PathBuf;
use serde_json::json;
use yandro_core::plan::{Change, Role, Step, renew as plan_renewal};
use yandro_machine::{SystemFresh, observe};

use crate::commands::apply::{Planned, apply};
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::Ui;
use crate::view::change::{labelled, server_lines, summary};

pub(super) fn renew(context: &Context, within: i64, ui: &mut Ui) -> Result<Status, CommandError> {
    let plan = || {
        let (text, list) = context.list()?;
        let mut observed = observe::observe_all(&context.machine, text, &list, now())?;
        observed.renew_within = within;
        let set = plan_renewal(&mut observed, &list, &mut SystemFresh::new())?;
        // A file that was noted and is gone is nothing to renew.
        let gone = observed.issued.iter().filter(|own| own.chain.is_none()).map(|own| own.path.clone()).collect();
        Ok(Planned { set, starts: false, about: gone })
    };
    let Some(done) = apply(context, ui, plan, |_: &Vec<Utf8PathBuf>| Ok(()))? else { return Ok(Status::Well) };
    let is_certificate = |step: &&Step| matches!(step.role, Role::Certificate(_) | Role::IssuedCertificate);
    let files = done.set.steps.iter().filter(|step| matches!(step.change, Change::File(_)));
    let renewed: Vec<_> = files.filter(is_certificate).map(Step::path).collect();
    for path in &done.about {
        ui.note(&format!("{path} was issued by yandro and is gone: it is not renewed"));
    }
    if ui.json {
        ui.json(&json!({ "version": 1, "renewed": renewed }));
    } else if renewed.is_empty() {
        ui.say(&format!("no certificate ends within {within} days; nothing was changed"));
    } else {
        let mut lines = summary(&done.set, &context.machine.places);
        lines.extend(server_lines(&done.set, &done.servers));
        ui.say(&labelled(&lines));
    }
    Ok(Status::Well)
}
