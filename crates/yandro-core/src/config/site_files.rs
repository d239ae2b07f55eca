//! The paths and names in a site's virtual hosts, and the traits of the server that they depend on.

use std::collections::BTreeSet;

use crate::server_path::ServerPath;

use super::Published;
use crate::site::{FastCgi, ListId, Serving};

/// Differences between servers, as far as a site's virtual hosts are concerned.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ServerTraits {
    /// The folder of its logs; may name a variable of the server's. Empty where sites' virtual
    /// hosts log as the main server does.
    pub log_folder: String,
    /// The format of the access log: a nickname that its configuration defines, or a format.
    pub log_format: String,
    /// Whether `ProxyPass` knows `upgrade=` (2.4.47).
    pub upgrades: bool,
    /// The addresses of other people's virtual hosts that are a single address, such as
    /// `127.0.0.1:80`: a request to such an address never reaches the virtual hosts of `*:80`.
    pub specific: BTreeSet<String>,
    /// Whether IPv6 needs a separate line (nginx).
    pub listens_on_v6: bool,
    /// Whether HTTP/2 is a directive (nginx 1.25.1), and no word of `listen`.
    pub has_http2_directive: bool,
    /// Whether Apache httpd speaks HTTP/2 as it is: it has the module, and handles connections in threads.
    pub speaks_http2: bool,
    /// Start of a variable in an argument, whatever its quotes.
    pub variable: Variable,
    /// Under which ports browsers reach it.
    pub published: Published,
}

/// Start of a variable in an argument.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Variable {
    /// `${` (Apache httpd).
    #[default]
    Braced,
    /// `$` (nginx).
    Plain,
}

impl Variable {
    fn sign(self) -> &'static str {
        match self {
            Self::Braced => "${",
            Self::Plain => "$",
        }
    }
}

/// Paths of a site's files, as the server sees them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteFiles {
    /// The folder that is served; `None` for an upstream.
    pub document_root: Option<ServerPath>,
    /// The full chain in PEM.
    pub certificate: ServerPath,
    /// The key in PEM.
    pub key: ServerPath,
    /// The file with further directives, if there is one.
    pub extra: Option<ServerPath>,
    /// The folder of the site's logs, if it has one.
    pub logs: Option<ServerPath>,
    /// What its version and modules can do.
    pub server: ServerTraits,
    /// The site list that the file names as its owner; `None` for one written for another machine.
    pub list: Option<ListId>,
}

/// A path that no quoting brings into a configuration unharmed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the path `{}` can't be written into the server's configuration: {reason}; rename that folder", .path.escape_debug())]
pub struct PathError {
    path: String,
    reason: String,
}

#[cfg(test)]
impl PathError {
    pub(crate) fn new(path: &str, reason: &str) -> Self {
        Self { path: path.to_owned(), reason: reason.to_owned() }
    }
}

impl SiteFiles {
    /// Refuses paths that the server would read as something else.
    ///
    /// # Errors
    /// A [`PathError`] for control characters, for what begins a variable and can't be escaped, and for wildcards and bars where they have a meaning.
    pub fn check(&self, serving: &Serving) -> Result<(), PathError> {
        let none: &[char] = &[];
        let sign = self.server.variable.sign();
        let socket = match &serving.php {
            Some(FastCgi::Socket(path)) => Some(path),
            _ => None,
        };
        let paths = [
            (Some(&self.certificate), none),
            (Some(&self.key), none),
            (self.document_root.as_ref(), none),
            (self.extra.as_ref(), &['*', '?', '[']),
            (self.logs.as_ref(), &['%']),
            (socket, &['|', ' ', '%']),
        ];
        for (path, special) in paths {
            let Some(path) = path else { continue };
            let reason = if path.as_str().chars().any(char::is_control) {
                "it holds a control character".to_owned()
            } else if path.as_str().contains(sign) {
                format!("`{sign}` begins a variable there")
            } else if path.as_str().contains(special) {
                "it has a character with a special meaning there".to_owned()
            } else {
                continue;
            };
            return Err(PathError { path: path.to_string(), reason });
        }
        Ok(())
    }
}
