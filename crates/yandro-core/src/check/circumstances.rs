//! What stands around a site that isn't well: the facts by which a symptom gets its cause.

use camino::Utf8PathBuf;

use crate::config::Place;
use crate::site::ServerId;

/// What was found out about a site's server and files, once something about the site was not well.
/// Each is empty or `None` where it can't be seen from here.
#[derive(Clone, Debug, Default)]
pub struct Circumstances {
    /// Whether its server runs.
    pub runs: Option<bool>,
    /// The server's own words, if it refuses its configuration.
    pub refuses: Option<String>,
    /// How its virtual host file stands.
    pub site_file: SiteFileState,
    /// A file that was changed after the server last took its configuration up.
    pub newer: Option<Utf8PathBuf>,
    /// Who listens on the site's ports.
    pub holders: Vec<PortHolder>,
    /// The site's ports that the configuration has no line to listen on.
    pub not_listened: Vec<u16>,
    /// Which virtual host answers by the configuration, where it is not the site's own.
    pub others: Vec<OtherHost>,
    /// Where the site's own virtual host for HTTPS stands, if it has TLS off.
    pub tls_off: Option<Place>,
    /// Whether the server has TLS at all.
    pub has_tls: Option<bool>,
    /// Whether key and certificate on disk belong together.
    pub key_fits: Option<bool>,
    /// Whether the document root has an index page.
    pub has_index: Option<bool>,
    /// A line that forbids the folder.
    pub denied: Option<Place>,
    /// An override file on the way to the document root.
    pub override_file: Option<Utf8PathBuf>,
    /// Where PHP is passed on to, if nothing answers there.
    pub php_down: Option<String>,
    /// The last lines of the server's error log that are about the site, the latest last.
    pub log: Vec<LogLine>,
    /// A line of the system's guard that keeps the server from the folder.
    pub confined: Option<String>,
}

/// How a site's virtual host file stands.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum SiteFileState {
    /// The server reads it, or nobody can see that.
    #[default]
    Read,
    /// It is gone.
    Missing(Utf8PathBuf),
    /// It has no link in the folder that is read.
    NotEnabled {
        /// The file.
        file: Utf8PathBuf,
        /// The link that isn't there.
        link: Utf8PathBuf,
    },
    /// No line includes its folder.
    NotIncluded {
        /// The file.
        file: Utf8PathBuf,
        /// The main file, where the line would be.
        main: Utf8PathBuf,
    },
}

/// A process that listens on one of the site's ports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PortHolder {
    /// The port.
    pub port: u16,
    /// Program, number and user, in words.
    pub words: String,
    /// The server that it is, if it is one that is known.
    pub server: Option<ServerId>,
}

/// A virtual host that answers in the place of the site's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherHost {
    /// The port.
    pub port: u16,
    /// Where it stands.
    pub place: Place,
    /// Whether it has the name, or answers for want of one that has it.
    pub has_name: bool,
}

/// A line of a log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogLine {
    /// The file.
    pub file: Utf8PathBuf,
    /// Its number, from 1.
    pub number: usize,
    /// What it says.
    pub text: String,
}

impl std::fmt::Display for LogLine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}: {}", self.file, self.number, self.text)
    }
}
