//! Observations of the machine, as plain values.

use core::cell::OnceCell;
use core::fmt::Debug;
use core::net::{IpAddr, Ipv6Addr};
use std::collections::{BTreeMap, BTreeSet};

use camino::Utf8PathBuf;
use time::OffsetDateTime;

use super::applied::Applied;
use super::authority_files::{AuthorityFiles, Issued};
use super::change::{ChangeSet, LinkChange};
use super::content::FileContent;
use super::error::PlanError;
use super::places::Places;
use super::pool::Pools;
use super::resolver::Resolver;
use super::role::Role;
use super::wishes::Wishes;
use crate::config::{Dialect, Journal, Layout, PathView, Published, ServerTraits};
use crate::hosts::HostsIndex;
use crate::name::HostName;
use crate::server_path::ServerPath;
use crate::site::{DEFAULT_ADDRESS, ServerId, Site, SiteList};

/// Observations that planning depends on.
#[derive(Debug)]
pub struct Observed {
    /// Paths of all files.
    pub places: Places,
    /// Owner of this machine, `user@machine`: named in a new authority.
    pub owner: String,
    /// From which validity of certificates counts.
    pub now: OffsetDateTime,
    /// The hosts file, if there is one.
    pub hosts: Option<FileContent>,
    /// The same by its names, once somebody asks.
    pub hosts_by_name: HostsByName,
    /// The text of the site list, if there is one.
    pub list: Option<String>,
    /// The sites as they were last applied.
    pub applied: Applied,
    /// The authority, if there is one.
    pub authority: Option<AuthorityFiles>,
    /// Authorities that another took the place of, by their [`AuthorityFiles::id`].
    pub former: BTreeMap<String, AuthorityFiles>,
    /// The certificates that were issued to no site.
    pub issued: Vec<Issued>,
    /// The chains on disk of the sites that the command is about.
    pub chains: BTreeMap<HostName, FileContent>,
    /// The keys on disk of the observed sites.
    pub keys: BTreeMap<HostName, FileContent>,
    /// Options of the command.
    pub wishes: Wishes,
    /// php-fpm, and the pools of sites in it.
    pub pools: Pools,
    /// The way by which the system resolves names that no hosts file has; `None` where it is not known.
    pub resolver: Option<Resolver>,
    /// Whether this machine has `::1`.
    pub has_v6_loopback: bool,
    /// The servers that are there and that yandro writes configuration for.
    pub servers: Vec<Box<dyn ServerModel>>,
}

/// A hosts file by its names, read when it is asked for first.
#[derive(Debug, Default)]
pub struct HostsByName(OnceCell<HostsIndex>);

impl Observed {
    /// The hosts file by its names.
    pub(super) fn hosts_index(&self) -> &HostsIndex {
        let text = self.hosts.as_ref().map_or(&[][..], |text| text.as_slice());
        self.hosts_by_name.0.get_or_init(|| HostsIndex::of(text, &self.places.list))
    }

    /// Takes the sites as they were last applied from their file; where that says nothing, those of the site list of
    /// which something is on the machine are taken to be as the list says.
    pub fn take_applied(&mut self, content: Option<FileContent>) {
        let listed = || SiteList::parse(self.list.as_deref().unwrap_or_default(), Some(&self.places.home));
        let is_there = |site: &Site| {
            let is_on = |server: &&dyn ServerModel| server.own().own_sites.contains(&site.name);
            self.chains.contains_key(&site.name) || self.configured().iter().any(is_on)
        };
        self.applied = Applied::read(content).or_listed(|| listed().unwrap_or_default(), is_there);
    }

    /// The servers that are there and that yandro writes configuration for.
    pub(super) fn configured(&self) -> Vec<&dyn ServerModel> {
        self.servers.iter().map(|server| &**server).collect()
    }

    /// A configured server.
    pub(super) fn configured_as(&self, id: Option<ServerId>) -> Option<&dyn ServerModel> {
        self.configured().into_iter().find(|server| Some(server.id()) == id)
    }

    /// Target addresses of a site's names: its address, and for the default one also `::1`, if
    /// its server listens there. Browsers ask for both, and wait for one that isn't answered.
    pub fn addresses(&self, site: &Site) -> Vec<IpAddr> {
        let listens = match site.server {
            Some(ServerId::BuiltIn) => true,
            id => self.configured_as(id).is_some_and(ServerModel::listens_on_v6),
        };
        let is_default = site.address == DEFAULT_ADDRESS && !site.serving.by_address;
        let both = is_default && self.has_v6_loopback && listens;
        std::iter::once(site.address).chain(both.then_some(Ipv6Addr::LOCALHOST.into())).collect()
    }
}

/// A server, and yandro's own files of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnFiles {
    /// The server.
    pub id: ServerId,
    /// How it sees this machine's files.
    pub view: PathView,
    /// Under which ports it is reached.
    pub published: Published,
    /// Paths of the server's files.
    pub layout: Layout,
    /// The site files that exist: of the sites that the command is about, and of all where sites have
    /// ports that differ.
    pub site_files: BTreeMap<HostName, Vec<u8>>,
    /// The files of the observed sites that are out of use.
    pub disabled_files: BTreeMap<HostName, Vec<u8>>,
    /// The names of all site files of yandro's, of every list, those for other names left out.
    pub own_sites: BTreeSet<HostName>,
    /// Whether the certificate of the virtual hosts for other names is gone.
    pub lacks_others_certificate: bool,
    /// The links to sites' files: name and target.
    pub site_links: BTreeMap<String, Utf8PathBuf>,
}

/// A server as it was observed, and how sites are planned on it.
pub trait ServerModel: Debug + Send {
    /// How its files are written.
    fn dialect(&self) -> &'static dyn Dialect;
    /// Yandro's own files of it.
    fn own(&self) -> &OwnFiles;
    /// The same, to be changed.
    fn own_mut(&mut self) -> &mut OwnFiles;
    /// Whether it listens on the loopback address of IPv6, too.
    fn listens_on_v6(&self) -> bool;
    /// How virtual hosts are written for it.
    fn traits(&self) -> ServerTraits;
    /// Whether other people's virtual hosts are on an address; where yandro has one for other
    /// names there, whether theirs comes first.
    fn is_theirs(&self, address: &str, has_own: bool) -> bool;
    /// Whether somebody else's virtual host is on a port.
    fn is_foreign_port(&self, port: u16) -> bool;
    /// The text of a file that sites share, by its path as the server sees it.
    fn shared_text(&self, path: &ServerPath) -> Option<&[u8]>;
    /// Plans the file of a site, and what the shared files need for it. Gives the lines of these that change.
    ///
    /// # Errors
    /// When the site can't be on the server.
    fn plan_site(
        &self,
        set: &mut ChangeSet,
        observed: &Observed,
        before: Option<&Site>,
        site: &Site,
    ) -> Result<Journal, PlanError>;

    /// When the last of yandro's sites goes from it, takes all with it that was there for sites.
    fn go_with_the_last(&self, set: &mut ChangeSet, observed: &Observed);

    /// Whether of several virtual hosts that fit a name the one that is read first answers, be it by a pattern.
    fn takes_first(&self) -> bool {
        false
    }

    /// Takes in a change of a link that is none of a site's.
    fn take_link(&mut self, _: &Role, _: &LinkChange) {}

    /// Takes in what a change set does to files that all sites share.
    fn take_shared(&mut self, set: &ChangeSet);

    /// The size of the buckets of names that the site needs beyond what the server gives; `None`
    /// if it has enough.
    fn name_bucket(&self, _: &Site) -> Option<usize> {
        None
    }

    /// The server.
    fn id(&self) -> ServerId {
        self.own().id
    }
}
