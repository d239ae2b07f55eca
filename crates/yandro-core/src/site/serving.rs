//! How a site is served, beyond what every site has.

use super::{InvalidValue, SiteVariable};
use camino::{Utf8Path, Utf8PathBuf};

use crate::host_port::HostPort;
use crate::name::HostName;
use crate::server_path::ServerPath;

/// The choices that a site leaves open have their usual value.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Serving {
    /// The ports for plain HTTP; empty for the default one.
    pub http_ports: Vec<u16>,
    /// The ports for HTTPS; empty for the default one.
    pub https_ports: Vec<u16>,
    /// Whether the site has its address for itself, and answers there whatever name is asked for.
    pub by_address: bool,
    /// Whether only this computer is answered, although the server listens for others, too.
    pub only_here: bool,
    /// Whether every name one label below the site's is answered like it.
    pub tenants: bool,
    /// The aliases that redirect to the site's name.
    pub redirect_aliases: Vec<HostName>,
    /// Whether folders without an index are listed.
    pub listing: Listing,
    /// Whether override files (`.htaccess`) count.
    pub overrides: Overrides,
    /// Whether symbolic links are followed.
    pub symlinks: Symlinks,
    /// Whether browsers may use HTTP/2.
    pub http2: Http2,
    /// What browsers may do with their copies of files.
    pub caching: Caching,
    /// The host that an upstream is asked for.
    pub upstream_host: UpstreamHost,
    /// The index names, the first that is there answers; none leaves it to the server.
    pub index: Vec<String>,
    /// The answer for missing files: a path of the site, such as `/index.php`.
    pub fallback: Option<String>,
    /// The `FastCGI` server that PHP files go to; `None` for a site without PHP.
    pub php: Option<FastCgi>,
    /// The version of the php-fpm in which a pool of the site's own runs PHP files as the project's owner; then `php`
    /// is [its socket](FastCgi::of_pool).
    pub php_as_owner: Option<String>,
    /// Variables for PHP and for the shell.
    pub variables: Vec<SiteVariable>,
    /// A file of the person's with further directives, absolute.
    pub extra: Option<Utf8PathBuf>,
    /// Place of the logs.
    pub logs: Logs,
}

/// A choice of a few words, as the command line and the site list have them.
macro_rules! words {
    ($(#[$doc:meta])* $name:ident { $($(#[$variant_doc:meta])* $variant:ident = $word:literal),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Deserialize)]
        #[serde(rename_all = "kebab-case")]
        pub enum $name { $($(#[$variant_doc])* $variant),+ }

        impl $name {
            /// Every choice.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// The word for it on the command line and in the site list.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }
        }
    };
}

words! {
    /// Whether folders without an index are listed.
    Listing {
        /// They are.
        #[default]
        On = "on",
        /// They are not.
        Off = "off",
    }
}

words! {
    /// Whether override files count.
    Overrides {
        /// They do. In those of a site without PHP, lines that choose what runs a file are refused.
        #[default]
        On = "on",
        /// Every line of theirs does.
        All = "all",
        /// They are not even looked for.
        Off = "off",
    }
}

words! {
    /// Symbolic links that are followed.
    Symlinks {
        /// All of them; the built-in server doesn't follow them out of the project's folder.
        #[default]
        On = "on",
        /// All of them, wherever they lead.
        Anywhere = "anywhere",
        /// Links whose target has the same owner.
        Owner = "owner",
        /// None.
        Off = "off",
    }
}

words! {
    /// Whether browsers may use HTTP/2 (RFC 9113) over HTTPS.
    Http2 {
        /// If the server can, without another change of its configuration.
        #[default]
        Auto = "auto",
        /// Yes; a module that it needs is switched on.
        On = "on",
        /// No.
        Off = "off",
    }
}

words! {
    /// What browsers may do with their copies of files (RFC 9111).
    Caching {
        /// They ask each time whether a copy is still good.
        #[default]
        Revalidate = "revalidate",
        /// They keep none.
        Off = "off",
    }
}

words! {
    /// The host that an upstream is asked for (RFC 9110 section 7.2).
    UpstreamHost {
        /// The site's, as it was asked for.
        #[default]
        Site = "site",
        /// The upstream's own, for one that refuses other names.
        Own = "own",
    }
}

/// Place of a site's logs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Logs {
    /// The server's default place.
    #[default]
    Usual,
    /// Nowhere.
    Off,
    /// Into this folder, absolute.
    Folder(Utf8PathBuf),
}

impl Logs {
    /// The folder of the site's own, if it has one.
    pub fn folder(&self) -> Option<&Utf8Path> {
        match self {
            Self::Folder(folder) => Some(folder),
            Self::Usual | Self::Off => None,
        }
    }
}

/// Address of a `FastCGI` server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FastCgi {
    /// A socket of the file system, absolute.
    Socket(ServerPath),
    /// A host and a port.
    Address(HostPort),
}

impl FastCgi {
    /// The socket of the pool that a site has for itself in the php-fpm of a version.
    pub fn of_pool(version: &str, name: &HostName) -> Self {
        Self::Socket(format!("/run/yandro-php{version}-{name}.sock").into())
    }

    /// Reads the absolute path of a socket, or `HOST:PORT`.
    ///
    /// # Errors
    /// An [`InvalidValue`] that says what it should be.
    pub fn parse(text: &str) -> Result<Self, InvalidValue> {
        if text.starts_with('/') {
            return Ok(Self::Socket(checked_path(text)?.into()));
        }
        // Servers read `unix:` as the beginning of a socket's path.
        match HostPort::parse(text, None) {
            Some(address) if address.host() != "unix" => Ok(Self::Address(address)),
            _ => Err(InvalidValue::FastCgi(text.to_owned())),
        }
    }
}

impl std::fmt::Display for FastCgi {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Socket(path) => path.fmt(f),
            Self::Address(address) => address.fmt(f),
        }
    }
}

impl Logs {
    /// Reads `off` or the absolute path of a folder.
    ///
    /// # Errors
    /// An [`InvalidValue`] that says what it should be.
    pub fn parse(text: &str) -> Result<Self, InvalidValue> {
        match text {
            "usual" => Ok(Self::Usual),
            "off" => Ok(Self::Off),
            _ => checked_path(text).map(Self::Folder),
        }
    }
}

impl std::fmt::Display for Logs {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Usual => f.write_str("usual"),
            Self::Off => f.write_str("off"),
            Self::Folder(path) => path.fmt(f),
        }
    }
}

/// A port that can be listened on.
///
/// # Errors
/// For port 0.
pub(super) fn checked_port(port: u16) -> Result<u16, InvalidValue> {
    if port == 0 { Err(InvalidValue::PortZero) } else { Ok(port) }
}

/// The name of an index file.
///
/// # Errors
/// For one that is not a plain name.
pub(crate) fn checked_index(name: &str) -> Result<String, InvalidValue> {
    let is_name = !name.is_empty() && !name.contains(['/', '\\', '$']) && !name.chars().any(char::is_control);
    if is_name { Ok(name.to_owned()) } else { Err(InvalidValue::FileName(name.to_owned())) }
}

/// A path of the site, `/` in front.
///
/// # Errors
/// For one with a query, a variable or control characters.
pub(crate) fn checked_fallback(path: &str) -> Result<String, InvalidValue> {
    let path = format!("/{}", path.trim_start_matches('/'));
    let is_path = path.len() > 1
        && !path.contains(['?', '#', '\\', '$'])
        && !path.chars().any(char::is_control)
        && !path.split('/').any(|part| part == "..");
    if is_path { Ok(path) } else { Err(InvalidValue::SitePath(path)) }
}

/// A version of PHP, as php-fpm's programs and folders are named by it: `8.2`.
///
/// # Errors
/// For anything else.
pub(super) fn checked_version(text: &str) -> Result<String, InvalidValue> {
    let is_number = |part: &str| !part.is_empty() && part.len() < 4 && part.bytes().all(|byte| byte.is_ascii_digit());
    match text.split_once('.') {
        Some((major, minor)) if is_number(major) && is_number(minor) => Ok(text.to_owned()),
        _ => Err(InvalidValue::PhpVersion(text.to_owned())),
    }
}

/// An absolute path without control characters.
///
/// # Errors
/// For any other.
pub(super) fn checked_path(text: &str) -> Result<Utf8PathBuf, InvalidValue> {
    let path = Utf8PathBuf::from(text);
    if path.has_root() && !text.chars().any(char::is_control) {
        Ok(path)
    } else {
        Err(InvalidValue::AbsolutePath(text.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_checked_before_they_get_anywhere() {
        assert_eq!(FastCgi::parse("/run/php/php-fpm.sock").unwrap().to_string(), "/run/php/php-fpm.sock");
        assert_eq!(FastCgi::parse("127.0.0.1:9000").unwrap().to_string(), "127.0.0.1:9000");
        for text in ["php-fpm.sock", "127.0.0.1", "a b:1", "/run/a\nb", "h:0", "unix:9000", "h:9000/x", ""] {
            assert!(FastCgi::parse(text).is_err(), "{text}");
        }
        assert_eq!(Logs::parse("off").unwrap(), Logs::Off);
        assert!(Logs::parse("logs").is_err() && checked_port(0).is_err());
        assert_eq!(checked_fallback("index.php").unwrap(), "/index.php");
        for path in ["", "/", "/a?b", "/../x", "/${HOME}", "/a\n"] {
            assert!(checked_fallback(path).is_err(), "{path}");
        }
        for name in ["", "a/b", "${x}", "a\nb"] {
            assert!(checked_index(name).is_err(), "{name}");
        }
    }
}
