//! `yandro cert renew`.

use camino::Utf8PathBuf;
use yandro_core::{Change, Role, Step, renew as plan_renewal};
use yandro_machine::SystemFresh;

use crate::commands::apply::{Planned, apply, done};
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::view::{Data, Outcome, Ui, data};

pub(super) fn renew<'c>(context: &'c Context, within: i64, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let plan = || {
        let (text, list) = context.list()?;
        let mut observed = context.observer().observe_all(text, &list, now())?;
        observed.wishes.renew_within = within;
        let set = plan_renewal(&mut observed, &list, &mut SystemFresh::new())?;
        // A file that was noted and is gone is nothing to renew.
        let gone = observed.issued.iter().filter(|own| own.chain.is_none()).map(|own| own.path.clone()).collect();
        Ok(Planned { set, starts: false, about: gone })
    };
    let done = done!(apply(context, ui, plan, |_: &Vec<Utf8PathBuf>| Ok(())));
    let is_certificate = |step: &&Step| matches!(step.role, Role::Certificate(_) | Role::IssuedCertificate);
    let files = done.set.steps.iter().filter(|step| matches!(step.change, Change::File(_)));
    let renewed = files.filter(is_certificate).map(|step| step.path().to_string()).collect();
    for path in &done.about {
        ui.note(&format!("{path} was issued by yandro and is gone: it is not renewed"));
    }
    Ok(Outcome::new(Renewed { renewed }, move |data, ui| {
        ui.say(&if data.renewed.is_empty() {
            format!("no certificate ends within {within} days; nothing was changed")
        } else {
            done.summary(context)
        });
    }))
}

data! {
    /// Data of `yandro cert renew`.
    struct Renewed {
        /// The files that were written.
        renewed: Vec<String>,
    }
}

impl Data for Renewed {}
