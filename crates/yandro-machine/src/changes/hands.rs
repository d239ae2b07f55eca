//! The actor of a step: this process, or a helper that runs as root.

use std::cell::RefCell;
use std::io::ErrorKind::{BrokenPipe, UnexpectedEof};
use std::process::Command;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Cache, ServerId, StoreKind, TrustChange, TrustStore, Wish};

use super::control::ControlError;
use super::control::{OnWait, ServerAction, ServerControl};
use super::link;
use super::privileged::{Asked, ControlVerb, Helper, HelperAnswer, PathState, Refusal, Request};
use crate::caches;
use crate::caller;
use crate::files::{self, Attributes, FileError};
use crate::machine::Machine;
use crate::os;
use crate::php;
use crate::resolver;
use crate::trust::{self, stores};

/// How to start a process as root that runs [`super::serve_privileged`].
pub trait Escalate {
    /// The command to start it with, after the user was shown the steps that need root;
    /// `None` if there is no way.
    fn command(&self, paths: &[Utf8PathBuf], reach: Reach) -> Option<Command>;
}

/// The rights that root is needed for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// Only files.
    Files,
    /// Files, and the control of a web server.
    Server,
    /// The server of a database.
    Database,
    /// php-fpm.
    Php,
}

/// No way to become root: what may not be written fails.
#[derive(Debug)]
pub struct NoEscalation;

impl Escalate for NoEscalation {
    fn command(&self, _: &[Utf8PathBuf], _: Reach) -> Option<Command> {
        None
    }
}

/// How the helper writes a file.
#[derive(Clone, Copy, PartialEq, Eq)]
enum WriteManner {
    /// A new file takes the old one's place.
    Whole,
    /// Into the file that is there.
    InPlace,
}

/// Does steps, with the helper's hands where its own may not.
pub(super) struct Hands<'a> {
    escalate: &'a dyn Escalate,
    on_wait: OnWait<'a>,
    helper: RefCell<Option<Helper>>,
}

impl<'a> Hands<'a> {
    pub(super) fn new(escalate: &'a dyn Escalate, on_wait: OnWait<'a>) -> Self {
        Self { escalate, on_wait, helper: RefCell::new(None) }
    }

    /// Starts the helper for these paths, and for the rest of its reach.
    /// `false` if it can't be started, or was refused.
    pub(super) fn prepare(&self, paths: &[Utf8PathBuf], reach: Reach) -> bool {
        let mut helper = self.helper.borrow_mut();
        if helper.is_none() {
            *helper = self.escalate.command(paths, reach).and_then(|command| Helper::start(command).ok());
        }
        helper.is_some()
    }

    /// Has caches forget their answers; gives those that didn't, with the words of what failed.
    pub(super) fn flush(&self, caches: &[Cache]) -> Vec<(Cache, ControlError)> {
        let has_helper = self.helper.borrow().is_some();
        let flushed = |cache| {
            if has_helper { self.told(&Request::Flush { cache }) } else { Ok(caches::flush(cache)?) }
        };
        caches.iter().filter_map(|&cache| Some((cache, flushed(cache).err()?))).collect()
    }

    /// Has the php-fpm of a version read its pools again.
    pub(super) fn reload_php(&self, machine: &Machine, version: &str) -> Result<(), ControlError> {
        if os::is_root() {
            return php::reload(machine, version);
        }
        self.told(&Request::ReloadPhp { version: version.to_owned() })
    }

    /// Runs the trust store's program.
    pub(super) fn refresh(&self, store: TrustStore) -> Result<(), ControlError> {
        let has_helper = self.helper.borrow().is_some();
        if has_helper { self.told(&Request::Refresh { store }) } else { Ok(trust::refresh(store)?) }
    }

    /// Puts a root into a trust store that a program keeps, or takes it out.
    pub(super) fn trust(&self, machine: &Machine, change: &TrustChange) -> Result<(), FileError> {
        if change.kind != StoreKind::Java || may_write(&change.store) {
            return Ok(stores::carry_out(machine, change)?);
        }
        let request = Request::Trust { change: Box::new(change.clone()) };
        match self.ask(&change.store, &request)? {
            HelperAnswer::Refused { words } => Err(FileError::at(&change.store)(std::io::Error::other(words))),
            _ => Ok(()),
        }
    }

    /// The helper does this, and says nothing but that it is done.
    pub(super) fn told(&self, request: &Request) -> Result<(), ControlError> {
        match self.ask(Utf8Path::new("sudo"), request)? {
            HelperAnswer::Refused { words } => Err(ControlError::Said(words)),
            _ => Ok(()),
        }
    }

    /// Has the helper plan what is wanted; gives what it does not do on this user's word.
    pub(super) fn plan(&self, wish: Wish, asked: Vec<Asked>) -> Result<Vec<Refusal>, FileError> {
        let path = asked.first().map_or_else(|| Utf8PathBuf::from("sudo"), |asked| asked.path.clone());
        match self.ask(&path, &Request::Plan { wish: Box::new(wish), asked })? {
            HelperAnswer::Objections { refusals } => Ok(refusals),
            HelperAnswer::Refused { words: why } => Ok(vec![Refusal { path, why }]),
            _ => Ok(Vec::new()),
        }
    }

    pub(super) fn ask(&self, path: &Utf8Path, request: &Request) -> Result<HelperAnswer, FileError> {
        let paths = [path.to_owned()];
        if !self.prepare(&paths, Reach::Files) {
            return Err(FileError::at(path)(std::io::ErrorKind::PermissionDenied.into()));
        }
        tracing::debug!(target: "sudo", "asked for {path}");
        let mut helper = self.helper.borrow_mut();
        let answer = helper.as_mut().expect("it was prepared").ask(request, self.on_wait);
        if answer.as_ref().is_err_and(|error| matches!(error.kind(), UnexpectedEof | BrokenPipe)) {
            // It has ended; the rollback needs another one.
            *helper = None;
        }
        answer.map_err(FileError::at(path))
    }

    /// See [`files::write`].
    pub(super) fn write(
        &self,
        path: &Utf8Path,
        content: &[u8],
        attributes: &Attributes,
        tag: &str,
        before_in_place: impl Fn() -> Result<(), FileError>,
    ) -> Result<(), FileError> {
        if may_change(path) || may_write(path) {
            resolver::make_folder_for(path).map_err(FileError::at(path))?;
            return files::write(path, content, attributes, tag, before_in_place).map(|_| ());
        }
        let to = PathState::of_file(Some(content));
        if self.change(path, &to, tag, WriteManner::Whole)? == HelperAnswer::OnlyInPlace {
            before_in_place()?;
            self.change(path, &to, tag, WriteManner::InPlace)?;
        }
        Ok(())
    }

    fn change(
        &self,
        path: &Utf8Path,
        to: &PathState,
        tag: &str,
        manner: WriteManner,
    ) -> Result<HelperAnswer, FileError> {
        let in_place = manner == WriteManner::InPlace;
        let request = Request::Change { path: path.to_owned(), to: to.clone(), tag: tag.to_owned(), in_place };
        self.ask(path, &request)
    }

    /// Removes a file or a link.
    pub(super) fn remove(&self, path: &Utf8Path, tag: &str) -> Result<(), FileError> {
        if !may_change(path) {
            return self.change(path, &PathState::Absent, tag, WriteManner::Whole).map(|_| ());
        }
        let _rights = caller::rights_for(path);
        os::remove_file(files::follow_folder(path)).map_err(FileError::at(path))?;
        tracing::debug!(target: "remove", "{path}");
        files::sync_folder_of(path)?;
        resolver::remove_folder_of(path);
        Ok(())
    }

    /// Removes the temporary file that an interrupted step may have left for `path`.
    pub(super) fn remove_left(&self, path: &Utf8Path, tag: &str) {
        let left = files::temporary(path, tag);
        if files::follow_folder(&left).symlink_metadata().is_err() {
            return;
        }
        // A step that can't be done for it fails by itself.
        if may_change(&left) {
            let _rights = caller::rights_for(&left);
            _ = os::remove_file(files::follow_folder(&left));
        } else {
            _ = self.ask(path, &Request::Clean { path: path.to_owned(), tag: tag.to_owned() });
        }
    }

    /// Makes a link lead to `target`, or takes it away.
    pub(super) fn set_link(&self, path: &Utf8Path, target: Option<&Utf8Path>, tag: &str) -> Result<(), FileError> {
        let Some(target) = target else { return self.remove(path, tag) };
        if may_change(path) {
            return link::set_link(path, target, tag);
        }
        self.change(path, &PathState::of_link(Some(target)), tag, WriteManner::Whole).map(|_| ())
    }
}

/// A server's control by the helper.
pub(super) struct Helped<'h, 'e> {
    hands: &'h Hands<'e>,
    kind: ServerId,
    /// The control that needs no root.
    seen: &'h dyn ServerControl,
}

impl<'e> Hands<'e> {
    /// The control of a server by the helper.
    pub(super) fn helped<'h>(&'h self, kind: ServerId, seen: &'h dyn ServerControl) -> Helped<'h, 'e> {
        Helped { hands: self, kind, seen }
    }
}

/// For each control the helper's where root is needed, and the server's own otherwise.
pub(super) fn by_need<'c>(
    controls: &[(ServerId, &'c dyn ServerControl)],
    helped: &'c [Helped<'_, '_>],
) -> Vec<(ServerId, &'c dyn ServerControl)> {
    let chosen = controls.iter().zip(helped).map(|((id, own), helped)| -> (ServerId, &dyn ServerControl) {
        if own.needs_root() { (*id, helped) } else { (*id, *own) }
    });
    chosen.collect()
}

impl Helped<'_, '_> {
    fn told(&self, verb: ControlVerb) -> Result<HelperAnswer, ControlError> {
        match self.hands.ask(Utf8Path::new("sudo"), &Request::Control { server: self.kind, verb })? {
            HelperAnswer::Refused { words } => Err(ControlError::Said(words)),
            answer => Ok(answer),
        }
    }
}

/// The helper tells by itself what takes long.
impl ServerControl for Helped<'_, '_> {
    fn test(&self) -> Result<(), ControlError> {
        self.told(ControlVerb::Test).map(|_| ())
    }

    fn is_running(&self) -> bool {
        self.seen.is_running()
    }

    fn needs_root(&self) -> bool {
        false
    }

    fn wait_until_idle(&self, on_wait: OnWait<'_>) {
        self.seen.wait_until_idle(on_wait);
    }

    fn reload(&self, _: OnWait<'_>) -> Result<(), ControlError> {
        self.told(ControlVerb::Reload).map(|_| ())
    }

    fn start_or_reload(&self, _: OnWait<'_>) -> Result<ServerAction, ControlError> {
        match self.told(ControlVerb::StartOrReload)? {
            HelperAnswer::Server(action) => Ok(action),
            _ => Err(ControlError::Said("the helper under sudo gave another answer than expected".into())),
        }
    }

    fn start(&self, _: OnWait<'_>) -> Result<(), ControlError> {
        self.told(ControlVerb::Start).map(|_| ())
    }

    fn stop(&self, _: OnWait<'_>) -> Result<(), ControlError> {
        self.told(ControlVerb::Stop).map(|_| ())
    }
}

/// Controls a server, with the help of root where that is needed. `None` when this user may not, and
/// root was not to be had.
pub fn with_rights<T>(
    id: ServerId,
    control: &dyn ServerControl,
    escalate: &dyn Escalate,
    on_wait: OnWait<'_>,
    work: impl FnOnce(&dyn ServerControl) -> T,
) -> Option<T> {
    if !control.needs_root() {
        return Some(work(control));
    }
    let hands = Hands::new(escalate, on_wait);
    hands.prepare(&[], Reach::Server).then(|| work(&hands.helped(id, control)))
}

/// Whether this process may make, rename and remove in the folder of a path.
pub(super) fn may_change(path: &Utf8Path) -> bool {
    let path = files::follow_folder(path);
    let folder = path.ancestors().skip(1).find(|folder| folder.exists()).unwrap_or(Utf8Path::new("/"));
    os::may_write(folder).is_ok()
}

/// Whether this process may write a file that exists.
pub(super) fn may_write(path: &Utf8Path) -> bool {
    files::follow(path).is_ok_and(|path| os::may_write(&path).is_ok())
}
