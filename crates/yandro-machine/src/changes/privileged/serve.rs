//! The helper's end.

use std::cell::RefCell;
use std::io::{self, BufRead as _, BufReader, Read as _, Write};

use camino::Utf8Path;
use yandro_core::{NewDatabase, ServerId};

use super::databases;
use super::kept::Kept;
use super::permits::{Permits, Target, has_own_certificate, judge};
use super::taken_back::{is_taken_back, last_written};
use super::trusted;
use super::way::check_way;
use super::{ControlVerb, HelperAnswer, LONGEST, PathState, Request, failed, refused};
use crate::caches;
use crate::changes::ControlError;
use crate::changes::control::{OnWait, ServerControl as _};
use crate::changes::{link, lock};
use crate::files::{self, Attributes};
use crate::interrupt;
use crate::machine::Machine;
use crate::os::{self, UserId};
use crate::php;
use crate::process::ProgramError;
use crate::resolver;
use crate::servers::Control;
use crate::trust;

/// Does what it is asked for until nobody is there any more: on standard input, or on the pipe of this name (Windows).
/// Runs as root; `caller` is the number of the user who called sudo, and root itself without one. On Windows it is the
/// user whose program made the pipe.
///
/// # Errors
/// When it isn't root, the caller is gone, or a request doesn't end.
pub fn serve_privileged(pipe: Option<&str>, caller: Option<UserId>) -> io::Result<()> {
    if !os::is_root() {
        return Err(io::ErrorKind::PermissionDenied.into());
    }
    let os::HelperStreams { input, mut output, caller: asking } = os::helper_streams(pipe)?;
    let caller = asking.or(caller);
    interrupt::ignore();
    lock::make();
    // It is only about room on the disk.
    _ = Kept::prune();
    let mut session =
        HelperSession { caller: caller.unwrap_or_else(os::this_user), permits: Permits::new(), kept: Kept::read() };
    let mut input = BufReader::new(input);
    let output = RefCell::new(&mut output);
    let say = |answer: &HelperAnswer| {
        let mut line = serde_json::to_vec(answer)?;
        line.push(b'\n');
        let mut output = output.borrow_mut();
        output.write_all(&line)?;
        output.flush()
    };
    say(&HelperAnswer::Ready)?;
    // A caller that is gone shows at the next answer.
    let on_wait = |what: &str| _ = say(&HelperAnswer::Waiting { what: what.to_owned() });
    loop {
        let mut line = String::new();
        if input.by_ref().take(LONGEST).read_line(&mut line)? == 0 {
            return Ok(());
        }
        if !line.ends_with('\n') {
            return Err(io::ErrorKind::InvalidInput.into());
        }
        let answer = match serde_json::from_str(&line) {
            Ok(request) => session.answer(&request, &on_wait),
            Err(error) => refused(format!("this is not a request: {error}")),
        };
        say(&answer)?;
    }
}

/// A session of the helper with one user.
struct HelperSession {
    caller: UserId,
    permits: Permits,
    kept: Kept,
}

impl HelperSession {
    fn answer(&mut self, request: &Request, on_wait: OnWait<'_>) -> HelperAnswer {
        let done = match request {
            Request::Plan { wish, asked } => {
                let (permits, refusals) = judge(wish, self.caller, asked);
                // All or nothing: what is refused in part is not begun.
                self.permits = if refusals.is_empty() { permits } else { Permits::new() };
                return if refusals.is_empty() { HelperAnswer::Done } else { HelperAnswer::Objections { refusals } };
            }
            Request::Change { path, to, tag, in_place } => self.change(path, to, tag, *in_place),
            Request::Clean { path, tag } => self.clean(path, tag),
            Request::Control { server, verb } => {
                return control(*server, *verb, on_wait).unwrap_or_else(|error| refused(error.to_string()));
            }
            Request::Flush { cache } => return answered(caches::flush(*cache)),
            Request::Refresh { store } => return answered(trust::refresh(*store)),
            Request::Trust { change } => return trusted::change(self.caller, change),
            Request::StartPhp { version } => {
                let started = php::start(&Machine::bare(), version);
                return started.map_or_else(|error| refused(error.to_string()), |()| HelperAnswer::Done);
            }
            Request::ReloadPhp { version } => {
                let reloaded = php::reload(&Machine::bare(), version);
                return reloaded.map_or_else(|error| refused(error.to_string()), |()| HelperAnswer::Done);
            }
            Request::Database { kind, name, password, removes } => {
                let database = NewDatabase { name: name.clone(), password: password.clone() };
                return databases::administer(self.caller, *kind, &database, *removes);
            }
            Request::Forget => {
                return self.kept.forget(self.caller).map_or_else(|error| failed(&error), |()| HelperAnswer::Done);
            }
        };
        done.unwrap_or_else(|refusal| refusal)
    }

    fn change(
        &mut self,
        path: &Utf8Path,
        to: &PathState,
        tag: &str,
        in_place: bool,
    ) -> Result<HelperAnswer, HelperAnswer> {
        if !is_tag(tag) {
            return Err(refused(format!("`{tag}` is not a tag")));
        }
        if self.permits.contains_key(path) {
            // The plan knows the file, and its package may bring no folder for such.
            resolver::make_folder_for(path).map_err(|error| failed(&error))?;
        }
        check_way(path)?;
        let now = PathState::at(path).map_err(|error| failed(&error.source))?;
        let target = self.target(path, &now, to)?;
        let number = self.kept.begin(self.caller, path, &now, to).map_err(|error| failed(&error))?;
        let answer = carry(path, &target, tag, in_place)?;
        self.kept.done(number).map_err(|error| failed(&error))?;
        Ok(answer)
    }

    /// The new state of a path: from the plan, or the state before the helper changed it for this user.
    fn target(&self, path: &Utf8Path, now: &PathState, to: &PathState) -> Result<Target, HelperAnswer> {
        let planned = self.permits.get(path).filter(|permit| permit.from == *now && permit.target.state() == *to);
        if let Some(permit) = planned {
            if !has_own_certificate(permit, self.caller) {
                return Err(refused(format!(
                    "{path} would name a certificate or key that is not a file of the user's"
                )));
            }
            return Ok(permit.target.clone());
        }
        if !is_taken_back(&self.kept, self.caller, path, now, to) && !self.is_own_way_back(path, now, to) {
            return Err(refused(format!("root's plan does not change {path} like this")));
        }
        match to {
            PathState::Absent => Ok(Target::Absent),
            PathState::Link { target } => Ok(Target::Link(target.clone())),
            PathState::File { sha256 } => {
                let content = Kept::content(sha256).map(Target::File);
                content.ok_or_else(|| refused(format!("what {path} held before is not kept any more")))
            }
        }
    }

    /// Whether a change that this very run made is taken back by it, whatever is in the file.
    fn is_own_way_back(&self, path: &Utf8Path, now: &PathState, to: &PathState) -> bool {
        let permit = self.permits.get(path).filter(|permit| permit.from == *to && permit.target.state() == *now);
        permit.is_some() && self.kept.takes_back(self.caller, path, now, last_written(path), to)
    }

    fn clean(&self, path: &Utf8Path, tag: &str) -> Result<HelperAnswer, HelperAnswer> {
        let is_known = self.permits.contains_key(path) || self.kept.knows(self.caller, path);
        if !is_known || !is_tag(tag) {
            return Err(refused(format!("this user has no temporary file for {path}")));
        }
        check_way(path)?;
        match os::remove_file(files::temporary(path, tag)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(failed(&error)),
            _ => Ok(HelperAnswer::Done),
        }
    }
}

fn carry(path: &Utf8Path, target: &Target, tag: &str, in_place: bool) -> Result<HelperAnswer, HelperAnswer> {
    match target {
        Target::File(content) => return write(path, content, tag, in_place),
        Target::Link(target) => {
            // A file that somebody put there is theirs.
            if path.symlink_metadata().is_ok_and(|meta| meta.is_file()) {
                return Err(refused(format!("{path} is a file, and not a link of the server's")));
            }
            link::set_link(path, target, tag).map_err(|error| failed(&error.source))?;
        }
        Target::Absent => {
            os::remove_file(path).map_err(|error| failed(&error))?;
            files::sync_folder_of(path).map_err(|error| failed(&error.source))?;
            resolver::remove_folder_of(path);
        }
    }
    Ok(HelperAnswer::Done)
}

fn write(path: &Utf8Path, content: &[u8], tag: &str, in_place: bool) -> Result<HelperAnswer, HelperAnswer> {
    let attributes = match Attributes::of(path) {
        Ok(attributes) => attributes,
        Err(_) => Attributes::of_roots(),
    };
    let not_yet = || files::FileError::at(path)(io::Error::other("only in place"));
    let written = files::write(path, content, &attributes, tag, || if in_place { Ok(()) } else { Err(not_yet()) });
    match written {
        Ok(_) => Ok(HelperAnswer::Done),
        Err(error) if !in_place && error.source.raw_os_error().is_none() => Ok(HelperAnswer::OnlyInPlace),
        Err(error) => Err(failed(&error.source)),
    }
}

fn control(id: ServerId, verb: ControlVerb, on_wait: OnWait<'_>) -> Result<HelperAnswer, ControlError> {
    let known = if id.is_configured() { Control::of_known(id) } else { None };
    let server = known.ok_or_else(|| {
        ControlError::Said(format!(
            "root does not know the server `{}`: root can add it, by `yandro servers add {0} … --for-everyone`",
            id.word()
        ))
    })?;
    if let Some(file) = server.changed_by_others() {
        return Ok(refused(format!("{file} can be changed by others than root, and root would run what it says")));
    }
    match verb {
        ControlVerb::Test => server.test(),
        ControlVerb::Reload => server.reload(on_wait),
        ControlVerb::StartOrReload => return server.start_or_reload(on_wait).map(HelperAnswer::Server),
        ControlVerb::Start => server.start(on_wait),
        ControlVerb::Stop => server.stop(on_wait),
    }
    .map(|()| HelperAnswer::Done)
}

fn answered(done: Result<(), ProgramError>) -> HelperAnswer {
    done.map_or_else(|error| refused(error.to_string()), |()| HelperAnswer::Done)
}

fn is_tag(tag: &str) -> bool {
    tag.len() == 8 && tag.bytes().all(|byte| byte.is_ascii_hexdigit())
}
