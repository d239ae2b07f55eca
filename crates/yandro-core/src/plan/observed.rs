//! What the machine looks like, as plain values.

use core::net::{IpAddr, Ipv6Addr};
use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;

use super::change::Content;
use super::server::OwnFiles;
use crate::config::{Links, Place, ServerTraits, SiteFiles};
use crate::hosts::TakeOver;
use crate::httpd::{ModuleFiles, Shared};
use crate::name::HostName;
use crate::nginx;
use crate::pki::{Authority, Key, Serial};
use crate::site::{DEFAULT_ADDRESS, ServerKind, Site};

/// Where everything is kept. Paths are those of this machine, the sysroot included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Places {
    /// The folder that stands for `/`.
    pub sysroot: Utf8PathBuf,
    /// The hosts file.
    pub hosts: Utf8PathBuf,
    /// The folder of the site list and the settings.
    pub config: Utf8PathBuf,
    /// The folder of the authority, the certificates and the history.
    pub data: Utf8PathBuf,
}

impl Places {
    /// The site list.
    pub fn site_list(&self) -> Utf8PathBuf {
        self.config.join("sites.toml")
    }

    /// The settings.
    pub fn settings(&self) -> Utf8PathBuf {
        self.config.join("settings.toml")
    }

    /// The folder of the authority.
    pub fn authority(&self) -> Utf8PathBuf {
        self.data.join("authority")
    }

    /// The root certificate: what trust stores take.
    pub fn root_certificate(&self) -> Utf8PathBuf {
        self.authority().join("root.pem")
    }

    /// The issuing certificate.
    pub fn issuing_certificate(&self) -> Utf8PathBuf {
        self.authority().join("issuing.pem")
    }

    /// The issuing certificate's key.
    pub fn issuing_key(&self) -> Utf8PathBuf {
        self.authority().join("issuing.key")
    }

    /// The folder of all sites' certificates.
    pub fn certificates(&self) -> Utf8PathBuf {
        self.data.join("certificates")
    }

    /// A site's full chain.
    pub fn chain(&self, name: &HostName) -> Utf8PathBuf {
        self.certificates().join(name.as_str()).join("fullchain.pem")
    }

    /// A site's key.
    pub fn key(&self, name: &HostName) -> Utf8PathBuf {
        self.certificates().join(name.as_str()).join("key.pem")
    }

    /// The site whose chain or key a path is.
    pub fn certificate_of(&self, path: &Utf8Path) -> Option<HostName> {
        let folder = path.parent().filter(|folder| folder.parent() == Some(&self.certificates()))?;
        HostName::parse(folder.file_name()?).ok()
    }

    /// A path as a server within the sysroot sees it.
    pub fn inside(&self, path: &Utf8Path) -> Utf8PathBuf {
        match path.strip_prefix(&self.sysroot) {
            Ok(below) if self.sysroot != "/" => Utf8Path::new("/").join(below),
            _ => path.to_owned(),
        }
    }

    /// A path that a server within the sysroot sees, as a path of this machine. A drive is left out.
    pub fn outside(&self, path: &Utf8Path) -> Utf8PathBuf {
        if self.sysroot == "/" {
            return path.to_owned();
        }
        let text = path.as_str();
        let below = match text.as_bytes() {
            [drive, b':', ..] if drive.is_ascii_alphabetic() => &text[2..],
            _ => text,
        };
        self.sysroot.join(below.trim_start_matches('/'))
    }

    /// A site's files as the server sees them.
    pub fn site_files(&self, site: &Site, server: &ServerTraits) -> SiteFiles {
        SiteFiles {
            document_root: site.document_root().map(|root| self.inside(&root)),
            certificate: self.inside(&self.chain(&site.name)),
            key: self.inside(&self.key(&site.name)),
            server: server.clone(),
        }
    }
}

/// What a command found.
#[derive(Debug)]
pub struct Observed {
    /// Where everything is kept.
    pub places: Places,
    /// Whose machine this is, `user@machine`: named in a new authority.
    pub owner: String,
    /// The time.
    pub now: OffsetDateTime,
    /// The hosts file, if there is one.
    pub hosts: Option<Content>,
    /// The text of the site list, if there is one.
    pub list: Option<String>,
    /// The authority, if there is one.
    pub authority: Option<AuthorityFiles>,
    /// The chains on disk of the sites that the command is about.
    pub chains: BTreeMap<HostName, Vec<u8>>,
    /// Which of these sites have a key on disk.
    pub keys: BTreeMap<HostName, Vec<u8>>,
    /// Whether lines of the person's own that stand in the way are commented out.
    pub take_over: TakeOver,
    /// Whether this machine has `::1`.
    pub has_v6_loopback: bool,
    /// Apache httpd, if it was found.
    pub apache: Option<ObservedApache>,
    /// nginx, if it was found.
    pub nginx: Option<ObservedNginx>,
}

impl Observed {
    /// Where a site's names point to: its address, and for the usual one `::1` as well, when
    /// its server listens there. Browsers ask for both, and wait for one that isn't answered.
    pub fn addresses(&self, site: &Site) -> Vec<IpAddr> {
        let listens = match site.server {
            Some(ServerKind::Apache) => self.apache.as_ref().is_some_and(|apache| apache.listens_on_v6),
            Some(ServerKind::Nginx) => self.nginx.as_ref().is_some_and(|nginx| nginx.traits.listens_on_v6),
            Some(ServerKind::BuiltIn) => true,
            Some(ServerKind::Elsewhere) | None => false,
        };
        let both = site.address == DEFAULT_ADDRESS && self.has_v6_loopback && listens;
        std::iter::once(site.address).chain(both.then_some(Ipv6Addr::LOCALHOST.into())).collect()
    }
}

/// The authority's files.
#[derive(Debug)]
pub struct AuthorityFiles {
    /// Root and issuing certificate, read.
    pub authority: Authority,
    /// The issuing certificate's key.
    pub key: Key,
}

/// Apache httpd as it was found.
#[derive(Clone, Debug)]
pub struct ObservedApache {
    /// Yandro's own files.
    pub own: OwnFiles,
    /// Its main file and what that includes.
    pub shared: Shared,
    /// Whether it listens on IPv6's loopback, too.
    pub listens_on_v6: bool,
    /// What `mods-available` holds.
    pub available_modules: BTreeMap<String, ModuleFiles>,
    /// Which modules `mods-enabled` has a `.load` link for.
    pub enabled_modules: BTreeSet<String>,
    /// The names of all links in `mods-enabled`.
    pub module_links: BTreeSet<String>,
}

impl ObservedApache {
    /// The folders of its links, if it enables by links.
    pub fn links(&self) -> Option<&Links> {
        self.own.layout.links.as_ref()
    }
}

/// nginx as it was found.
#[derive(Clone, Debug)]
pub struct ObservedNginx {
    /// Yandro's own files.
    pub own: OwnFiles,
    /// Its main file and what that includes, yandro's files for sites left out.
    pub shared: nginx::Shared,
    /// How server blocks are written for it.
    pub traits: ServerTraits,
    /// The addresses of other people's server blocks, such as `*:80`.
    pub foreign_addresses: BTreeSet<String>,
    /// Those of them where theirs answers for other names.
    pub foreign_first: BTreeSet<String>,
    /// The names of other people's server blocks, in lower case.
    pub foreign_names: BTreeMap<String, Place>,
}

/// A source of fresh keys and serial numbers: randomness is an argument, too.
pub trait Fresh {
    /// A new private key.
    fn key(&mut self) -> Key;
    /// A new serial number.
    fn serial(&mut self) -> Serial;
}
