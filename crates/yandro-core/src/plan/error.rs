//! Why something can't be planned.

use camino::Utf8PathBuf;

use crate::config::{ParseError, PathError};
use crate::hosts::EditError;
use crate::name::HostName;
use crate::pki::PkiError;
use crate::server_path::ServerPath;
use crate::servers::httpd::run::{ConfigFault, Place};
use crate::site::{ListId, ServerId};

/// Why a site can't be mapped. Nothing has been changed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PlanError {
    /// The hosts file is missing.
    #[error("the hosts file `{0}` is missing")]
    HostsMissing(Utf8PathBuf),
    /// The hosts file can't take the names.
    #[error("{}", .error.at(.path))]
    Hosts {
        /// The hosts file.
        path: Utf8PathBuf,
        /// The conflict.
        error: EditError,
    },
    /// The name of the default virtual hosts.
    #[error("`{0}` can't be the name of a site: yandro's default virtual hosts for unknown host names have it")]
    ReservedName(HostName),
    /// Another site has the name.
    #[error("`{name}` already belongs to the site `{owner}`")]
    NameTaken {
        /// The name that two sites want.
        name: HostName,
        /// The site that has it.
        owner: HostName,
    },
    /// Browsers force HTTPS on the name, and the site is to be without.
    #[error("browsers ask for `{0}` only over HTTPS, whatever is typed: without HTTPS nobody would reach it")]
    HttpsForced(HostName),
    /// The certificate can't be issued.
    #[error("{0}")]
    Pki(#[from] PkiError),
    /// A certificate of names that are not sites can't be renewed.
    #[error("{path}: {error}")]
    Issued {
        /// The file with its chain.
        path: Utf8PathBuf,
        /// Why.
        error: PkiError,
    },
    /// A server is wanted and was not found.
    #[error("no {0} was found")]
    ServerMissing(ServerId),
    /// A module is not installed.
    #[error(
        "Apache httpd has no module `{module}` to load: its configuration has no line for it that could be switched on, and among its modules there is no `mod_{module}.so`"
    )]
    ModuleMissing {
        /// As the server's configuration calls it.
        module: String,
        /// The command that installs it, where it is known.
        install: Option<&'static str>,
    },
    /// HTTP/2 was asked for, and the server can't.
    #[error("{server} can't speak HTTP/2, since it runs one process for each connection (prefork)")]
    Prefork {
        /// The server.
        server: ServerId,
        /// Whether it enables modules by links, as Debian does.
        has_links: bool,
    },
    /// The server refuses its configuration as it is.
    #[error("the configuration of {0} is broken already, before anything was changed: {1}")]
    Broken(ServerId, Box<ConfigFault>),
    /// A line of a shared file would have no effect where it had to go.
    #[error("`{what}` would have no effect in {file}: that part of it doesn't count")]
    Unreached {
        /// The line.
        what: String,
        /// The file.
        file: ServerPath,
    },
    /// A file or line of yandro's belongs to another site list.
    #[error("`{name}` belongs to {list}: {path}")]
    OtherList {
        /// The site.
        name: HostName,
        /// The other one, which has the site.
        list: ListId,
        /// The file of that list.
        path: Utf8PathBuf,
    },
    /// Somebody else's virtual host has the name.
    #[error("{place}: a virtual host that yandro did not write already answers to `{name}`")]
    VirtualHostTaken {
        /// File and line of that virtual host.
        place: Place,
        /// The site's own name or an alias.
        name: HostName,
    },
    /// A file of somebody else's is where the site's link has to be.
    #[error("{path}: points to `{target}`, not to the file that yandro writes")]
    LinkTaken {
        /// The link.
        path: Utf8PathBuf,
        /// Its target.
        target: Utf8PathBuf,
    },
    /// A name is too long for the buckets of names that the server's own configuration sets.
    #[error(
        "{place}: `server_names_hash_bucket_size {size}` is too small for the site's longest name, which needs {needed}"
    )]
    NameBucket {
        /// Its place.
        place: Place,
        /// What it is.
        size: usize,
        /// The size that it needs.
        needed: usize,
    },
    /// A remote or containerised server doesn't see a file or folder of this machine.
    #[error("the server `{server}` doesn't see {path}: no path mapping contains it")]
    NotSeen {
        /// The server whose path mappings were tried.
        server: ServerId,
        /// The file or folder, as it is here.
        path: Utf8PathBuf,
    },
    /// The php-fpm of a version is not here.
    #[error("`{name}` is to run in a pool of its own in the php-fpm of PHP {version}, which isn't installed here")]
    PhpMissing {
        /// The version.
        version: String,
        /// The site.
        name: HostName,
    },
    /// The owner of a project is nobody that PHP can run as.
    #[error(
        "PHP can't run as the owner of {folder} for `{name}`: that isn't you, or it is root or a service's account"
    )]
    PoolOwner {
        /// The site.
        name: HostName,
        /// Its folder.
        folder: String,
    },
    /// The site's server has no user on this machine that a pool could be opened to.
    #[error("a pool of its own for `{0}` needs Apache httpd or nginx on this computer, which connects to it")]
    PoolServer(HostName),
    /// The name is too long for a socket's path.
    #[error("`{0}` is too long for the socket of a pool of its own: at most 80 letters")]
    PoolName(HostName),
    /// A file that yandro didn't write has the name of the pool's.
    #[error("{0} is not of yandro's making, and the site's pool of php-fpm has to be there")]
    PoolTaken(Utf8PathBuf),
    /// The path of the script that reads secrets can't be written into a pool's file.
    #[error("php-fpm can't take the path {path} of the script that reads the secrets of `{name}`")]
    PoolScript {
        /// The site.
        name: HostName,
        /// The path.
        path: Utf8PathBuf,
    },
    /// Names below a site can only be resolved by a change of the list of name servers.
    #[error(
        "names below `{name}` need a DNS server, and neither systemd-resolved nor NetworkManager's dnsmasq resolves names here that could be told of one: only {path} is left, which all programs of this computer read"
    )]
    NameServers {
        /// The site.
        name: HostName,
        /// The list of name servers.
        path: Utf8PathBuf,
    },
    /// The system has a file already by which it asks somebody else for names below a site.
    #[error("{0} is not of yandro's making, and says already which server is asked for these names")]
    ResolverTaken(Utf8PathBuf),
    /// Names below a site whose name is a whole suffix.
    #[error("`{0}` can't have tenants: it is a suffix, and nobody takes a certificate for all names right below one")]
    SuffixTenants(HostName),
    /// Apache httpd would answer another site's name as a tenant of this one.
    #[error(
        "Apache httpd would answer `{name}` as one of the names below `{site}`: it reads the files of sites in the order of their names, and takes the first that fits"
    )]
    AmongTenants {
        /// The other site's name.
        name: HostName,
        /// The site with tenants.
        site: HostName,
    },
    /// A path that the configuration can't hold.
    #[error("{0}")]
    Path(#[from] PathError),
    /// The site's file can't be read as a configuration.
    #[error("{path}:{}: {error}", .error.excerpt.position.line)]
    SiteFile {
        /// The file.
        path: Utf8PathBuf,
        /// The fault, with the line.
        error: ParseError,
    },
}

/// The failure of a plan for many sites.
#[derive(Debug, thiserror::Error)]
#[error("{}{error}", .site.as_ref().map(|name| format!("the site `{name}`: ")).unwrap_or_default())]
pub struct PlanFailure {
    /// The site that it was about, if it was one.
    pub site: Option<HostName>,
    /// The failure.
    pub error: Box<PlanError>,
}

impl PlanFailure {
    pub(super) fn of(site: Option<&HostName>, error: PlanError) -> Self {
        Self { site: site.cloned(), error: Box::new(error) }
    }
}
