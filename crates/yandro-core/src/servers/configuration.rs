//! A server's configuration, run through once, whatever the kind of server.

use core::fmt::Debug;
use core::net::IpAddr;

use crate::server_path::ServerPath;

use super::Rule;
use crate::config::{Answering, ConfigFault, Place, VirtualHost};
use crate::logs::AccessLog;
use crate::site::Site;

/// An address that a server listens on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listener {
    /// The address with its port as it is shown: `80`, `127.0.0.1:80`, `[::1]:443`.
    pub address: String,
    /// The port that it listens on.
    pub port: u16,
    /// The line that says so.
    pub place: Place,
}

/// A server's configuration as the server reads it. Paths are as the server sees them.
pub trait Configuration: Debug + Send + Sync {
    /// The files that were read, in the order of their first reading.
    fn files(&self) -> &[ServerPath];
    /// Includes at the level of virtual hosts, with their wildcards, absolute; in order.
    fn includes(&self) -> &[ServerPath];
    /// The fault that ended the run before its end.
    fn fault(&self) -> Option<&ConfigFault>;
    /// The folder that relative paths start from.
    fn root(&self) -> &ServerPath;
    /// The virtual hosts by address.
    fn answering(&self) -> Vec<Answering<'_>>;
    /// The virtual host of an address that answers a name, and whether it has the name.
    fn answers<'c>(&self, at: &Answering<'c>, name: &str) -> Option<(&'c VirtualHost, bool)>;
    /// Addresses that it listens on, in order.
    fn listeners(&self) -> Vec<Listener>;
    /// Whether a request to this address and port gets there. `answering` is what [`Self::answering`] gave.
    fn takes_in(&self, answering: &[Answering<'_>], address: IpAddr, port: u16) -> bool;
    /// Whether it has TLS at all.
    fn has_tls(&self) -> bool;
    /// The lines that may answer the site's requests in the place of its folder, the one that counts first.
    /// `is_of_site` tells whether a line is in the site's own file.
    fn rules(&self, site: &Site, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<Rule>;
    /// Whether it has what it takes to pass PHP files on to php-fpm.
    fn passes_php_on(&self) -> bool;
    /// Whether the first virtual host of an address decides if TLS is spoken there.
    fn decides_tls_by_first(&self) -> bool;
    /// The files in which requests to a site are logged, and of the server itself if the site names none.
    fn access_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<AccessLog>;
    /// The files in which errors of a site are written.
    fn error_logs(&self, is_of_site: &dyn Fn(&Place) -> bool) -> Vec<ServerPath>;
    /// The user of the worker processes, if it is configured.
    fn user(&self) -> Option<&str>;
    /// The file that keeps the number of the main process, if it says so.
    fn pid_file(&self) -> Option<ServerPath>;
}
