//! The fixes of findings. Each is one command line, which `Display` writes as it is pasted into a shell.

use core::net::IpAddr;

use camino::{Utf8Path, Utf8PathBuf};

use super::circumstances::PortHolder;
use crate::config::Place;
use crate::name::HostName;
use crate::shell::word;
use crate::site::{Content, ServerId};
use crate::system::System;

/// A command that fixes something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// `yandro map`.
    Map {
        /// The first argument of the command.
        site: HostName,
        /// Its folder or upstream, if that is to change or the site is not listed.
        content: Option<String>,
        /// What follows it on the command line.
        options: Vec<MapOption>,
    },
    /// `yandro move`: the folder of a site was moved there.
    Move(HostName, Utf8PathBuf),
    /// `yandro readdress`, with the old address of the application.
    Readdress(HostName, String),
    /// `yandro unmap`.
    Unmap(HostName),
    /// `yandro settle`.
    Settle,
    /// `yandro settle --follow`: sites move to this computer's address of now.
    Follow,
    /// `yandro settle --put-back`: the lines of a site that were edited by hand go back.
    PutBack(HostName),
    /// `yandro servers start`, `reload` or `stop`.
    Control(ServerVerb, ServerId),
    /// `yandro servers start built-in`, or `yandro serve` with the address to listen on if it isn't loopback.
    Serve(Option<IpAddr>),
    /// `yandro check --fix`.
    CheckAndFix(HostName),
    /// `yandro check --watch`.
    Watch(HostName),
    /// `yandro cert env`: variables for a server that yandro doesn't configure.
    CertificateVariables(HostName),
    /// `yandro authority widen`.
    Widen(HostName),
    /// `yandro authority trust`.
    Trust,
    /// The environment variable that excepts names from a proxy.
    NoProxy(Vec<HostName>),
    /// `yandro ports`, as root, who sees every process.
    PortsAsRoot,
    /// Opens a file at a line, in the editor that the user has chosen.
    Edit(Place),
    /// Makes a folder.
    MakeFolder(Utf8PathBuf),
    /// A command of the system.
    Shell(String),
    /// Another one, with root's rights.
    AsRoot(Box<Remedy>),
    /// One after the other; the second runs only if the first succeeds.
    Both(Box<Remedy>, Box<Remedy>),
}

/// Action on a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ServerVerb {
    /// To start.
    Start,
    /// To read its files again.
    Reload,
    /// To stop.
    Stop,
    /// To stop, then to start.
    Restart,
}

/// An option of `yandro map` that fixes something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MapOption {
    /// `--take-over`.
    TakeOver,
    /// `--address`.
    Address(IpAddr),
    /// `--http-port` and `--https-port`.
    Ports(u16, u16),
    /// `--server`.
    Server(ServerId),
    /// `--https only`.
    HttpsOnly,
    /// `--https both`.
    HttpsBoth,
    /// `--fix-permissions`.
    FixPermissions,
    /// `--create`.
    Create,
    /// `--index`.
    Index(String),
    /// `--listing on`.
    Listing,
    /// `--overrides all`.
    AllOverrides,
    /// `--upstream-host own`.
    OwnUpstreamHost,
    /// `--php`, with the socket or address of PHP if one is to be named.
    Php(Option<String>),
}

impl Remedy {
    /// `yandro map` of a listed site.
    pub(super) fn map(site: &HostName, options: impl Into<Vec<MapOption>>) -> Self {
        Self::Map { site: site.clone(), content: None, options: options.into() }
    }

    /// `yandro map` with another folder or upstream.
    pub(super) fn map_to(site: &HostName, content: impl Into<String>, options: impl Into<Vec<MapOption>>) -> Self {
        Self::Map { site: site.clone(), content: Some(content.into()), options: options.into() }
    }

    pub(super) fn reload(server: ServerId) -> Self {
        Self::Control(ServerVerb::Reload, server)
    }

    /// Reloads a server, or starts it where it doesn't run.
    pub(super) fn reload_or_start(server: ServerId, runs: Option<bool>) -> Self {
        Self::Control(if runs == Some(false) { ServerVerb::Start } else { ServerVerb::Reload }, server)
    }

    /// Ends a server and starts it.
    pub(super) fn restart(server: ServerId) -> Self {
        Self::Control(ServerVerb::Restart, server)
    }

    /// This, then `next`.
    pub(super) fn and(self, next: Self) -> Self {
        Self::Both(Box::new(self), Box::new(next))
    }

    /// The same for a user who may write what `may_write` says: other files are edited with root's rights.
    #[must_use]
    pub fn for_rights(self, may_write: &dyn Fn(&Utf8Path) -> bool) -> Self {
        let is_free = match &self {
            Self::Edit(place) => may_write(Utf8Path::new(&place.written().file)),
            Self::MakeFolder(folder) => may_write(folder),
            _ => true,
        };
        match self {
            Self::Both(first, next) => first.for_rights(may_write).and(next.for_rights(may_write)),
            own if is_free => own,
            own => Self::AsRoot(Box::new(own)),
        }
    }

    /// The same for a site that isn't in the site list: it can't be changed or settled, but mapped with its
    /// content.
    #[must_use]
    pub fn for_unlisted(self, wanted: &HostName, whole: &Content) -> Self {
        let content = Some(whole.to_string());
        match self {
            Self::Map { site, content: None, options } if site == *wanted => Self::Map { site, content, options },
            Self::PutBack(site) | Self::CheckAndFix(site) if site == *wanted => {
                Self::Map { site, content, options: Vec::new() }
            }
            Self::Settle => Self::Map { site: wanted.clone(), content, options: Vec::new() },
            Self::Both(first, next) => first.for_unlisted(wanted, whole).and(next.for_unlisted(wanted, whole)),
            other => other,
        }
    }
}

/// Has a site listen where neither it nor, as far as is known, anybody else does.
pub fn other_ports(site: &HostName, is_taken: impl Fn(u16) -> bool) -> Remedy {
    let free = |first: u16| (first..first + 100).find(|port| !is_taken(*port)).unwrap_or(first);
    Remedy::map(site, [MapOption::Ports(free(8080), free(8443))])
}

impl PortHolder {
    /// Gives the port to another server.
    pub fn remedy(&self, wanted: ServerId) -> Remedy {
        let start = Remedy::Control(ServerVerb::Start, wanted);
        match (self.server, self.pid) {
            (Some(id), _) => Remedy::Control(ServerVerb::Stop, id).and(start),
            (None, Some(pid)) => Remedy::Shell(System::HERE.end_process(pid, self.is_anothers)).and(start),
            // Only root can see the process.
            (None, None) => Remedy::PortsAsRoot,
        }
    }
}

/// Lets a server through to a folder that the system's guard keeps it from, by the guard's own words: a label
/// for `SELinux`, a rule of the local part of an `AppArmor` profile.
pub(super) fn unconfine(seen: &str, folder: &str) -> Option<Remedy> {
    if seen.contains("avc:") && seen.contains("user_home_dir_t") {
        // Their own home folder is what stops it first.
        return Some(Remedy::Shell("sudo setsebool -P httpd_enable_homedirs on".into()));
    }
    if seen.contains("avc:") {
        return Some(Remedy::Shell(format!("sudo chcon -R -t httpd_sys_content_t {}", word(folder))));
    }
    let profile = seen.split_once("profile=\"")?.1.split('"').next()?;
    let is_path = |c: char| c.is_ascii_alphanumeric() || "/._-".contains(c);
    if !profile.starts_with('/') || !profile.chars().all(is_path) {
        // The program itself finds the file of the profile.
        return Some(Remedy::Shell("sudo aa-logprof".to_owned()));
    }
    // Debian and Ubuntu call a profile's file by its program's path.
    let file = profile.trim_start_matches('/').replace('/', ".");
    let rule = word(&format!("\"{folder}/**\" r,"));
    Some(Remedy::Shell(format!(
        "echo {rule} | sudo tee -a /etc/apparmor.d/local/{file} && sudo apparmor_parser -r /etc/apparmor.d/{file}"
    )))
}
