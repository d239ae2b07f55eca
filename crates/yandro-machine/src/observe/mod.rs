//! Observations for planning, read from the disk.

pub(crate) mod error;

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use yandro_core::{
    Applied, AuthorityCertificates, AuthorityFiles, AuthorityTexts, CutFile, FileContent, HostName, HostsByName,
    Issued, OTHERS, Observed, PkiError, Site, SiteList, Wishes, issued_paths,
};
use zeroize::Zeroizing;

use crate::caller;
use crate::files::{self, FileError};
use crate::keys::Keys;
use crate::machine::Machine;
use crate::network;
use crate::php;
use crate::resolver;
use crate::servers::{self, Found, Registry};

pub use error::ObserveError;

/// The part of a project's folder that is obviously meant to be served: one of the usual names,
/// with an index in it, where the folder itself has none.
pub fn obvious_document_root(folder: &Utf8Path) -> Option<Utf8PathBuf> {
    const USUAL: [&str; 8] = ["public", "web", "pub", "dist", "htdocs", "public_html", "www", "_site"];
    const INDEX: [&str; 3] = ["index.html", "index.htm", "index.php"];
    let has_index = |folder: &Utf8Path| INDEX.iter().any(|name| folder.join(name).is_file());
    if has_index(folder) {
        return None;
    }
    USUAL.iter().find(|below| has_index(&folder.join(below))).map(Utf8PathBuf::from)
}

/// The site list's text and its sites.
///
/// # Errors
/// When it is there and can't be read or doesn't parse.
pub fn site_list(machine: &Machine) -> Result<(Option<String>, SiteList), ObserveError> {
    let path = machine.places.site_list();
    let Some(bytes) = files::read_if_there(&path)? else { return Ok((None, SiteList::default())) };
    // Bytes that are no UTF-8 make the text wrong at their place, and so get a line.
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let list = SiteList::parse(&text, Some(machine.home())).map_err(|error| ObserveError::List { path, error })?;
    Ok((Some(text), list))
}

/// How many threads read certificates.
const READERS: usize = 4;
/// How many sites' certificates a thread is worth.
const FEW: usize = 64;

/// What a file holds, of the site with this name.
type NamedFile = (HostName, FileContent);
type FilesByName = BTreeMap<HostName, FileContent>;

/// Reads what planning needs to know.
#[derive(Clone, Copy, Debug)]
pub struct Observer<'m> {
    /// Where the files are.
    pub machine: &'m Machine,
    /// Those that were found, and those that a person named.
    pub servers: &'m Registry,
    /// Passphrases of keys; checks that nobody else can read keys.
    pub keys: &'m Keys,
}

impl Observer<'_> {
    /// Reads all that planning for these sites needs.
    ///
    /// # Errors
    /// When something is there and can't be read.
    pub fn observe(
        &self,
        list: Option<String>,
        sites: &[&Site],
        now: OffsetDateTime,
    ) -> Result<Observed, ObserveError> {
        let names: Vec<HostName> = sites.iter().map(|site| site.name.clone()).collect();
        self.observe_names(list, &names, sites, now)
    }

    /// The same as if the virtual hosts of a person's were not there that a server has in these files.
    ///
    /// # Errors
    /// When something is there and can't be read.
    pub fn observe_without(
        &self,
        list: Option<String>,
        site: &Site,
        now: OffsetDateTime,
        cuts: &[CutFile],
    ) -> Result<Observed, ObserveError> {
        let names = [site.name.clone()];
        let mut observed = self.observe_names(list, &names, &[site], now)?;
        let found = self.servers.all(self.machine);
        for (server, found) in observed.servers.iter_mut().zip(&found) {
            if Some(found.id) == site.server {
                let others = HostName::parse(OTHERS).expect("it is a name");
                let names = [site.name.clone(), others];
                *server = servers::observe_without(self.machine, found, &names, is_asked(found, &[site]), cuts)?;
            }
        }
        Ok(observed)
    }

    /// Reads all that planning for the whole list needs, and what yandro wrote for names
    /// that are in it no more.
    ///
    /// # Errors
    /// When something is there and can't be read.
    pub fn observe_all(
        &self,
        text: Option<String>,
        list: &SiteList,
        now: OffsetDateTime,
    ) -> Result<Observed, ObserveError> {
        let mut names: Vec<HostName> = list.sites.iter().map(|site| site.name.clone()).collect();
        names.extend(self.written_names());
        names.sort();
        names.dedup();
        self.observe_names(text, &names, &list.sites.iter().collect::<Vec<_>>(), now)
    }

    /// Reads all that yandro ever wrote for this user's list, whether the list and the authority can be read or not.
    ///
    /// # Errors
    /// When something else is there and can't be read.
    pub fn observe_written(&self, now: OffsetDateTime) -> Result<Observed, ObserveError> {
        let names = self.written_names();
        self.observe_parts(None, &names, &[], now, false)
    }

    /// The names of all certificates, and of all files in the folders of servers' sites.
    fn written_names(&self) -> Vec<HostName> {
        let certificates = self.machine.places.certificates().read_dir_utf8().into_iter().flatten().flatten();
        let mut names: Vec<HostName> =
            certificates.filter_map(|entry| HostName::parse(entry.file_name()).ok()).collect();
        names.extend(self.servers.all(self.machine).iter().flat_map(|found| servers::kept_sites(&found.layout)));
        names.sort();
        names.dedup();
        names
    }

    fn observe_names(
        &self,
        list: Option<String>,
        names: &[HostName],
        sites: &[&Site],
        now: OffsetDateTime,
    ) -> Result<Observed, ObserveError> {
        self.observe_parts(list, names, sites, now, true)
    }

    fn observe_parts(
        &self,
        list: Option<String>,
        names: &[HostName],
        sites: &[&Site],
        now: OffsetDateTime,
        needs_authority: bool,
    ) -> Result<Observed, ObserveError> {
        let places = self.machine.places.clone();
        let others = HostName::parse(OTHERS).expect("it is a name");
        let names = &[names, &[others]].concat();
        let (chains, keys) = self.certificates(names)?;
        let applied = files::read_if_there(&places.applied())?.map(Into::into);
        let found = self.servers.all(self.machine);
        let mut observed = Observed {
            owner: self.machine.owner.clone(),
            now,
            hosts: files::read_if_there(&places.hosts)?.map(Into::into),
            hosts_by_name: HostsByName::default(),
            applied: Applied::default(),
            list,
            authority: if needs_authority { self.authority()? } else { None },
            former: self.former(),
            issued: issued(self.machine)?.1,
            chains,
            keys,
            wishes: Wishes {
                name_servers: places.agreed_name_servers().exists(),
                passphrase: self.keys.passphrase().map(|passphrase| Zeroizing::new(passphrase.to_owned())),
                ..Wishes::default()
            },
            pools: php::for_planning(self.machine, &found, sites, names)?,
            resolver: resolver::observe(self.machine)?,
            has_v6_loopback: !self.machine.is_real() || network::has_v6_loopback(),
            servers: found
                .iter()
                .map(|found| servers::observe(self.machine, found, names, is_asked(found, sites)))
                .collect::<Result<_, _>>()?,
            places,
        };
        observed.take_applied(applied);
        Ok(observed)
    }

    /// The chains and keys of these names, as far as there are any.
    fn certificates(&self, names: &[HostName]) -> Result<(FilesByName, FilesByName), ObserveError> {
        let part_size = names.len().div_ceil(caller::threads(READERS)).max(FEW);
        let read = std::thread::scope(|scope| {
            let parts: Vec<_> =
                names.chunks(part_size).map(|part| scope.spawn(|| self.read_certificates(part))).collect();
            let joined =
                parts.into_iter().map(|part| part.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
            joined.collect::<Result<Vec<_>, _>>()
        })?;
        let (chains, keys): (Vec<_>, Vec<_>) = read.into_iter().unzip();
        Ok((chains.into_iter().flatten().collect(), keys.into_iter().flatten().collect()))
    }

    fn read_certificates(&self, names: &[HostName]) -> Result<(Vec<NamedFile>, Vec<NamedFile>), ObserveError> {
        let places = &self.machine.places;
        let (mut chains, mut keys) = (Vec::new(), Vec::new());
        for name in names {
            self.keys.close_site(self.machine, name)?;
            let chain = files::read_if_there(&places.chain(name))?;
            let key = files::read_if_there(&places.key(name))?;
            chains.extend(chain.map(|chain| (name.clone(), chain.into())));
            keys.extend(key.map(|key| (name.clone(), key.into())));
        }
        Ok((chains, keys))
    }

    /// The authority, with its key if that is in the clear or the passphrase was given; `None` if
    /// there is none.
    ///
    /// # Errors
    /// When a file of it is missing or can't be read, or the passphrase is another.
    pub fn authority(&self) -> Result<Option<AuthorityFiles>, ObserveError> {
        let folder = self.machine.places.authority();
        match (self.texts(&folder)?, authority_certificates(self.machine)?) {
            (Some(texts), _) => Ok(Some(self.read(texts, &folder)?)),
            (None, None) => Ok(None),
            (None, Some(_)) => Err(ObserveError::Authority { folder, fault: "issuing.key is missing".into() }),
        }
    }

    /// The three files of an authority, if all of them are there.
    fn texts(&self, folder: &Utf8Path) -> Result<Option<AuthorityTexts>, ObserveError> {
        self.keys.close(self.machine, folder)?;
        let text = |name: &str| Ok::<_, FileError>(files::read_if_there(&folder.join(name))?.map(FileContent::from));
        let texts = (text("root.pem")?, text("issuing.pem")?, text("issuing.key")?);
        let (Some(root), Some(issuing), Some(key)) = texts else { return Ok(None) };
        Ok(Some(AuthorityTexts { root, issuing, key }))
    }

    fn read(&self, texts: AuthorityTexts, folder: &Utf8Path) -> Result<AuthorityFiles, ObserveError> {
        AuthorityFiles::read(texts, self.keys.passphrase()).map_err(|error| match error {
            PkiError::Passphrase => ObserveError::Passphrase { folder: folder.to_owned() },
            error => ObserveError::Authority { folder: folder.to_owned(), fault: error.to_string() },
        })
    }

    /// Former authorities, by the names of their folders. An unreadable one of
    /// them is skipped, such as keys with other passphrases: only an undo needs them.
    pub fn former(&self) -> BTreeMap<String, AuthorityFiles> {
        let entries = self.machine.places.former_authorities().read_dir_utf8().into_iter().flatten().flatten();
        let read = |entry: camino::Utf8DirEntry| {
            let texts = self.texts(entry.path()).ok()??;
            Some((entry.file_name().to_owned(), self.read(texts, entry.path()).ok()?))
        };
        entries.filter_map(read).collect()
    }
}

/// Whether a server has to be asked how it writes what these sites need.
fn is_asked(found: &Found, sites: &[&Site]) -> bool {
    let software = found.kind.software();
    sites.iter().any(|site| software.depends_on_version(site, site.server == Some(found.id)))
}

/// Reads what is the system's, and nothing of the user's own files: what root needs to plan on a user's word. `names`
/// are those of all sites, `sites` those that the plan is about.
///
/// # Errors
/// When something is there and can't be read.
pub(crate) fn observe_system(
    machine: &Machine,
    list: &str,
    names: impl Iterator<Item = HostName>,
    sites: &[&Site],
    now: OffsetDateTime,
) -> Result<Observed, ObserveError> {
    let servers = Registry::of_system(machine);
    let found = servers.all(machine);
    let others = HostName::parse(OTHERS).expect("it is a name");
    let of_servers = found.iter().flat_map(|found| servers::kept_sites(&found.layout));
    let names: BTreeSet<HostName> = names.chain(of_servers).chain([others]).collect();
    let names: Vec<HostName> = names.into_iter().collect();
    Ok(Observed {
        owner: machine.owner.clone(),
        now,
        hosts: files::read_if_there(&machine.places.hosts)?.map(Into::into),
        hosts_by_name: HostsByName::default(),
        list: Some(list.to_owned()),
        applied: Applied::default(),
        authority: None,
        former: BTreeMap::new(),
        issued: Vec::new(),
        chains: BTreeMap::new(),
        keys: BTreeMap::new(),
        // Root's password says that it may.
        wishes: Wishes { name_servers: true, ..Wishes::default() },
        pools: php::for_planning(machine, &found, sites, &[])?,
        resolver: resolver::observe(machine)?,
        has_v6_loopback: network::has_v6_loopback(),
        servers: found
            .iter()
            .map(|found| servers::observe(machine, found, &names, is_asked(found, sites)))
            .collect::<Result<_, _>>()?,
        places: machine.places.clone(),
    })
}

/// The root and issuing certificate, if there is an authority.
///
/// # Errors
/// When only one of them is there, or one can't be read.
pub fn authority_certificates(machine: &Machine) -> Result<Option<AuthorityCertificates>, ObserveError> {
    let places = &machine.places;
    let (root, issuing) = (text(&places.root_certificate())?, text(&places.issuing_certificate())?);
    let fault = |fault: String| ObserveError::Authority { folder: places.authority(), fault };
    match (root, issuing) {
        (Some(root), Some(issuing)) => Ok(Some(AuthorityCertificates { root, issuing })),
        (None, None) => Ok(None),
        (None, _) => Err(fault("root.pem is missing".into())),
        (_, None) => Err(fault("issuing.pem is missing".into())),
    }
}

/// The list of certificates that were issued to no site, and what its files hold.
///
/// # Errors
/// When one is there and can't be read.
pub fn issued(machine: &Machine) -> Result<(Option<String>, Vec<Issued>), FileError> {
    let list = text(&machine.places.issued())?;
    let paths = issued_paths(list.as_deref().unwrap_or_default());
    Ok((list, paths.into_iter().map(read_issued).collect::<Result<_, FileError>>()?))
}

fn read_issued(path: Utf8PathBuf) -> Result<Issued, FileError> {
    let chain = files::read_if_there(&path)?.map(FileContent::from);
    Ok(Issued { path, chain })
}

fn text(path: &Utf8Path) -> Result<Option<String>, FileError> {
    Ok(files::read_if_there(path)?.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
}
