//! The program that runs with an administrator's rights, and the pipe between it and the one that asked for it.

use std::fs::File;
use std::io::{self, BufReader};
use std::path::Path;
use std::process::Command;
use std::sync::LazyLock;
use std::time::Duration;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_sys::windows::descriptor::Descriptor;
use yandro_sys::windows::elevation::{self, Pipe, Started};
use yandro_sys::windows::{Sid, files};

use super::{HelperStreams, UserId, root, this_user};

/// How long the helper has to end by itself.
const PATIENCE: Duration = Duration::from_secs(2);

/// The command that begins a program with an administrator's rights: its own, which Windows asks the person for.
pub(crate) fn with_all_rights(program: &Path) -> Option<Command> {
    Some(Command::new(program))
}

/// A helper that was started. It ends when this is dropped.
#[derive(Debug)]
pub(crate) struct Elevated {
    /// Requests to the helper.
    pub(crate) input: File,
    /// Answers of the helper.
    pub(crate) output: BufReader<File>,
    program: Started,
}

impl Elevated {
    /// Starts a command with an administrator's rights, and tells it the name of a pipe, which ends with a word that
    /// nobody can guess. Windows asks the person.
    ///
    /// # Errors
    /// When they said no, or it can't be started.
    pub(crate) fn start(command: Command, word: &str) -> io::Result<Self> {
        let name = format!("yandro-{word}");
        let pipe = Pipe::new(&name, &Descriptor::only(&[this_user().0, Sid::SYSTEM, Sid::ADMINISTRATORS]))?;
        let arguments = command.get_args().map(|argument| argument.to_string_lossy().into_owned());
        let parameters = arguments.chain(["--pipe".to_owned(), name]).collect::<Vec<_>>().join(" ");
        let program = elevation::start(&command.get_program().to_string_lossy(), &parameters)?;
        let input = pipe.connected(&program)?;
        let output = BufReader::new(input.try_clone()?);
        Ok(Self { input, output, program })
    }
}

impl Drop for Elevated {
    fn drop(&mut self) {
        // It ends with its pipe, of which both ends of ours are closed first.
        if let Ok(null) = File::open("NUL") {
            if let Ok(other) = null.try_clone() {
                self.output = BufReader::new(other);
            }
            self.input = null;
        }
        self.program.end(PATIENCE);
    }
}

/// The pipe of this name, and the user whose program created it: the caller.
///
/// # Errors
/// When no pipe is named, or it can't be had.
pub(crate) fn helper_streams(pipe: Option<&str>) -> io::Result<HelperStreams> {
    let (pipe, caller) = elevation::connect(pipe.ok_or(io::ErrorKind::InvalidInput)?)?;
    let input = Box::new(pipe.try_clone()?);
    Ok(HelperStreams { input, output: Box::new(pipe), caller: Some(UserId(caller)) })
}

/// The folder of the helper's record, which only administrators can change.
pub(crate) fn helper_folder() -> &'static Utf8Path {
    static FOLDER: LazyLock<Utf8PathBuf> = LazyLock::new(|| root().join(r"ProgramData\yandro\helper"));
    &FOLDER
}

/// Makes a folder that everybody may read and only administrators change, and missing ones above it.
///
/// # Errors
/// As the system says.
pub(crate) fn make_guarded_folders(path: &Utf8Path) -> io::Result<()> {
    let missing: Vec<&Utf8Path> = path.ancestors().take_while(|folder| !folder.exists()).collect();
    let rights = Descriptor::readable(&[Sid::SYSTEM, Sid::ADMINISTRATORS]).owned_by(Sid::ADMINISTRATORS);
    missing.into_iter().rev().try_for_each(|folder| files::create_folder(folder.as_str(), &rights))
}
