//! The only way for commands to change something: lock, plan, preview or apply.

use yandro_core::{Cache, ChangeSet, DEFAULT_ADDRESS, Role, ServerId};
use yandro_machine::{CarriedOut, CarryOutError, ControlError, Keep, ServerAction, Tools, caches, changes, markers};

use super::consent;
use super::prove::{ProofFailed, not_proven};
use super::serve::names;
use crate::context::{Context, now, stamp};
use crate::error::{self, CommandError};
use crate::passphrase;
use crate::sudo::Sudo;
use crate::view::change::{labelled, server_lines, summary};
use crate::view::{Ui, count, on_wait, progress};

/// How often a change is planned again because something else changed a file meanwhile.
const ATTEMPTS: usize = 5;

/// A command's plan, with the data that it needs again afterwards.
pub(crate) struct Planned<T> {
    pub(crate) set: ChangeSet,
    /// Whether a server that doesn't run is to be started.
    pub(crate) starts: bool,
    pub(crate) about: T,
}

/// The result of an applied plan.
pub(crate) struct Done<T> {
    pub(crate) set: ChangeSet,
    pub(crate) servers: Vec<(ServerId, ServerAction)>,
    pub(crate) about: T,
}

impl<T> Done<T> {
    /// The changes and the servers' reloads, as lines with labels.
    pub(crate) fn summary(&self, context: &Context) -> String {
        let mut lines = summary(&self.set, &context.machine.places);
        lines.extend(server_lines(&self.set, &self.servers));
        labelled(&lines)
    }
}

/// The result of a plan.
pub(crate) enum Applied<T> {
    /// It was applied.
    Done(Box<Done<T>>),
    /// With `--preview`: what would be done.
    Preview(Box<ChangeSet>),
}

/// The result of an applied plan; a preview ends the command.
macro_rules! done {
    ($applied:expr) => {
        match $applied? {
            crate::commands::apply::Applied::Done(done) => *done,
            crate::commands::apply::Applied::Preview(set) => return Ok(crate::view::change::preview(*set)),
        }
    };
}
pub(crate) use done;

/// Plans and applies; with `--preview` only plans.
pub(crate) fn apply<T>(
    context: &Context,
    ui: &mut Ui,
    mut plan: impl FnMut() -> Result<Planned<T>, CommandError>,
    mut prove: impl FnMut(&T) -> Result<(), ProofFailed>,
) -> Result<Applied<T>, CommandError> {
    // A key behind a passphrase is opened only if something has to be signed.
    let mut plan = || match plan() {
        Err(error) if error.is_locked && context.keys.passphrase().is_none() => {
            passphrase::unlock(&context.machine, &context.keys)?;
            plan()
        }
        Err(error) if error.code == error::NAME_SERVERS && !context.preview => {
            let hints = error.hints.join("; ");
            consent::ask(&error.message, "Put it there?", &hints)?;
            context.machine.write_private(&context.machine.places.agreed_name_servers(), b"")?;
            plan()
        }
        planned => planned,
    };
    let running = caches::running(&context.machine);
    let places = &context.machine.places;
    // Caches, trust store and order follow from the steps; a preview and the change itself share this.
    let complete = |set: &mut ChangeSet| {
        set.command.clone_from(&context.command);
        markers::note(&context.machine, set);
        set.flush_after(&places.hosts, &running);
        set.refresh_after(|path| places.inside(path));
        set.order_by_phase();
    };
    let _work = ui.work("planning");
    if context.preview {
        let mut set = plan()?.set;
        complete(&mut set);
        return Ok(Applied::Preview(Box::new(set)));
    }
    let lock = context.lock(ui)?;
    let sudo = Sudo::new(&context.machine, ui.is_quiet());
    let mut attempts = 0;
    loop {
        let Planned { mut set, starts, about } = plan()?;
        complete(&mut set);
        // A stopped server is not started only because a site is removed.
        set.servers.retain(|server| starts || !context.machine.is_real() || context.runs(*server));
        let controls = context.controls_of(&set.servers)?;
        let controls: Vec<_> = controls.iter().map(|(kind, control)| (*kind, control.as_ref())).collect();
        attempts += 1;
        let on_wait = on_wait(ui.is_quiet());
        let tools = Tools {
            machine: &context.machine,
            lock: &lock,
            servers: &controls,
            usual_server: context.server_of(None, DEFAULT_ADDRESS).unwrap_or(ServerId::BuiltIn),
            escalate: &sudo,
            on_wait: &on_wait,
            at: stamp(now()),
        };
        progress::now(&writing(&set));
        let mut of_names = None;
        let proven = || {
            // Names below sites are resolved before they are asked for.
            let is_of_services = set.steps.iter().any(|step| step.role == Role::Service);
            of_names = if context.machine.is_real() && !is_of_services { names::follow_list(context) } else { None };
            prove(&about)
        };
        match changes::carry_out(&tools, &set, proven) {
            Ok(CarriedOut { servers, unflushed }) => {
                ui.note_later(of_names.take());
                tell_unflushed(&mut set, &unflushed, ui);
                prune(context);
                return Ok(Applied::Done(Box::new(Done { set, servers, about })));
            }
            Err(CarryOutError::ChangedMeanwhile(_)) if attempts < ATTEMPTS => {}
            Err(error) => return Err(error::carry_out(error, |failed| not_proven(failed, ui.verbose))),
        }
    }
}

fn writing(set: &ChangeSet) -> String {
    let servers: Vec<String> = set.servers.iter().map(ToString::to_string).collect();
    match &servers[..] {
        [] => format!("writing {}", count(set.steps.len(), "file")),
        servers => format!("writing {}, reloading {}", count(set.steps.len(), "file"), servers.join(" and ")),
    }
}

/// Names the caches that could not be emptied, and takes them out of the set.
fn tell_unflushed(set: &mut ChangeSet, unflushed: &[(Cache, ControlError)], ui: &mut Ui) {
    set.flush.retain(|cache| unflushed.iter().all(|(other, _)| other != cache));
    for (cache, words) in unflushed {
        let (title, command) = (cache.title(), cache.typed());
        ui.note(&if cache.is_of_settings() {
            format!("{title} did not read its settings again ({words}); have it do so: {command}")
        } else {
            format!("{title} may still give old answers ({words}); have it forget them: {command}")
        });
    }
}

/// Drops records that are older or more than the settings keep.
fn prune(context: &Context) {
    let history = &context.settings.history;
    let keep = Keep { number: history.number, days: history.days };
    changes::prune(&context.machine, keep, now().unix_timestamp());
}
