//! What planning needs to know, read from the disk.

use std::collections::BTreeMap;

use camino::{Utf8Path, Utf8PathBuf};
use time::OffsetDateTime;
use yandro_core::config::OTHERS;
use yandro_core::hosts::TakeOver;
use yandro_core::name::HostName;
use yandro_core::pki::{Authority, AuthorityCertificates, Key, PkiError, RENEW_DAYS};
use yandro_core::plan::{AuthorityFiles, Observed};
use yandro_core::site::{Content, ListError, ServerKind, Site, SiteList};

use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::network;
use crate::servers::{self, Found};

/// Why the machine could not be observed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ObserveError {
    /// A file can't be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// The site list doesn't parse.
    #[error("{path}:{}: {error}", .error.excerpt.position.line)]
    List {
        /// The site list.
        path: camino::Utf8PathBuf,
        /// What is wrong with it.
        error: ListError,
    },
    /// Part of the authority is missing or broken.
    #[error("the authority in {folder} is not whole: {fault}")]
    Authority {
        /// Its folder.
        folder: camino::Utf8PathBuf,
        /// What is missing or broken.
        fault: String,
    },
}

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
    let list = SiteList::parse(&text).map_err(|error| ObserveError::List { path, error })?;
    Ok((Some(text), list))
}

/// Reads all that planning for these sites needs.
///
/// # Errors
/// When something is there and can't be read.
pub fn observe(
    machine: &Machine,
    list: Option<String>,
    sites: &[&Site],
    now: OffsetDateTime,
) -> Result<Observed, ObserveError> {
    let names: Vec<HostName> = sites.iter().map(|site| site.name.clone()).collect();
    observe_names(machine, list, &names, sites, now)
}

/// Reads all that planning for the whole list needs, and what yandro wrote for names
/// that are in it no more.
///
/// # Errors
/// When something is there and can't be read.
pub fn observe_all(
    machine: &Machine,
    text: Option<String>,
    list: &SiteList,
    now: OffsetDateTime,
) -> Result<Observed, ObserveError> {
    let certificates = machine.places.certificates().read_dir_utf8().into_iter().flatten().flatten();
    let mut names: Vec<HostName> = list.sites.iter().map(|site| site.name.clone()).collect();
    names.extend(certificates.filter_map(|entry| HostName::parse(entry.file_name()).ok()));
    names.extend(servers::find_all(machine).iter().flat_map(|found| servers::sites(&found.layout)));
    names.sort();
    names.dedup();
    observe_names(machine, text, &names, &list.sites.iter().collect::<Vec<_>>(), now)
}

/// Whether a server has to be asked how it writes what these sites need.
fn is_asked(found: &Found, sites: &[&Site]) -> bool {
    match found.kind {
        ServerKind::Apache => sites.iter().any(|site| matches!(site.content, Content::Upstream(_))),
        ServerKind::Nginx => sites.iter().any(|site| site.server == Some(found.id) && site.https.is_on()),
    }
}

fn observe_names(
    machine: &Machine,
    list: Option<String>,
    names: &[HostName],
    sites: &[&Site],
    now: OffsetDateTime,
) -> Result<Observed, ObserveError> {
    let places = machine.places.clone();
    let others = HostName::parse(OTHERS).expect("it is a name");
    let names = &[names, &[others]].concat();
    let (mut chains, mut keys) = (BTreeMap::new(), BTreeMap::new());
    for name in names {
        if let Some(chain) = files::read_if_there(&places.chain(name))? {
            chains.insert(name.clone(), chain);
        }
        if let Some(key) = files::read_if_there(&places.key(name))? {
            keys.insert(name.clone(), key);
        }
    }
    Ok(Observed {
        owner: machine.owner.clone(),
        now,
        hosts: files::read_if_there(&places.hosts)?.map(Into::into),
        list,
        authority: authority(machine)?,
        chains,
        keys,
        take_over: TakeOver::No,
        renew_within: RENEW_DAYS,
        has_v6_loopback: !machine.is_real() || network::has_v6_loopback(),
        servers: servers::find_all(machine)
            .iter()
            .map(|found| servers::observe(machine, found, names, is_asked(found, sites)))
            .collect::<Result<_, _>>()?,
        places,
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

fn authority(machine: &Machine) -> Result<Option<AuthorityFiles>, ObserveError> {
    let Some(certificates) = authority_certificates(machine)? else { return Ok(None) };
    let fault = |fault: String| ObserveError::Authority { folder: machine.places.authority(), fault };
    let key = text(&machine.places.issuing_key())?.ok_or_else(|| fault("issuing.key is missing".into()))?;
    let key = Key::from_pem(&key).map_err(|error: PkiError| fault(format!("issuing.key: {error}")))?;
    let authority = Authority::read(&certificates).map_err(|error| fault(error.to_string()))?;
    Ok(Some(AuthorityFiles { authority, key }))
}

fn text(path: &Utf8Path) -> Result<Option<String>, FileError> {
    Ok(files::read_if_there(path)?.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
}
