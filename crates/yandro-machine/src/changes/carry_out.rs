//! Applying a change set: record, steps, the servers' tests and reloads, the proof.

use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Cache, Change, ChangeSet, FileChange, Opened, Phase, Role, ServerId, Step, StoreKind};

use super::control::ControlError;
use super::control::{Controls, OnWait, ServerAction};
use super::hands::Reach;
use super::hands::{Escalate, Hands, Helped, by_need, may_change, may_write};
use super::lock::Lock;
use super::originals;
use super::privileged::{self, Refusal};
use super::put_back::{PutBackError, RolledBack, TouchedServers, put_back};
use super::record::Record;
use super::records;
use super::steps::{StepsWork, Stopped, clean_up};
use crate::database::{self, DatabaseError};
use crate::files::{self, FileError};
use crate::interrupt;
use crate::machine::Machine;
use crate::os;
use crate::permissions;
use crate::ports::{self, Holder};
use crate::trust::stores;

/// Everything it takes to apply a change. The lock is held from before the machine was observed.
pub struct Tools<'t> {
    /// Where the files are.
    pub machine: &'t Machine,
    /// Keeps other runs of yandro out until it is dropped.
    pub lock: &'t Lock,
    /// The control of every server that the change set names.
    pub servers: &'t Controls<'t>,
    /// The server of sites that name none.
    pub usual_server: ServerId,
    /// The way to root.
    pub escalate: &'t dyn Escalate,
    /// Tells the user what takes long.
    pub on_wait: OnWait<'t>,
    /// The time, RFC 3339.
    pub at: String,
}

/// The result of an applied change set, apart from its steps.
#[derive(Debug, Default)]
pub struct CarriedOut {
    /// The action for each server whose configuration changed.
    pub servers: Vec<(ServerId, ServerAction)>,
    /// The caches that didn't forget, with the words of the program that failed.
    pub unflushed: Vec<(Cache, ControlError)>,
}

/// Reason why a change set was not applied.
#[derive(Debug)]
pub enum CarryOutError<E> {
    /// This user may not do all of it. Nothing was changed.
    NotPermitted {
        /// The paths that can't be written.
        paths: Vec<Utf8PathBuf>,
        /// Whether the server may not be tested and reloaded, either.
        server: bool,
    },
    /// Root does not do this on an ordinary user's word; the user can do it as root. Nothing was changed.
    NeedsRoot(Vec<Refusal>),
    /// Nobody can write this. Nothing was changed.
    Unwritable(FileError),
    /// This was changed by somebody else since it was read. Nothing was changed.
    ChangedMeanwhile(Utf8PathBuf),
    /// A server would listen on a port that another program has. Nothing was changed.
    PortHeld {
        /// The server that would listen.
        server: ServerId,
        /// The process that has the port.
        holder: Box<Holder>,
    },
    /// A step failed, and what had been done was rolled back, or not.
    Failed {
        /// The failure.
        cause: StepFailure<E>,
        /// Whether everything is as it was, and what became of the servers.
        put_back: Result<RolledBack, PutBackError>,
    },
}

/// Why a step was not carried out.
#[derive(Debug)]
pub enum StepFailure<E> {
    /// A file operation.
    File(FileError),
    /// The server refused its configuration, in its own words.
    Test(ControlError),
    /// It refused it before anything was changed, too.
    BrokenBefore(ControlError),
    /// The server was not reloaded or started, in its own words.
    BringUp(ControlError),
    /// php-fpm refused its pools, or didn't come up with them.
    Php(ControlError),
    /// The trust store's program failed, with its message.
    Trust(ControlError),
    /// The database of the application.
    Database(DatabaseError),
    /// A signal asked the process to end.
    Interrupted,
    /// The proof.
    Proof(E),
}

impl<E> From<Stopped> for StepFailure<E> {
    fn from(stopped: Stopped) -> Self {
        match stopped {
            Stopped::File(error) => Self::File(error),
            Stopped::Database(error) => Self::Database(error),
            Stopped::Interrupted => Self::Interrupted,
        }
    }
}

/// Applies a change set: record, steps, the server's test, its reload, the proof. Its steps are in
/// the order of their phases ([`ChangeSet::order_by_phase`]).
///
/// # Errors
/// A [`CarryOutError`]; in every case but a failed rollback, everything is as it was.
pub fn carry_out<E>(
    tools: &Tools<'_>,
    set: &ChangeSet,
    prove: impl FnOnce() -> Result<(), E>,
) -> Result<CarriedOut, CarryOutError<E>> {
    let machine = tools.machine;
    if let Some(step) = set.steps.iter().find(|step| !is_as_observed(machine, step)) {
        return Err(CarryOutError::ChangedMeanwhile(step.path().to_owned()));
    }
    if set.is_empty() {
        return prove().map(|()| CarriedOut::default()).map_err(|seen| untouched(StepFailure::Proof(seen)));
    }
    let hands = Hands::new(tools.escalate, tools.on_wait);
    let named = |id: &ServerId| tools.servers.iter().find(|(other, _)| other == id).copied();
    let controls: Vec<_> = set.servers_in_order().iter().filter_map(named).collect();
    get_rights(tools, set, &hands, &controls)?;
    ports_are_free(set, &controls)?;
    let ran: Vec<ServerId> = controls.iter().filter(|(_, server)| server.is_running()).map(|(id, _)| *id).collect();
    let helped: Vec<Helped<'_, '_>> = controls.iter().map(|(id, control)| hands.helped(*id, *control)).collect();
    let controls = by_need(&controls, &helped);

    // From here on a signal is answered by a rollback.
    let _held = interrupt::HeldSignals::new();
    for (_, server) in &controls {
        server.wait_until_idle(tools.on_wait);
    }
    let history = machine.history();
    let record = begin(tools, set, &ran).map_err(|error| untouched(StepFailure::File(error)))?;
    let work = StepsWork { machine, hands: &hands, record: &record, set };
    let mut actions = Vec::new();
    let mut unflushed = Vec::new();
    let done = (|| {
        work.do_steps(Phase::BeforeReload)?;
        if machine.is_real() {
            for version in Role::php_versions(set.steps.iter().map(|step| &step.role)) {
                hands.reload_php(machine, version).map_err(StepFailure::Php)?;
            }
        }
        test_and_reload(tools, set, &controls, &mut actions)?;
        work.do_steps(Phase::AfterReload)?;
        if machine.is_real()
            && let Some(store) = set.trust
        {
            hands.refresh(store).map_err(StepFailure::Trust)?;
        }
        unflushed = hands.flush(&set.flush);
        prove().map_err(StepFailure::Proof)?;
        record.finish(&history).map_err(StepFailure::File)
    })();
    match done {
        Ok(()) => {
            clean_up(machine, &record, &history);
            Ok(CarriedOut { servers: actions, unflushed })
        }
        Err(cause) => {
            let touched: Vec<_> = controls.iter().take(actions.len()).copied().collect();
            let servers = TouchedServers { touched: &touched, ran: &ran, is_own_process: true };
            let put_back = put_back(machine, &hands, &record, &servers, tools.on_wait);
            let cause = if put_back.is_ok() { blamed(cause, &controls) } else { cause };
            Err(CarryOutError::Failed { cause, put_back })
        }
    }
}

/// A failure before anything was changed.
fn untouched<E>(cause: StepFailure<E>) -> CarryOutError<E> {
    CarryOutError::Failed { cause, put_back: Ok(RolledBack::default()) }
}

/// The cause, or that a server's test fails after the rollback as well: its configuration was broken before.
fn blamed<E>(cause: StepFailure<E>, controls: &Controls<'_>) -> StepFailure<E> {
    let StepFailure::Test(_) = cause else { return cause };
    let again = controls.iter().find_map(|(_, server)| server.test().err());
    again.map_or(cause, StepFailure::BrokenBefore)
}

/// Why nobody can write a path; `None` if root can.
fn obstacle(path: &Utf8Path) -> Option<FileError> {
    let real = files::follow(path).unwrap_or_else(|_| path.to_owned());
    files::obstacle(&real).or_else(|| {
        let is_root = os::is_root();
        is_root.then(|| FileError::at(path)(std::io::ErrorKind::PermissionDenied.into()))
    })
}

/// Makes sure that everything may be done, with the help of root where it takes that.
fn get_rights<E>(
    tools: &Tools<'_>,
    set: &ChangeSet,
    hands: &Hands<'_>,
    controls: &Controls<'_>,
) -> Result<(), CarryOutError<E>> {
    let needs_root = controls.iter().any(|(_, server)| server.needs_root());
    let others = others_rights(set);
    if !others.is_empty() {
        return Err(CarryOutError::NotPermitted { paths: others, server: false });
    }
    let forbidden = forbidden(set);
    if let Some(error) = forbidden.iter().find_map(|path| obstacle(path)) {
        return Err(CarryOutError::Unwritable(error));
    }
    let asked = privileged::asked(set, &forbidden);
    // Within a sysroot nothing is root's.
    let is_planned = tools.machine.is_real() && !asked.is_empty();
    let wish = is_planned.then(|| privileged::wish(tools.machine, set, tools.usual_server));
    if let Some(wish) = &wish {
        // Before a password is asked for in vain.
        let refusals = privileged::objections(wish, &asked);
        if !refusals.is_empty() {
            return Err(CarryOutError::NeedsRoot(refusals));
        }
    }
    let reach = if needs_root { Reach::Server } else { Reach::Files };
    if (!forbidden.is_empty() || needs_root) && !hands.prepare(&forbidden, reach) {
        return Err(CarryOutError::NotPermitted { paths: forbidden, server: needs_root });
    }
    if let Some(wish) = wish {
        let refusals = hands.plan(wish, asked).map_err(CarryOutError::Unwritable)?;
        if !refusals.is_empty() {
            return Err(CarryOutError::NeedsRoot(refusals));
        }
    }
    Ok(())
}

/// Refuses a change by which a running server would listen on a port that another program has: Apache
/// httpd ends when it can't. A server that a site moves away from gives its ports up first.
fn ports_are_free<E>(set: &ChangeSet, controls: &Controls<'_>) -> Result<(), CarryOutError<E>> {
    if !set.leaving_servers().is_empty() {
        return Ok(());
    }
    let runs = |id: ServerId| controls.iter().any(|(other, server)| *other == id && server.is_running());
    for opened in set.opens.iter().filter(|opened| runs(opened.server)) {
        if let Some(holder) = holder(opened) {
            return Err(CarryOutError::PortHeld { server: opened.server, holder: Box::new(holder) });
        }
    }
    Ok(())
}

/// The process that keeps a server from opening a port.
fn holder(opened: &Opened) -> Option<Holder> {
    ports::holders(opened.port).into_iter().find(|holder| opened.is_taken_by(holder.address))
}

/// Writes the record, and keeps the originals of files that are changed for the first time.
fn begin(tools: &Tools<'_>, set: &ChangeSet, ran: &[ServerId]) -> Result<Record, FileError> {
    let history = tools.machine.history();
    tools.machine.make_own_folder(&history)?;
    let record = Record::new(records::next_id(&history)?, tools.at.clone(), set, ran)?;
    originals::keep(tools.machine, set)?;
    record.begin(tools.machine, &history)?;
    Ok(record)
}

/// Has every server test its configuration, and then use it. `actions` grows with each server that
/// was begun with, so that a rollback knows them.
fn test_and_reload<E>(
    tools: &Tools<'_>,
    set: &ChangeSet,
    controls: &Controls<'_>,
    actions: &mut Vec<(ServerId, ServerAction)>,
) -> Result<(), StepFailure<E>> {
    for (_, server) in controls {
        server.test().map_err(StepFailure::Test)?;
    }
    for (id, server) in controls {
        if interrupt::came() {
            return Err(StepFailure::Interrupted);
        }
        if server.is_running() {
            wait_for_ports(set, *id).map_err(StepFailure::BringUp)?;
        }
        // Should this fail halfway, the old configuration has to be loaded again, too.
        actions.push((*id, ServerAction::Reloaded));
        let action = server.start_or_reload(tools.on_wait).map_err(StepFailure::BringUp)?;
        if let Some(last) = actions.last_mut() {
            last.1 = action;
        }
    }
    if interrupt::came() { Err(StepFailure::Interrupted) } else { Ok(()) }
}

/// How long a server that a site leaves has to give up its ports once it was reloaded.
const FREED: Duration = Duration::from_secs(10);

/// Waits until nobody has the ports that a server is going to open.
fn wait_for_ports(set: &ChangeSet, id: ServerId) -> Result<(), ControlError> {
    let began = Instant::now();
    for opened in set.opens.iter().filter(|opened| opened.server == id) {
        while let Some(holder) = holder(opened) {
            if began.elapsed() > FREED {
                return Err(ControlError::PortHeld { port: opened.port, holder: Box::new(holder) });
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }
    Ok(())
}

/// The files and links that this user may not write, of those that change.
fn forbidden(set: &ChangeSet) -> Vec<Utf8PathBuf> {
    let mut found: Vec<Utf8PathBuf> = Vec::new();
    for step in &set.steps {
        if let Change::Trust(change) = &step.change {
            let is_roots = change.kind == StoreKind::Java && !may_write(&change.store);
            found.extend(is_roots.then(|| change.store.clone()));
            continue;
        }
        if let Change::EmptyFolder { .. } | Change::Rights(_) | Change::Rows(_) = step.change {
            continue;
        }
        let path = files::follow(step.path()).unwrap_or_else(|_| step.path().to_owned());
        // A file in a folder that may not be written can still be written in place.
        let in_place =
            matches!(step.change, Change::File(FileChange { before: Some(_), after: Some(_), .. })) && may_write(&path);
        if !may_change(&path) && !in_place {
            found.push(step.path().to_owned());
        }
    }
    found
}

/// Files and folders whose rights only another user may change.
fn others_rights(set: &ChangeSet) -> Vec<Utf8PathBuf> {
    let is_others = |path: &Utf8Path| !os::is_root() && os::owner(path).is_ok_and(|owner| owner != os::this_user());
    let is_forbidden = |step: &&Step| match &step.change {
        Change::Rights(change) => is_others(&change.path),
        _ => false,
    };
    set.steps.iter().filter(is_forbidden).map(|step| step.path().to_owned()).collect()
}

/// Whether a path is still as it was when the change set was planned.
fn is_as_observed(machine: &Machine, step: &Step) -> bool {
    match &step.change {
        Change::Folder { .. } | Change::EmptyFolder { .. } => true,
        Change::Rights(change) => permissions::rights_of(&change.path).is_ok_and(|now| now == change.before),
        Change::Trust(change) => stores::is_trusted(machine, change).is_ok_and(|now| now == change.before),
        Change::Rows(change) => database::is_there(change),
        Change::File(change) => files::holds(&change.path, change.before.as_deref().map(Vec::as_slice)),
        Change::Link(change) => files::read_link_if_there(&change.path).is_ok_and(|now| now == change.before),
    }
}
