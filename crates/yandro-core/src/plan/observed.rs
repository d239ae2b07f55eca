//! What the machine looks like, as plain values.

use core::net::{IpAddr, Ipv6Addr};
use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use zeroize::Zeroizing;

use super::authority::{AuthorityFiles, Issued};
use super::content::Content;
use super::server::{Configured, OwnFiles};
use crate::config::{Links, PathView, Place, ServerTraits};
use crate::hosts::TakeOver;
use crate::httpd::{ModuleFiles, Shared};
use crate::name::HostName;
use crate::nginx;
use crate::pki::{Key, KeyKind, Serial};
use crate::site::{DEFAULT_ADDRESS, ListId, ServerId, Site};

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
    /// The site list, as what yandro writes into shared files names it.
    pub list: ListId,
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

    /// The folder of authorities that another took the place of.
    pub fn former_authorities(&self) -> Utf8PathBuf {
        self.authority().join("former")
    }

    /// The folder of one of them, by its [`AuthorityFiles::id`].
    pub fn former_authority(&self, id: &str) -> Utf8PathBuf {
        self.former_authorities().join(id)
    }

    /// The list of certificates that were issued to no site.
    pub fn issued(&self) -> Utf8PathBuf {
        self.data.join("issued.toml")
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

    /// How a server on the machine itself sees its files.
    pub fn view(&self) -> PathView {
        PathView::Below(self.sysroot.clone())
    }

    /// A path as a server within the sysroot sees it.
    pub fn inside(&self, path: &Utf8Path) -> Utf8PathBuf {
        self.view().there_or_same(path)
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
    /// Authorities that another took the place of, by their [`AuthorityFiles::id`].
    pub former: BTreeMap<String, AuthorityFiles>,
    /// The passphrase that a new authority's key goes behind, and that opens the present one's.
    pub passphrase: Option<Zeroizing<String>>,
    /// The certificates that were issued to no site.
    pub issued: Vec<Issued>,
    /// The chains on disk of the sites that the command is about.
    pub chains: BTreeMap<HostName, Content>,
    /// Which of these sites have a key on disk.
    pub keys: BTreeMap<HostName, Content>,
    /// Whether lines of the person's own that stand in the way are commented out.
    pub take_over: TakeOver,
    /// Sites whose key is not their certificate's: both are made anew.
    pub suspect: BTreeSet<HostName>,
    /// Sites whose lines are put back where they were edited by hand; what was added stays.
    pub put_back: BTreeSet<HostName>,
    /// How many days before its end a certificate is made anew.
    pub renew_within: i64,
    /// Whether this machine has `::1`.
    pub has_v6_loopback: bool,
    /// The servers that are there and that yandro writes configuration for.
    pub servers: Vec<ObservedServer>,
}

impl Observed {
    /// The passphrase of the authority's key, if it was given.
    pub(super) fn passphrase(&self) -> Option<&str> {
        self.passphrase.as_deref().map(String::as_str)
    }

    /// Where a site's names point to: its address, and for the usual one `::1` as well, when
    /// its server listens there. Browsers ask for both, and wait for one that isn't answered.
    pub fn addresses(&self, site: &Site) -> Vec<IpAddr> {
        let listens = match site.server {
            Some(ServerId::BuiltIn) => true,
            id => self.configured_as(id).is_some_and(Configured::listens_on_v6),
        };
        let both = site.address == DEFAULT_ADDRESS && self.has_v6_loopback && listens;
        std::iter::once(site.address).chain(both.then_some(Ipv6Addr::LOCALHOST.into())).collect()
    }
}

/// A server as it was found.
#[derive(Clone, Debug)]
pub enum ObservedServer {
    /// An Apache httpd.
    Apache(Box<ObservedApache>),
    /// An nginx.
    Nginx(Box<ObservedNginx>),
}

impl ObservedServer {
    pub(super) fn configured(&self) -> &dyn Configured {
        match self {
            Self::Apache(own) => own.as_ref(),
            Self::Nginx(own) => own.as_ref(),
        }
    }

    pub(super) fn own_mut(&mut self) -> &mut OwnFiles {
        match self {
            Self::Apache(own) => &mut own.own,
            Self::Nginx(own) => &mut own.own,
        }
    }
}

/// An Apache httpd as it was found.
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

/// An nginx as it was found.
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
    fn key(&mut self, kind: KeyKind) -> Key;
    /// Random bytes.
    fn bytes(&mut self) -> [u8; 16];
    /// A new serial number.
    fn serial(&mut self) -> Serial {
        Serial::from_random(self.bytes())
    }
}
