//! Roles of steps.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::config::others_name;
use crate::name::HostName;
use crate::site::ServerId;
use crate::system::ResolverPlace;

/// Role of a step, set where it is planned. A record of changes keeps it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// The hosts file.
    HostsFile,
    /// The site list.
    SiteList,
    /// The sites as they were last applied.
    AppliedSites,
    /// What a site's folder looks like.
    Marker,
    /// A project file as its user agreed to it.
    ProjectConsent,
    /// The settings, the user's or everybody's.
    Settings,
    /// A site's virtual hosts, or the link that enables them.
    VirtualHost(HostName),
    /// The pool of php-fpm that a site has for itself.
    PhpPool {
        /// The site.
        site: HostName,
        /// The version of PHP.
        version: String,
    },
    /// The script that reads a site's secrets.
    PhpSecrets(HostName),
    /// A virtual host that a person wrote, or the link that enables it.
    HandWritten,
    /// The virtual hosts for unknown host names, or the link that enables them.
    DefaultHost(ServerId),
    /// A file of a server that its sites share.
    SharedConfig(ServerId),
    /// A link that enables a module.
    ModuleLink {
        /// The server.
        server: ServerId,
        /// The module, by its identifier without `_module`.
        module: String,
        /// Whether it is the link that loads the module, and not the one with its settings.
        loads: bool,
    },
    /// A folder for logs.
    Logs,
    /// A site's certificate with its chain.
    Certificate(HostName),
    /// A site's key.
    Key(HostName),
    /// The root certificate.
    Root,
    /// Another file of the authority.
    Authority,
    /// A file of an authority that another took the place of, by its id.
    FormerAuthority(String),
    /// A certificate that was issued to no site.
    IssuedCertificate,
    /// The list of those.
    IssuedList,
    /// A trust store.
    TrustStore,
    /// A file by which the system asks yandro's responder for names below sites.
    Resolver(ResolverPlace),
    /// A timer that renews certificates.
    Timer,
    /// The built-in server as a service.
    Service,
    /// A file of the application behind a site, which gets its new address.
    Application,
    /// The user's own project.
    ProjectFile,
    /// The way to a project, which a server's user may enter.
    Access,
    /// A file that the user asked to write or restore.
    Export,
    /// A record of version 2 or earlier doesn't say.
    Unrecorded,
}

impl Role {
    /// The site whose certificate or key it is.
    pub fn certificate_of(&self) -> Option<&HostName> {
        match self {
            Self::Certificate(name) | Self::Key(name) => Some(name),
            _ => None,
        }
    }

    /// The versions of php-fpm whose pools steps of these roles change.
    pub fn php_versions<'r>(roles: impl Iterator<Item = &'r Self>) -> BTreeSet<&'r str> {
        let of = |role: &'r Self| match role {
            Self::PhpPool { version, .. } => Some(version.as_str()),
            _ => None,
        };
        roles.filter_map(of).collect()
    }

    /// Whether only yandro creates such files, so that they have no original.
    pub fn is_yandros(&self) -> bool {
        matches!(
            self,
            Self::VirtualHost(_)
                | Self::DefaultHost(_)
                | Self::PhpPool { .. }
                | Self::PhpSecrets(_)
                | Self::Timer
                | Self::Service
                | Self::TrustStore
        )
    }

    /// Whether all sites of a list or of a server need it.
    pub(super) fn is_shared_by_sites(&self) -> bool {
        match self {
            Self::Root | Self::Authority | Self::DefaultHost(_) | Self::SharedConfig(_) | Self::ModuleLink { .. } => {
                true
            }
            Self::Certificate(name) | Self::Key(name) => *name == others_name(),
            _ => false,
        }
    }

    /// Whether its files are planned again from the list, or are nobody's to edit.
    pub(super) fn is_never_edited(&self) -> bool {
        matches!(
            self,
            Self::HostsFile
                | Self::SiteList
                | Self::AppliedSites
                | Self::Resolver(_)
                | Self::ProjectConsent
                | Self::Marker
                | Self::DefaultHost(_)
                | Self::Certificate(_)
                | Self::Key(_)
                | Self::Root
                | Self::Authority
                | Self::FormerAuthority(_)
                | Self::IssuedList
        )
    }
}

/// Role of a site's file or link, the default virtual host included.
pub(super) fn site_file_role(name: HostName, server: ServerId) -> Role {
    if name == others_name() { Role::DefaultHost(server) } else { Role::VirtualHost(name) }
}
