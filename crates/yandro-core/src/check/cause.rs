//! The parts of the causes of findings, for codes that have several sentences.

use core::net::IpAddr;

use camino::Utf8PathBuf;
use time::OffsetDateTime;

use crate::name::HostName;
use crate::site::Content;

/// How the resolver's answer differs from the hosts file's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unresolved {
    /// It has other addresses.
    Other {
        /// The name that was looked up.
        host: HostName,
        /// The resolver's addresses.
        found: Vec<IpAddr>,
        /// The address in the hosts file.
        wanted: IpAddr,
    },
    /// The resolver finds no address.
    None {
        /// The name that was looked up.
        host: HostName,
    },
}

/// Fault of a hosts file from which resolvers read no line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HostsFault {
    /// It is gone.
    Missing,
    /// It is a symbolic link to a file that doesn't exist.
    Dangling(Utf8PathBuf),
    /// Only root can read it.
    Unreadable,
    /// It is encoded as UTF-16.
    Utf16,
}

/// Fault of an upstream that is there and can't be used as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UpstreamFault {
    /// It listens at the loopback address of the other family only.
    OtherFamily(IpAddr),
    /// It speaks TLS on that port.
    SpeaksTls,
    /// It accepts connections and sends no answer in time.
    Silent,
    /// It begins an answer that doesn't end in time.
    Endless,
    /// It ends the connection without an answer.
    Closes,
    /// Its answer is not HTTP.
    NotHttp,
}

/// How a line of the configuration keeps a site's content back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeniedBy {
    /// It forbids the content to this machine.
    Access,
    /// It answers with this status.
    Status(u16),
    /// It doesn't let the server follow the symbolic link.
    Links,
}

/// Why no index page is sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum IndexFault {
    /// The folder has none.
    NoneThere,
    /// The server looks for these names, and the folder's has another.
    OtherNames(Vec<String>),
    /// The server lists the folder, though this one is there.
    Listed(String),
}

/// Why a server takes connections and doesn't answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SilenceReason {
    /// A signal has stopped its processes.
    Stopped,
    /// As many requests as it answers at once are with it.
    Full,
    /// Unknown.
    Unknown,
}

/// Why PHP files are sent as text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SourceReason {
    /// The site is mapped without PHP.
    WithoutPhp,
    /// The server's modules that pass requests on are off.
    ModuleOff,
    /// The lines that pass requests on are gone from the site's virtual host.
    LinesGone,
}

/// Fault of a file that the server reads only when it starts or is reloaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FileFault {
    /// It is gone.
    Missing,
    /// It can't be read; the system's words.
    Unreadable(String),
    /// It has no certificate, or no key.
    Damaged,
}

/// Consequence of a configuration that the server refuses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ConfigurationRefusal {
    /// It runs, and goes on with what it read before.
    KeepsOld,
    /// It can't start.
    CannotStart,
}

impl ConfigurationRefusal {
    /// For a server that runs, is stopped, or can't be asked.
    pub(super) fn of(runs: Option<bool>) -> Self {
        if runs == Some(true) { Self::KeepsOld } else { Self::CannotStart }
    }
}

/// Fault of a certificate that is served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CertificateFault {
    /// Another authority issued it.
    OtherIssuer,
    /// A validator refuses it.
    Refused,
    /// The certificate of the default virtual host is served.
    OfUnknownNames,
    /// It doesn't name the host.
    OtherNames,
    /// The site's virtual host names another certificate than the site's.
    OtherFile,
    /// It ended then.
    Ended(OffsetDateTime),
}

/// The page that was requested.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RequestedPage {
    /// The first page.
    Page,
    /// The file, or the answer, that proves where the name is answered from.
    Proof,
}

/// An access that the server's user lacks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Forbidden {
    /// Read the site's content: by its rights or by a rule.
    Content(Content),
    /// Enter a folder on the way.
    Folder {
        /// The server's user.
        user: String,
        /// The folder.
        path: Utf8PathBuf,
    },
    /// Read the index page.
    Index {
        /// The server's user.
        user: String,
        /// The page.
        path: Utf8PathBuf,
    },
}

/// Why a line of an override file is refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OverrideRefusal {
    /// Sites without PHP may not have such lines, for they can run programs.
    CanRunPrograms,
    /// The server doesn't take it.
    Faulty(crate::site::ServerId),
}

/// The place that answers instead of the site's folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UnexpectedFolder {
    /// Not from this content, and nobody knows from where.
    NotFrom(Content),
    /// From the folder that its virtual host names.
    Served {
        /// The folder that is named.
        other: Utf8PathBuf,
        /// The site's.
        wanted: Utf8PathBuf,
    },
}
