//! The one way in which commands change something: lock, plan, preview or carry out.

use yandro_core::plan::ChangeSet;
use yandro_core::site::ServerId;
use yandro_machine::caches;
use yandro_machine::changes::{self, BroughtUp, CarriedOut, CarryOutError, Keep};

use super::prove::{ProofFailed, not_proven};
use crate::context::{Context, now, stamp};
use crate::error::{self, CommandError};
use crate::passphrase;
use crate::sudo::Sudo;
use crate::view::{Ui, change};

/// How often a change is planned again because something else changed a file meanwhile.
const ATTEMPTS: usize = 5;

/// What a command plans, and what it wants to know again afterwards.
pub(crate) struct Planned<T> {
    pub(crate) set: ChangeSet,
    /// Whether a server that doesn't run is to be started.
    pub(crate) starts: bool,
    pub(crate) about: T,
}

/// What was carried out.
pub(crate) struct Done<T> {
    pub(crate) set: ChangeSet,
    pub(crate) brought_up: Vec<(ServerId, BroughtUp)>,
    pub(crate) about: T,
}

/// Plans and carries out; with `--preview` prints the plan instead and gives `None`.
pub(crate) fn apply<T>(
    context: &Context,
    ui: &mut Ui,
    mut plan: impl FnMut() -> Result<Planned<T>, CommandError>,
    mut prove: impl FnMut(&T) -> Result<(), ProofFailed>,
) -> Result<Option<Done<T>>, CommandError> {
    // A key behind a passphrase is opened only if something has to be signed.
    let mut plan = || match plan() {
        Err(error) if error.is_locked && context.machine.passphrase().is_none() => {
            passphrase::unlock(context)?;
            plan()
        }
        planned => planned,
    };
    let running = caches::running(&context.machine);
    let hosts = &context.machine.places.hosts;
    if context.preview {
        let mut set = plan()?.set;
        set.flush_after(hosts, &running);
        set.refresh_after(|path| context.machine.places.inside(path));
        change::preview(ui, &set);
        return Ok(None);
    }
    let lock = context.lock(ui)?;
    let sudo = Sudo::new(context, ui.is_quiet());
    let mut attempts = 0;
    loop {
        let Planned { mut set, starts, about } = plan()?;
        set.command.clone_from(&context.command);
        set.flush_after(hosts, &running);
        set.refresh_after(|path| context.machine.places.inside(path));
        // A server that doesn't run is not started to be told that it has less to do.
        set.servers.retain(|server| starts || !context.machine.is_real() || context.runs(*server));
        let controls = context.controls_of(&set.servers)?;
        let controls: Vec<_> = controls.iter().map(|(kind, control)| (*kind, control.as_ref())).collect();
        attempts += 1;
        match changes::carry_out(&context.machine, &lock, &set, &controls, &sudo, stamp(now()), || prove(&about)) {
            Ok(CarriedOut { brought_up, unflushed }) => {
                set.flush.retain(|cache| unflushed.iter().all(|(other, _)| other != cache));
                for (cache, words) in &unflushed {
                    ui.note(&format!(
                        "{} may still give old answers ({words}); have it forget them: {}",
                        cache.title(),
                        cache.typed()
                    ));
                }
                let history = &context.settings.history;
                changes::prune(
                    &context.machine,
                    Keep { number: history.number, days: history.days },
                    now().unix_timestamp(),
                );
                return Ok(Some(Done { set, brought_up, about }));
            }
            Err(CarryOutError::ChangedMeanwhile(_)) if attempts < ATTEMPTS => {}
            Err(error) => return Err(error::carry_out(error, |failed| not_proven(failed, ui.verbose))),
        }
    }
}
