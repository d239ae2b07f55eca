//! What the machine looks like, as plain values.

use core::net::{IpAddr, Ipv6Addr};
use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use zeroize::Zeroizing;

use super::authority::{AuthorityFiles, Issued};
use super::content::Content;
use super::model::ServerModel;
use crate::config::PathView;
use crate::hosts::TakeOver;
use crate::name::HostName;
use crate::pki::{Key, KeyKind, PkiError, Serial};
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
    pub servers: Vec<Box<dyn ServerModel>>,
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
            id => self.configured_as(id).is_some_and(ServerModel::listens_on_v6),
        };
        let both = site.address == DEFAULT_ADDRESS && self.has_v6_loopback && listens;
        std::iter::once(site.address).chain(both.then_some(Ipv6Addr::LOCALHOST.into())).collect()
    }
}

/// A source of fresh keys and serial numbers: randomness is an argument, too.
pub trait Fresh {
    /// A new private key.
    ///
    /// # Errors
    /// When nothing here can make one of this kind.
    fn key(&mut self, kind: KeyKind) -> Result<Key, PkiError>;
    /// Random bytes.
    fn bytes(&mut self) -> [u8; 16];
    /// A new serial number.
    fn serial(&mut self) -> Serial {
        Serial::from_random(self.bytes())
    }
}
