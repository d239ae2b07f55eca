//! `yandro servers start`, `stop`, `reload`, `restart` and `test` of the built-in server.

use yandro_core::ServerId;

use super::{Controlled, Tested, Verb, tell_tested};
use crate::commands::serve::{background, served};
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::{Outcome, STRONG, Ui};

/// Whether a server that was named is the built-in one.
pub(super) fn is_meant(name: Option<&str>) -> bool {
    name == Some(ServerId::BuiltIn.word())
}

/// Whether it takes the site list as it is.
pub(super) fn test(context: &Context) -> Outcome<'_> {
    let judged = context.enabled().and_then(|list| served(context, &list));
    let status = if judged.is_ok() { Status::Well } else { Status::Findings };
    let words = judged.err().map(|error| error.message);
    let data = Tested { server: ServerId::BuiltIn.word().to_owned(), well: words.is_none(), words };
    Outcome::new(data, tell_tested).with(status)
}

pub(super) fn control<'c>(context: &'c Context, verb: Verb, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = ServerId::BuiltIn.word();
    if context.preview {
        let state = if background::runs(context) { "runs" } else { "doesn't run" };
        ui.say(&format!("Nothing was done: this was a preview. {name} {state}"));
        return Ok(Outcome::printed());
    }
    let mut note = None;
    let done = match verb {
        Verb::Start => {
            let running = background::start(context)?;
            note = background::told(running);
            if running == background::Running::Already { "runs already" } else { "was started" }
        }
        Verb::Stop if background::stop(context)? => "was stopped",
        Verb::Stop => "doesn't run",
        Verb::Restart => {
            background::stop(context)?;
            note = background::told(background::start(context)?);
            "was restarted"
        }
        Verb::Reload if background::runs(context) => "has what the site list says: it takes up every change by itself",
        Verb::Reload => {
            return Err(CommandError::not_made("the built-in server doesn't run")
                .hint("start it: yandro servers start built-in"));
        }
    };
    let running = Some(background::runs(context));
    Ok(Outcome::new(Controlled { server: name.to_owned(), running }, move |data, ui| {
        ui.say(&format!("{STRONG}{}{STRONG:#} {done}", data.server));
        if let Some(note) = note {
            ui.note(&note);
        }
    }))
}
