//! Errors as the user reads them, with their exit statuses.

mod change;
#[cfg(test)]
mod tests;

pub(crate) use change::carry_out;

use std::fmt;

use yandro_core::{
    EditError, HostName, NameError, PkiError, PlanError, PlanFailure, ServerId, ServerNameError, System,
};
use yandro_machine::low_ports;
use yandro_machine::{FileError, LockError, LookError, MachineError, ObserveError, SettingsError};

use crate::as_root::this_as_root;

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
    /// Something could not be rolled back.
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
    /// The fixes, each a sentence or a command.
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
        let as_root = error
            .is_permission()
            .then(|| format!("run the command as {}: {}", System::HERE.administrator(), this_as_root()));
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
                Self::usage(error).hint("correct that line of the site list and try again")
            }
            error @ ObserveError::Passphrase { .. } => Self::usage(error),
            error @ ObserveError::Foreign { .. } => {
                Self::not_made(error).hint("make yourself the owner of the key (`sudo chown`), or move its folder away")
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
                "choose a name below one of these suffixes, such as `saltmarsh.test`; or let the authority issue for it: yandro authority widen {name}"
            )),
            PkiError::AddressOutside { address, .. } => {
                Some(format!("let the authority issue for it: yandro authority widen --network {address}"))
            }
            PkiError::KeyNotMade { .. } => {
                Some("install the package `openssl`, or take a kind that yandro makes by itself: p256 or p384".into())
            }
            _ => None,
        };
        hint.into_iter().fold(Self { is_locked, ..Self::usage(error) }, Self::hint)
    }
}

/// The error for a name that is not a site's.
pub(crate) fn no_site(name: &HostName) -> CommandError {
    CommandError::usage(format!("no such site: `{name}`")).hint("see which sites there are: yandro sites")
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
            PlanError::NameServers { .. } => return name_servers(&error),
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
            PlanError::ServerMissing(_) => Some(no_server()),
            PlanError::NameBucket { place, needed, .. } => Some(format!(
                "make it `server_names_hash_bucket_size {needed};` there, then run the command again: {place}"
            )),
            PlanError::NotSeen { server, path } => Some(format!(
                "have the folder mounted there, and say where it is: yandro servers add {server} --path {path}=WHERE; of a container that you started again with it: yandro servers add {server} --container CONTAINER"
            )),
            PlanError::ModuleMissing { module, .. } if module == "authz_host" => {
                Some("install that module, or let the network open the site as well: --only-here off".into())
            }
            PlanError::ModuleMissing { install, module } => Some(match install {
                Some(command) => format!("install it: {command}"),
                None => format!("install the package that has `mod_{module}.so`"),
            }),
            PlanError::ResolverTaken(path) => Some(format!("move it out of the way, or answer these names there: {path}")),
            PlanError::SuffixTenants(name) => {
                Some(format!("name the site below it, such as: yandro map sites.{name} --tenants"))
            }
            PlanError::AmongTenants { name, site } => Some(format!(
                "have another server answer one of the two, such as: yandro map {name} --server nginx; or leave the tenants out: yandro map {site} --tenants=off"
            )),
            PlanError::Prefork { has_links: true, .. } => Some(
                "switch it to threads, if no module of PHP is loaded into it: sudo a2dismod mpm_prefork && sudo a2enmod mpm_event && sudo systemctl restart apache2".into(),
            ),
            PlanError::Prefork { .. } => {
                Some("have its configuration load mpm_event instead, or leave `--http2` out".into())
            }
            PlanError::Broken(_, fault) => {
                Some(format!("correct that line, then run the command again: {}", fault.place))
            }
            PlanError::Unreached { what, file } => {
                Some(format!("put `{what}` where it counts, by hand: {file}; then run the command again"))
            }
            PlanError::VirtualHostTaken { name, .. } => {
                Some(format!("take that virtual host over, with its lines kept: yandro adopt {name}"))
            }
            PlanError::PhpMissing { name, .. } => Some(format!(
                "see which are here: yandro servers; then take one of them: yandro map {name} --php-as-owner=VERSION"
            )),
            PlanError::PoolOwner { name, .. } => Some(format!(
                "have the folder belong to you, or run PHP in the pool that all sites share: yandro map {name} --php-as-owner=off"
            )),
            PlanError::PoolServer(name) | PlanError::PoolName(name) | PlanError::PoolScript { name, .. } => {
                Some(format!("run PHP in the pool that all sites share: yandro map {name} --php-as-owner=off"))
            }
            PlanError::PoolTaken(path) | PlanError::LinkTaken { path, .. } => Some(format!("move it out of the way: {path}")),
            PlanError::SiteFile { path, .. } => {
                Some(format!("correct that line, or delete the file, so that yandro writes a new one: {path}"))
            }
            _ => None,
        };
        let other = match &error {
            PlanError::VirtualHostTaken { place, .. } => Some(format!("or take its file out of use: {}", place.file)),
            _ => None,
        };
        let command = match error {
            PlanError::NameTaken { .. } | PlanError::HttpsForced(_) | PlanError::Path(_) => Self::usage(error),
            error => Self::not_made(error),
        };
        hint.into_iter().chain(other).fold(command, CommandError::hint)
    }
}

/// The code of a change that has to be agreed to.
pub(crate) const NAME_SERVERS: &str = "name-servers";

/// The list of name servers would change, and nobody agreed to that yet.
fn name_servers(error: &PlanError) -> CommandError {
    let message = format!(
        "{error}. yandro can put a program of its own first there, which answers for the names below your sites and refuses all others, so that the next server is asked"
    );
    let may_listen = low_ports::are_allowed() || low_ports::first_of_users() <= 53 || System::HERE != System::Linux;
    let command =
        CommandError::usage(message).code(NAME_SERVERS).hint("if you agree, add to `yandro map`: --name-servers");
    if may_listen || yandro_machine::caller::is_root() {
        return command;
    }
    command.hint("it needs a port below 1024; to let yandro listen there, once and for good: yandro setup ports")
}

/// The fix without a web server.
pub(crate) fn no_server() -> String {
    let install = System::HERE.install_servers();
    format!("{install}, or use the built-in server: add `--server built-in`")
}
