//! The user who called sudo: root's rights are given up for a moment, for what is this user's own.

use std::io;
use std::process::Command;
use std::sync::OnceLock;

use camino::{Utf8Path, Utf8PathBuf};

use crate::os::{self, FileRights, Owner, UserId};

/// The variable by which sudo tells who called it.
pub(crate) const VARIABLE: &str = "SUDO_UID";

struct Caller {
    owner: Owner,
    /// The folders of their settings and of their authority.
    own: [Utf8PathBuf; 2],
}

static CALLER: OnceLock<Caller> = OnceLock::new();

/// Remembers who called sudo, and where their own folders are: from then on their files are worked on with their
/// rights.
pub(crate) fn remember(owner: Owner, own: [Utf8PathBuf; 2]) {
    if os::is_root() && owner.user != os::this_user() {
        _ = CALLER.set(Caller { owner, own });
    }
}

/// The number of the user who called sudo.
pub(crate) fn number() -> Option<UserId> {
    CALLER.get().map(|caller| caller.owner.user)
}

/// Whether this process has root's rights.
pub fn is_root() -> bool {
    os::is_root()
}

/// The user's rights on files, for the thread that made this, until it is dropped. A link in the user's own folders
/// leads no further than the user themselves could go, and what is made is theirs.
#[must_use]
#[derive(Debug)]
pub struct AsCaller {
    _rights: Option<FileRights>,
}

/// Takes the rights of the user who called sudo, unless only root can change `path`. Does nothing without sudo.
pub fn rights_for(path: &Utf8Path) -> AsCaller {
    let caller = CALLER.get().filter(|_| !has_rights() && !os::is_roots_alone(path));
    AsCaller { _rights: caller.and_then(|caller| FileRights::take(caller.owner)) }
}

/// The same for reading, which anything else than the user's own folders may need root for.
pub(crate) fn rights_to_read(path: &Utf8Path) -> AsCaller {
    let is_own = CALLER.get().is_some_and(|caller| caller.own.iter().any(|own| path.starts_with(own)));
    if is_own { rights_for(path) } else { AsCaller { _rights: None } }
}

/// How many threads may work on files side by side, of so many that are wanted: one where a thread would take the
/// rights of all others along.
pub(crate) fn threads(wanted: usize) -> usize {
    if FileRights::ARE_OF_THREAD || CALLER.get().is_none() { wanted } else { 1 }
}

/// Whether this thread has that user's rights just now.
pub(crate) fn has_rights() -> bool {
    CALLER.get().is_some() && FileRights::are_taken()
}

/// Whether files there are made by the user who called sudo, and theirs.
pub(crate) fn owns(path: &Utf8Path) -> bool {
    CALLER.get().is_some() && !os::is_roots_alone(path)
}

/// A program that a user's own settings name: under sudo it runs as that user. Their `yandro` becomes the user, then
/// the program.
pub(crate) fn command(program: &Utf8Path) -> io::Result<Command> {
    let Some(caller) = CALLER.get() else { return Ok(Command::new(program)) };
    let mut command = Command::new(std::env::current_exe()?);
    command.env(VARIABLE, caller.owner.user.to_string()).arg("as-caller").arg("--").arg(program);
    Ok(command)
}
