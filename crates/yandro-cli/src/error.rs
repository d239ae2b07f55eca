//! What goes wrong, as the person reads it, and the exit status that follows.

use std::fmt;

use yandro_core::{EditError, HostName, NameError, PkiError, PlanError, PlanFailure, ServerId, ServerNameError};
use yandro_machine::{
    CarryOutError, FileError, LockError, LookError, MachineError, ObserveError, PutBackError, Refusal, SettingsError,
    StepFailure, ports,
};

use crate::as_root::{as_root, this_as_root};

/// How a command ended. Scripts rely on the numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Status {
    /// All is well.
    Well,
    /// There are findings.
    Findings,
    /// Wrong usage or bad input; nothing was changed.
    Usage,
    /// The change could not be made; everything is as it was.
    NotMade,
    /// Something could not be put back.
    NotPutBack,
    /// All is done, and standard output could not be written.
    NotPrinted,
}

impl Status {
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Well => 0,
            Self::Findings => 1,
            Self::Usage => 2,
            Self::NotMade => 3,
            Self::NotPutBack => 4,
            Self::NotPrinted => 5,
        }
    }
}

/// A command's failure: one sentence, and what to do about it.
#[derive(Debug)]
pub(crate) struct CommandError {
    pub(crate) status: Status,
    pub(crate) message: String,
    /// What mends it, each a sentence or a command.
    pub(crate) hints: Vec<String>,
    /// The authority's key is behind a passphrase: once it is given, the command may succeed.
    pub(crate) is_locked: bool,
    /// A stable code for programs.
    pub(crate) code: &'static str,
}

impl CommandError {
    pub(crate) fn usage(message: impl fmt::Display) -> Self {
        Self { status: Status::Usage, code: "bad-input", ..Self::not_made(message) }
    }

    pub(crate) fn not_made(message: impl fmt::Display) -> Self {
        Self {
            status: Status::NotMade,
            message: message.to_string(),
            hints: Vec::new(),
            is_locked: false,
            code: "not-made",
        }
    }

    /// With another code than the usual one of its status.
    pub(crate) fn code(mut self, code: &'static str) -> Self {
        self.code = code;
        self
    }

    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }
}

/// Reads names as a person gave them.
pub(crate) fn names<'a>(given: impl IntoIterator<Item = &'a String>) -> Result<Vec<HostName>, CommandError> {
    given.into_iter().map(|text| HostName::parse(text).map_err(CommandError::from)).collect()
}

impl From<NameError> for CommandError {
    fn from(error: NameError) -> Self {
        let hint = error.suggestion().map(|name| format!("did you mean `{name}`?"));
        hint.into_iter().fold(Self::usage(error), Self::hint)
    }
}

impl From<FileError> for CommandError {
    fn from(error: FileError) -> Self {
        let as_root = error.is_permission().then(|| format!("run the command as root: {}", this_as_root()));
        let fix = error.fix().or(as_root);
        let command = Self::not_made(error).code("file");
        fix.into_iter().fold(command, Self::hint)
    }
}

impl From<MachineError> for CommandError {
    fn from(error: MachineError) -> Self {
        Self::usage(error)
    }
}

impl From<SettingsError> for CommandError {
    fn from(error: SettingsError) -> Self {
        match error {
            SettingsError::File(error) => error.into(),
            error => Self::usage(error),
        }
    }
}

impl From<LookError> for CommandError {
    fn from(error: LookError) -> Self {
        match error {
            LookError::File(error) => error.into(),
            LookError::Observe(error) => error.into(),
            error => Self::not_made(error),
        }
    }
}

impl From<ObserveError> for CommandError {
    fn from(error: ObserveError) -> Self {
        match error {
            ObserveError::File(error) => error.into(),
            error @ ObserveError::List { .. } => {
                Self::usage(error).hint("mend that line of the site list and try again")
            }
            error @ ObserveError::Passphrase { .. } => Self::usage(error),
            error @ ObserveError::Foreign { .. } => {
                Self::not_made(error).hint("make the key yours alone (`sudo chown`), or move its folder away")
            }
            error => Self::not_made(error).hint(
                "put the missing file back, or move the folder away: the next `yandro map` makes a new authority",
            ),
        }
    }
}

impl From<ServerNameError> for CommandError {
    fn from(error: ServerNameError) -> Self {
        Self::usage(error).hint("choose one of small letters, digits and hyphens, such as `ferries`")
    }
}

impl From<LockError> for CommandError {
    fn from(error: LockError) -> Self {
        match error {
            LockError::File(error) => error.into(),
            LockError::Held(ref path) => {
                let hint = format!("see which program: lslocks; end it, or take the lock away: sudo rm {path}");
                Self::not_made(error).hint(hint)
            }
            error => Self::not_made(error).hint("wait until it has ended, and try again"),
        }
    }
}

impl From<PkiError> for CommandError {
    fn from(error: PkiError) -> Self {
        let is_locked = error == PkiError::Locked;
        let hint = match &error {
            PkiError::NameOutside { name, .. } => Some(format!(
                "choose a name below one of these suffixes, such as `saltmarsh.test`; or have the authority vouch for it, too: yandro authority widen {name}"
            )),
            PkiError::AddressOutside { address, .. } => {
                Some(format!("have the authority vouch for it, too: yandro authority widen --network {address}"))
            }
            PkiError::KeyNotMade { .. } => {
                Some("install the package `openssl`, or take a kind that yandro makes by itself: p256 or p384".into())
            }
            _ => None,
        };
        hint.into_iter().fold(Self { is_locked, ..Self::usage(error) }, Self::hint)
    }
}

impl From<PlanFailure> for CommandError {
    fn from(failed: PlanFailure) -> Self {
        let PlanFailure { site, error } = failed;
        let mut command = Self::from(*error);
        if let Some(name) = site {
            command.message = format!("the site `{name}`: {}", command.message);
        }
        command
    }
}

impl From<PlanError> for CommandError {
    fn from(error: PlanError) -> Self {
        let error = match error {
            PlanError::Pki(error) => return error.into(),
            PlanError::Issued { path, error } => {
                let mut command = Self::from(error);
                command.message = format!("{path}: {}", command.message);
                return command;
            }
            error => error,
        };
        let hint = match &error {
            PlanError::NameTaken { owner, .. } => {
                Some(format!("choose another name, or take that site away first: yandro unmap {owner}"))
            }
            PlanError::HostsMissing(path) => Some(format!("make it with the line `127.0.0.1 localhost` in it: {path}")),
            PlanError::Hosts { path, error: EditError::Conflict(conflict) } => Some(match conflict.fixed {
                Some(_) => {
                    format!("take `{}` out of line {} of {path} by hand, then try again", conflict.name, conflict.line)
                }
                None => format!(
                    "have that line commented out while the site is mapped: add `--take-over`; or map the site to where it points: `--address {}`",
                    conflict.address
                ),
            }),
            PlanError::Hosts { error: EditError::OtherList { list, .. }, .. } | PlanError::OtherList { list, .. } => {
                Some(format!("choose another name, or have user `{}` take the site away: yandro unmap", list.user()))
            }
            PlanError::HttpsForced(_) => {
                Some("leave `--plain` and `--https off` out, or choose a suffix such as `.test`".into())
            }
            PlanError::ServerMissing(ServerId::Named(name)) => Some(format!(
                "name it (yandro servers add {name} --config PATH), or map the site on another: --server WHICH"
            )),
            PlanError::ServerMissing(_) => Some(NO_SERVER.into()),
            PlanError::NameBucket { place, needed, .. } => Some(format!(
                "make it `server_names_hash_bucket_size {needed};` there, then run the command again: {place}"
            )),
            PlanError::NotSeen { server, path } => Some(format!(
                "have the folder mounted there, and say where it is: yandro servers add {server} --path {path}=WHERE"
            )),
            PlanError::ModuleMissing { module, .. } if module == "authz_host" => {
                Some("install that module, or let the network open the site as well: --only-here off".into())
            }
            PlanError::ModuleMissing { install, module } => Some(match install {
                Some(command) => format!("install it: {command}"),
                None => format!("install the package that has `mod_{module}.so`"),
            }),
            PlanError::Broken(_, fault) => Some(format!("mend that line, then run the command again: {}", fault.place)),
            PlanError::Unreached { what, file } => {
                Some(format!("put `{what}` where it counts, by hand: {file}; then run the command again"))
            }
            PlanError::VirtualHostTaken { place, .. } => {
                Some(format!("take that virtual host away, or its file out of use: {}", place.file))
            }
            PlanError::LinkTaken { path, .. } => Some(format!("move it out of the way: {path}")),
            PlanError::SiteFile { path, .. } => {
                Some(format!("mend that line, or delete the file to have it made anew: {path}"))
            }
            _ => None,
        };
        let command = match error {
            PlanError::NameTaken { .. } | PlanError::HttpsForced(_) | PlanError::Path(_) => Self::usage(error),
            error => Self::not_made(error),
        };
        hint.into_iter().fold(command, CommandError::hint)
    }
}

/// What to do when there is no web server.
pub(crate) const NO_SERVER: &str = "install Apache httpd (`apt install apache2`) or nginx (`apt install nginx-light`), or use the built-in server: add `--server built-in`, then run `yandro serve`";

/// A change that was not applied, with `proof` to say what a failed proof means.
pub(crate) fn carry_out<E>(error: CarryOutError<E>, proof: impl FnOnce(E) -> CommandError) -> CommandError {
    let (cause, put_back) = match error {
        CarryOutError::NotPermitted { paths, server } => return not_permitted(&paths, server),
        CarryOutError::NeedsRoot(refusals) => return needs_root(&refusals),
        CarryOutError::Unwritable(error) => {
            let mut command = CommandError::from(error);
            command.message += "; nothing was changed";
            return command;
        }
        CarryOutError::ChangedMeanwhile(path) => {
            return CommandError::not_made(format!(
                "{path} keeps being changed by another program; nothing was changed"
            ))
            .hint("run the command again")
            .code("changed-meanwhile");
        }
        CarryOutError::PortHeld { server, holder } => {
            return CommandError::not_made(format!(
                "{server} would have to listen on port {}, which {holder} has; nothing was changed",
                holder.port
            ))
            .hint("stop that program, or choose other ports: --http-port, --https-port")
            .code("port-held");
        }
        CarryOutError::Failed { cause, put_back } => (cause, put_back),
    };
    let mut command = failed(cause, proof);
    match put_back {
        Ok(servers) => {
            command.message += "\neverything was put back as it was";
            for note in servers.notes() {
                command.message += &format!("\n{note}");
            }
        }
        Err(error) => {
            command.status = Status::NotPutBack;
            command.code = "not-rolled-back";
            command.message += &format!("\nand not everything could be put back: {error}");
            command.hints = vec![put_back_hint(&error)];
        }
    }
    command
}

/// The message for a failed step.
fn failed<E>(cause: StepFailure<E>, proof: impl FnOnce(E) -> CommandError) -> CommandError {
    match cause {
        StepFailure::File(error) => error.into(),
        StepFailure::Test(words) => {
            CommandError::not_made(format!("the server refuses the configuration:\n{}", indented(&words.to_string())))
                .hint("correct the file and line that it names, then run the command again")
                .code("server-refuses")
        }
        StepFailure::BrokenBefore(words) => CommandError::not_made(format!(
            "the server refuses its configuration as it was before yandro changed anything:\n{}",
            indented(&words.to_string())
        ))
        .hint("correct the file and line that it names, then run the command again")
        .code("server-refused-before"),
        StepFailure::BringUp(words) => {
            let error = CommandError::not_made(format!(
                "the server could not be started or reloaded:\n{}",
                indented(&words.to_string())
            ))
            .code("server-not-reloaded");
            match ports::explain(&words.to_string()) {
                Some(held) => error.hint(format!("{held}: stop it, or choose other ports: --http-port, --https-port")),
                None => error,
            }
        }
        StepFailure::Trust(words) => CommandError::not_made(format!(
            "the trust store was not brought up to date:\n{}",
            indented(&words.to_string())
        ))
        .code("trust-store"),
        StepFailure::Interrupted => CommandError::not_made("interrupted").code("interrupted"),
        StepFailure::Proof(seen) => proof(seen),
    }
}

/// The user may not do all of it.
fn not_permitted(paths: &[camino::Utf8PathBuf], server: bool) -> CommandError {
    let mut steps: String = paths.iter().map(|path| format!("\n  write {path}")).collect();
    if server {
        steps += "\n  test, reload, start or stop the web server";
    }
    CommandError::not_made(format!("you may not do this, and nothing was changed:{steps}"))
        .hint(format!("run the command as root, or as a user who may use sudo: {}", this_as_root()))
        .code("not-permitted")
}

/// The change needs root's decision. Each reason is printed once, with its first path.
fn needs_root(refusals: &[Refusal]) -> CommandError {
    let mut message = "only root can decide this, and nothing was changed:".to_owned();
    let mut told: Vec<&str> = Vec::new();
    for Refusal { path, why } in refusals {
        if !told.contains(&why.as_str()) {
            message += &format!("\n  {path}: {why}");
            told.push(why);
        }
    }
    CommandError::not_made(message)
        .hint(format!("if you want that, run the command as root: {}", this_as_root()))
        .code("needs-root")
}

impl From<PutBackError> for CommandError {
    fn from(error: PutBackError) -> Self {
        let hint = put_back_hint(&error);
        let message = format!("an earlier command was interrupted, and not everything could be put back: {error}");
        Self { status: Status::NotPutBack, ..Self::not_made(message) }.hint(hint).code("not-rolled-back")
    }
}

fn put_back_hint(error: &PutBackError) -> String {
    match error {
        PutBackError::Foreign(path) => format!(
            "look at {path}: it holds somebody else's change and half of yandro's. `yandro settle` brings the rest in line"
        ),
        PutBackError::File(error) if error.is_permission() => {
            format!("the interrupted command ran as root, and root can finish this: {}", as_root(&["sites"]))
        }
        PutBackError::File(error) => format!(
            "look at {} (is the disk full, or may you not write it?), then run any yandro command: it tries again",
            error.path
        ),
        error => format!("start the server by hand, and see its error log: {error}"),
    }
}

fn indented(words: &str) -> String {
    // Servers try more than once, and say so each time.
    let mut lines: Vec<String> = Vec::new();
    for line in words.lines().map(|line| format!("  {line}")) {
        if !lines.contains(&line) {
            lines.push(line);
        }
    }
    lines.join("\n")
}
