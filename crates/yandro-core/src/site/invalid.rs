//! Reason why a text is not a value of a site's option.

use crate::name::NameError;
use crate::pki::LONGEST_DAYS;
use crate::site::{ServerNameError, UpstreamError};

/// A value that an option can't have.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum InvalidValue {
    /// A host name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// An upstream.
    #[error(transparent)]
    Upstream(#[from] UpstreamError),
    /// A server.
    #[error(transparent)]
    Server(#[from] ServerNameError),
    /// A place where a `FastCGI` server listens.
    #[error("`{0}` is no FastCGI server: give a socket's absolute path, or `HOST:PORT` such as `127.0.0.1:9000`")]
    FastCgi(String),
    /// A text that is not a port.
    #[error("`{0}` is not a port")]
    Port(String),
    /// Port 0.
    #[error("a port is a number from 1 to 65535")]
    PortZero,
    /// A port in a list, again.
    #[error("port {0} is given twice")]
    PortTwice(u16),
    /// A plain file name.
    #[error("`{0}` is not a file name: give one such as `index.php`")]
    FileName(String),
    /// A path of a site's address.
    #[error("`{0}` is not a path of the site: give one such as `/index.php`")]
    SitePath(String),
    /// An absolute path of the file system.
    #[error("`{}` is not an absolute path: begin it with `/` or `~/`", .0.escape_debug())]
    AbsolutePath(String),
    /// A path below the project's folder.
    #[error("`{0}` is not a path below the folder: give one such as `public`")]
    PathBelow(String),
    /// An IP address.
    #[error("`{0}` is no IP address: give one such as `127.0.0.1` or `::1`")]
    Address(String),
    /// A variable without a name or a value.
    #[error("`{0}` is not a variable: write it as `NAME=VALUE`, or a secret as `NAME@FILE`")]
    Variable(String),
    /// A variable that isn't for applications to set.
    #[error("the variable `{0}` is set by the server, or changes how programs run")]
    ReservedVariable(String),
    /// A value that can't be written into every server's configuration.
    #[error("the value of `{0}` has a `$`, a backslash or a control character, which servers don't take as it is")]
    VariableValue(String),
    /// A version of PHP.
    #[error("`{0}` is not a version of PHP: give one such as `8.2`")]
    PhpVersion(String),
    /// A number of days, not in digits.
    #[error("`{0}` is not a number of days")]
    Days(String),
    /// More days than every client takes.
    #[error("a certificate lasts from one day to {LONGEST_DAYS}: Apple's systems take no longer one")]
    TooManyDays,
    /// A word that is none of a choice.
    #[error("unknown variant `{word}`, expected one of `{}`", .known.join("`, `"))]
    Word {
        /// What was given.
        word: String,
        /// The known words.
        known: Vec<&'static str>,
    },
}
