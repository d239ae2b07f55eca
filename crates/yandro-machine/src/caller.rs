//! The user who called sudo: root's rights are given up for a moment, for what is this user's own.

use std::ffi::CString;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::process::Command;
use std::sync::OnceLock;

use camino::{Utf8Path, Utf8PathBuf};

use crate::os::{self, FileRights};

/// The variable by which sudo tells who called it.
pub(crate) const VARIABLE: &str = "SUDO_UID";

struct Caller {
    uid: u32,
    gid: u32,
    /// The folders of their settings and of their authority.
    own: [Utf8PathBuf; 2],
}

static CALLER: OnceLock<Caller> = OnceLock::new();

/// Remembers who called sudo, and where their own folders are: from then on their files are worked on with their
/// rights.
pub(crate) fn remember(uid: u32, gid: u32, own: [Utf8PathBuf; 2]) {
    if os::is_root() && uid != 0 {
        _ = CALLER.set(Caller { uid, gid, own });
    }
}

/// The number of the user who called sudo.
pub(crate) fn number() -> Option<u32> {
    CALLER.get().map(|caller| caller.uid)
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
    let caller = if has_rights() || is_roots_alone(path) { None } else { CALLER.get() };
    AsCaller { _rights: caller.and_then(Caller::take_rights) }
}

/// The same for reading, which anything else than the user's own folders may need root for.
pub(crate) fn rights_to_read(path: &Utf8Path) -> AsCaller {
    let is_own = CALLER.get().is_some_and(|caller| caller.own.iter().any(|own| path.starts_with(own)));
    if is_own { rights_for(path) } else { AsCaller { _rights: None } }
}

impl Caller {
    fn take_rights(&self) -> Option<FileRights> {
        let name = os::account(self.uid).and_then(|user| CString::new(user.name).ok());
        FileRights::take(name.as_deref(), self.uid, self.gid)
    }
}

/// Whether this thread has that user's rights just now.
pub(crate) fn has_rights() -> bool {
    CALLER.get().is_some() && FileRights::are_taken()
}

/// Whether files there are made by the user who called sudo, and theirs.
pub(crate) fn owns(path: &Utf8Path) -> bool {
    CALLER.get().is_some() && !is_roots_alone(path)
}

/// Whether a file is root's, and nobody else can change it or what is on the way to it.
pub(crate) fn is_roots_file(path: &Utf8Path) -> bool {
    let is_roots = |meta: std::fs::Metadata| meta.is_file() && meta.uid() == 0 && meta.mode() & 0o022 == 0;
    is_roots_alone(path) && path.symlink_metadata().is_ok_and(is_roots)
}

/// Whether nobody but root can change which file a path names: each folder on the way is root's and for nobody else
/// to write, or at least keeps root's own entries in it (sticky), the last one left out. The kernel's own are root's.
fn is_roots_alone(path: &Utf8Path) -> bool {
    let is_kernels = ["/proc", "/sys"].iter().any(|own| path.starts_with(own));
    is_kernels || path.ancestors().skip(1).enumerate().all(is_roots_folder)
}

fn is_roots_folder((turn, folder): (usize, &Utf8Path)) -> bool {
    match folder.symlink_metadata() {
        Ok(meta) => {
            let is_sticky = turn > 0 && meta.mode() & 0o1000 != 0;
            meta.is_dir() && meta.uid() == 0 && (meta.mode() & 0o022 == 0 || is_sticky)
        }
        // A missing folder will be created inside one that was checked.
        Err(error) => error.kind() == io::ErrorKind::NotFound,
    }
}

/// A program that a user's own settings name: under sudo it runs as that user. Their `yandro` becomes the user, then
/// the program.
pub(crate) fn command(program: &Utf8Path) -> io::Result<Command> {
    let Some(caller) = CALLER.get() else { return Ok(Command::new(program)) };
    let mut command = Command::new(std::env::current_exe()?);
    command.env(VARIABLE, caller.uid.to_string()).arg("as-caller").arg("--").arg(program);
    Ok(command)
}
