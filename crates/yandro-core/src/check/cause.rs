//! What the causes of findings are made of: the facts where one code has several sentences.

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
        /// The name.
        host: HostName,
        /// What the resolver says.
        found: Vec<IpAddr>,
        /// What the hosts file says.
        wanted: IpAddr,
    },
    /// It has none.
    None {
        /// The name.
        host: HostName,
    },
}

/// What a server does that refuses its configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ConfigurationRefusal {
    /// It runs, and goes on with what it read before.
    KeepsOld,
    /// It can't start.
    CannotStart,
}

impl ConfigurationRefusal {
    /// What a server that runs, or not, does.
    pub(super) fn of(runs: Option<bool>) -> Self {
        if runs == Some(true) { Self::KeepsOld } else { Self::CannotStart }
    }
}

/// What is wrong with a certificate that is served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CertificateFault {
    /// Another authority issued it.
    OtherIssuer,
    /// A validator refuses it.
    Refused,
    /// It is the one for names that are no sites.
    OfUnknownNames,
    /// It doesn't name the host.
    OtherNames,
    /// The site's virtual host names another certificate than the site's.
    OtherFile,
    /// It ended then.
    Ended(OffsetDateTime),
}

/// What was asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RequestedPage {
    /// The first page.
    Page,
    /// The file, or the answer, that proves where the name is answered from.
    Proof,
}

/// What the server's user may not do, or is not let.
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

/// Where a name is answered from that should be answered from its folder.
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
