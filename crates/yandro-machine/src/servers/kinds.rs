//! The differences between kinds of servers when they are run: a row for each.

use std::time::Duration;

use yandro_core::{ServerKind, System};

use crate::os::Signal;

/// How to control a running server.
#[derive(Clone, Copy, Debug)]
pub(super) enum Tell {
    /// By a signal to its main process.
    Signal(Signal),
    /// By its own program with these arguments.
    Arguments(&'static [&'static str]),
}

/// The data to find, ask and run the program of one kind of server.
#[derive(Debug)]
pub(crate) struct DaemonKind {
    pub(crate) kind: ServerKind,
    /// Programs that tell where their main file is, if it is in no layout that is known.
    pub(super) programs: &'static [&'static str],
    /// Paths of a bundle's program, from the folder above that of its main file.
    pub(super) beside: &'static [&'static str],
    /// The option that names the main file.
    pub(super) main_option: &'static str,
    /// The names of its processes.
    pub(super) processes: &'static [&'static str],
    /// Its default user.
    pub(super) user: Option<&'static str>,
    /// The file of its process's number, if nothing says another.
    pub(super) pid_file: &'static str,
    /// Arguments with which the program tests its configuration.
    pub(super) test: &'static [&'static str],
    /// Arguments with which the program starts the server.
    pub(super) start: &'static [&'static str],
    /// The option that names a service of Windows's which runs it, and the arguments that start that one.
    pub(super) service_option: Option<(&'static str, &'static [&'static str])>,
    /// Whether only root can start it: it opens the usual ports and its logs as root. A service of Windows's always is.
    pub(super) is_started_by_root: bool,
    /// Whether relative paths begin at a folder that an argument names (`-p`), as its program has no other.
    pub(super) is_told_root: bool,
    /// The documented way to a reload that cuts no connection.
    pub(super) reload: Tell,
    /// The documented way to end it.
    pub(super) stop: Tell,
    /// Whether each generation writes the pid file again, once it has read its files and opened
    /// its ports.
    pub(super) writes_pid_file: bool,
    /// Whether its workers show in their titles that they take no more connections.
    pub(super) has_titles: bool,
    /// How long it may be idle after the signal of a reload without a new generation, until the
    /// reload counts as refused. nginx keeps its old configuration then; Apache httpd ends, so that
    /// an idle one only waits for something, such as a name server.
    pub(super) idle_limit: Duration,
}

static KINDS: [DaemonKind; 2] = [
    DaemonKind {
        kind: ServerKind::Apache,
        programs: &["/usr/sbin/httpd", "/usr/sbin/apache2", "/usr/bin/httpd", "/usr/local/bin/httpd"],
        beside: &["bin/httpd"],
        main_option: "-f",
        processes: &["apache2", "httpd"],
        user: None,
        pid_file: "/run/httpd.pid",
        test: &["-t"],
        start: &["-k", "start"],
        is_started_by_root: true,
        is_told_root: false,
        service_option: None,
        reload: Tell::Signal(Signal::Usr1),
        stop: Tell::Signal(Signal::Term),
        writes_pid_file: true,
        has_titles: true,
        idle_limit: Duration::from_secs(20),
    },
    DaemonKind {
        kind: ServerKind::Nginx,
        programs: &["/usr/sbin/nginx", "/usr/bin/nginx", "/usr/local/sbin/nginx", "/usr/local/bin/nginx"],
        beside: &["sbin/nginx", "bin/nginx"],
        main_option: "-c",
        processes: &["nginx"],
        user: Some("nobody"),
        pid_file: "/run/nginx.pid",
        test: &["-t", "-q"],
        start: &[],
        is_started_by_root: true,
        is_told_root: false,
        service_option: None,
        reload: Tell::Signal(Signal::Hup),
        stop: Tell::Signal(Signal::Quit),
        writes_pid_file: false,
        has_titles: true,
        idle_limit: Duration::from_secs(3),
    },
];

/// The same on Windows.
static WINDOWS: [DaemonKind; 2] = [
    DaemonKind {
        kind: ServerKind::Apache,
        programs: &["/Apache24/bin/httpd.exe"],
        beside: &["bin/httpd.exe"],
        main_option: "-f",
        processes: &["httpd.exe"],
        user: None,
        pid_file: "logs/httpd.pid",
        test: &["-t"],
        start: &[],
        is_started_by_root: false,
        is_told_root: false,
        service_option: Some(("-n", &["-k", "start"])),
        reload: Tell::Arguments(&["-k", "restart"]),
        stop: Tell::Arguments(&["-k", "stop"]),
        writes_pid_file: false,
        has_titles: false,
        idle_limit: Duration::from_secs(20),
    },
    DaemonKind {
        kind: ServerKind::Nginx,
        programs: &["/nginx/nginx.exe"],
        beside: &["nginx.exe"],
        main_option: "-c",
        processes: &["nginx.exe"],
        user: None,
        pid_file: "logs/nginx.pid",
        test: &["-t", "-q"],
        start: &[],
        is_started_by_root: false,
        is_told_root: true,
        service_option: None,
        reload: Tell::Arguments(&["-s", "reload"]),
        stop: Tell::Arguments(&["-s", "quit"]),
        writes_pid_file: false,
        has_titles: false,
        idle_limit: Duration::from_secs(3),
    },
];

impl DaemonKind {
    /// The row of a kind on a system.
    pub(crate) fn of(kind: ServerKind, system: System) -> &'static Self {
        let rows = if system == System::Windows { &WINDOWS } else { &KINDS };
        rows.iter().find(|row| row.kind == kind).expect("each kind has a row")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_has_a_row() {
        for kind in ServerKind::ALL {
            assert_eq!(DaemonKind::of(*kind, System::Linux).kind, *kind);
            assert_eq!(DaemonKind::of(*kind, System::Windows).kind, *kind);
        }
    }
}
