//! The surroundings of a site: facts beside its answers, and for a site with problems the facts
//! by which a symptom gets its cause.

use camino::Utf8PathBuf;

use super::cause::{FileFault, SilenceReason};
use super::observation::{Barrier, Timed};
use crate::config::Place;
use crate::name::HostName;
use crate::servers::Rule;
use crate::site::{FastCgi, ServerId};
use crate::system::{Hidden, PhpPool};

/// Facts about a site's server and files, gathered once the site has a problem.
/// Each is empty or `None` where it can't be seen from here.
#[derive(Clone, Debug, Default)]
pub struct Circumstances {
    /// Whether its server runs.
    pub runs: Option<bool>,
    /// The server's own words, if it refuses its configuration.
    pub refuses: Option<String>,
    /// A file that was changed after the server's last reload.
    pub newer: Option<Utf8PathBuf>,
    /// Whether the site's virtual host file names the certificate that is on the disk.
    pub names_certificate: bool,
    /// The processes that listen on the site's ports.
    pub holders: Vec<PortHolder>,
    /// The configuration's view of the site.
    pub configured: Configured,
    /// Whether key and certificate on disk belong together.
    pub key_fits: Option<bool>,
    /// Whether the document root has an index page.
    pub has_index: Option<bool>,
    /// The lines of the server's configuration, or of an override file, that may answer in the place of the folder.
    pub rules: Vec<Rule>,
    /// The names of the index pages that the document root has.
    pub index_pages: Vec<String>,
    /// Whether the site's virtual host names index pages whatever the site is.
    pub has_own_index: bool,
    /// Whether the server has what it takes to pass PHP files on.
    pub passes_php_on: bool,
    /// Whether the index page is a symbolic link.
    pub is_index_linked: bool,
    /// The server's processes, where it takes connections and doesn't answer.
    pub silence: Option<Silence>,
    /// Whether a page didn't come in time.
    pub is_slow: bool,
    /// An override file on the way to the document root.
    pub override_file: Option<Utf8PathBuf>,
    /// The first line of the project's own that may answer requests by a rule.
    pub rule: Option<Place>,
    /// The index page, if the server's user may not read it.
    pub unread_index: Option<Barrier>,
    /// PHP's server, php-fpm.
    pub php: PhpFacts,
    /// Programs of this user that listen close above the port of an upstream that is down: one that
    /// found its port taken goes to the next.
    pub near_upstream: Vec<PortHolder>,
    /// The last lines of the server's error log that are about the site, the latest last.
    pub log: Vec<LogLine>,
    /// The folder, the certificates or the logs, if the sandbox of the server's unit keeps them from it.
    pub sandboxed: Option<Box<Hidden>>,
    /// A line of the system's guard that keeps the server from the folder.
    pub confined: Option<String>,
}

/// A server that takes connections and doesn't answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Silence {
    /// The reason, as far as it can be seen.
    pub reason: SilenceReason,
    /// The processes that a signal has stopped.
    pub stopped: Vec<u32>,
    /// How many connections wait on the site's ports.
    pub waiting: usize,
    /// The line of the server's log that says that all of its workers are busy.
    pub log: Option<LogLine>,
}

/// PHP's server, php-fpm, as seen from a site.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PhpFacts {
    /// The address that PHP files are passed on to, and its state; `None` for a site without PHP, and where it can't
    /// be seen from here.
    pub address: Option<(FastCgi, PhpState)>,
    /// The pool that has the address by its configuration.
    pub pool: Option<PhpPool>,
    /// Other addresses where one answers.
    pub answering: Vec<FastCgi>,
    /// The command that starts the one that the address is of, if it is installed and doesn't run.
    pub start_own: Option<String>,
    /// The commands that start those that are installed and don't run.
    pub starts: Vec<String>,
    /// The command that restarts the one that runs.
    pub restart: Option<String>,
    /// The command that installs one.
    pub install: Option<String>,
}

/// State of an address of php-fpm.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PhpState {
    /// Something listens there.
    Listens,
    /// The same, and requests wait.
    Full,
    /// Nothing does.
    Down,
    /// The server's user may not use the socket.
    Forbidden {
        /// That user.
        user: String,
        /// The socket's mode.
        mode: u32,
    },
}

/// Facts gathered apart from the answers, for all of a site's names.
#[derive(Clone, Debug, Default)]
pub struct Beside {
    /// The processes that listen on the site's ports, with the time it took; `None` if nobody looked.
    pub holders: Option<Timed<Vec<PortHolder>>>,
    /// The server's configuration, with the site's share of the time to read it; `None`
    /// where it can't be read from here.
    pub configured: Option<Timed<Configured>>,
    /// The trust stores of this machine, and the time to ask them.
    pub stores: Option<Timed<Vec<StoreStanding>>>,
    /// Faults of files that the answers don't show.
    pub files: FileFaults,
    /// The line by which the server counts requests, if it has put some off.
    pub limits: Option<Place>,
}

/// Faults of a site's files that its answers don't show: the server has read them already, or doesn't get so far.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileFaults {
    /// The certificate's file or its key, with its fault.
    pub certificate: Option<(Utf8PathBuf, FileFault)>,
    /// Whether the key is not the certificate's.
    pub is_other_key: bool,
    /// Whether the document root is missing.
    pub is_folder_missing: bool,
    /// The present path of the site's folder, if it was moved.
    pub moved_to: Option<Utf8PathBuf>,
    /// The usual index page that the document root has.
    pub index_page: Option<String>,
}

/// A server's configuration on disk, as far as a site is concerned. The server may still
/// go by what it read before.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Configured {
    /// Status of the site's virtual host file.
    pub site_file: SiteFileState,
    /// The site's ports that no line has the server listen on.
    pub not_listened: Vec<u16>,
    /// The virtual host that answers, for each name and port.
    pub answering: Vec<AnsweringHost>,
    /// Whether the server has TLS at all.
    pub has_tls: Option<bool>,
    /// The first virtual host on the address and port for HTTPS, if it has TLS off and turns it off for all others there.
    pub plain_first: Option<Place>,
    /// The server's error message, if a file was changed since its last reload and it
    /// would refuse it now.
    pub refuses: Option<String>,
    /// Whether a file was changed since, and only root can test whether the server would refuse it.
    pub is_untested: bool,
}

/// A trust store, and whether it trusts the authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoreStanding {
    /// The store's owner.
    pub title: String,
    /// The store's path.
    pub path: String,
    /// Whether it trusts the authority.
    pub trusts: bool,
}

/// Status of a site's virtual host file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum SiteFileState {
    /// The server reads it, or nobody can see that.
    #[default]
    Read,
    /// It is gone.
    Missing(Utf8PathBuf),
    /// It has no link in the folder that is read.
    NotEnabled {
        /// The site's, which is written but linked from nowhere.
        file: Utf8PathBuf,
        /// The link that isn't there.
        link: Utf8PathBuf,
    },
    /// No line includes its folder.
    NotIncluded {
        /// The site's, which is written but read by no server.
        file: Utf8PathBuf,
        /// The main file, where the line would be.
        main: Utf8PathBuf,
    },
}

/// A process that listens on one of the site's ports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PortHolder {
    /// The port that is held.
    pub port: u16,
    /// Program, number and user, in words.
    pub words: String,
    /// Its program's name, if it can be seen.
    pub program: Option<String>,
    /// Its number, if it can be seen.
    pub pid: Option<u32>,
    /// Whether it is another user's.
    pub is_anothers: bool,
    /// Whether it may hold the port for a service: systemd, launchd, or a process of root's that this user can't see.
    pub is_manager: bool,
    /// The names of its virtual hosts on that port, the first of them, if it is a server that is known.
    pub names: Vec<String>,
    /// The server that it is, if it is one that is known.
    pub server: Option<ServerId>,
}

/// The virtual host that answers a name on a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnsweringHost {
    /// As the client asks for it.
    pub name: HostName,
    /// The port that the client connects to.
    pub port: u16,
    /// Place of the line.
    pub place: Place,
    /// Whether it has the name, or answers for want of one that has it.
    pub has_name: bool,
    /// Whether the line is in the site's own file.
    pub is_own: bool,
    /// Whether it speaks TLS.
    pub tls: bool,
    /// The folder that it serves, by the paths of this machine; `None` if it says none.
    pub document_root: Option<Utf8PathBuf>,
}

/// What a server wrote into a log about a failed request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogLine {
    /// The log, by its path on this machine.
    pub file: Utf8PathBuf,
    /// Its number, from 1.
    pub number: usize,
    /// The line's text.
    pub text: String,
}

impl std::fmt::Display for LogLine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}: {}", self.file, self.number, self.text)
    }
}
