//! `yandro cert renew`.

use serde_json::json;
use yandro_core::plan::{Step, renew as plan_renewal};
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
        let set = plan_renewal(observed, &list, &mut SystemFresh::new()).map_err(|failed| {
            let (name, error) = *failed;
            let mut command = CommandError::from(error);
            command.message = format!("the certificate of `{name}` can't be renewed: {}", command.message);
            command
        })?;
        Ok(Planned { set, starts: false, about: () })
    };
    let Some(done) = apply(context, ui, plan, |()| Ok(()))? else { return Ok(Status::Well) };
    let chains = done.set.steps.iter().filter(|step| step.path().file_name() == Some("fullchain.pem"));
    let renewed: Vec<_> = chains.map(Step::path).collect();
    if ui.json {
        ui.json(&json!({ "version": 1, "renewed": renewed }));
    } else if renewed.is_empty() {
        ui.say(&format!("no certificate ends within {within} days; nothing was changed"));
    } else {
        let mut lines = summary(&done.set, &context.machine.places);
        lines.extend(server_lines(&done.set, &done.brought_up));
        ui.say(&labelled(&lines));
    }
    Ok(Status::Well)
}
