//! The sites that are served, and which of them a request is for.

use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

use camino::Utf8PathBuf;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::CertifiedKey;
use yandro_core::{Content, Https, Site, Upstream, UpstreamHost};

use crate::folder::Folder;
use crate::lend::LentOrigin;

/// A site with its certificate.
#[derive(Clone)]
pub struct ServedSite {
    /// As the site list has it.
    pub site: Site,
    /// Its certificate; `None` for a site without HTTPS.
    pub certificate: Option<Certificate>,
}

/// A certificate with its key.
#[derive(Clone)]
pub struct Certificate {
    /// Full chain, PEM.
    pub chain: Vec<u8>,
    /// Key, PKCS#8 PEM. Secret.
    pub key: Vec<u8>,
}

/// A site that can't be served.
#[derive(Debug, thiserror::Error)]
#[error("the site `{site}` can't be served: {fault}")]
pub struct SiteError {
    site: String,
    #[source]
    fault: UnusableCertificate,
}

/// All sites that are served, by every name that they have.
#[derive(Default)]
pub struct Sites {
    by_name: HashMap<String, Arc<SiteEntry>>,
    /// The sites that answer for all names one label below theirs.
    by_parent: HashMap<String, Arc<SiteEntry>>,
}

pub(crate) struct SiteEntry {
    pub(crate) answer: Answerer,
    /// Over which protocols it answers.
    pub(crate) https: Https,
    /// The aliases that redirect, each with the name that it leads to.
    pub(crate) redirects: HashMap<String, String>,
    pub(crate) key: Option<Arc<CertifiedKey>>,
}

/// The answer of a site.
pub(crate) enum Answerer {
    Folder(Arc<Folder>),
    Upstream(Upstream, UpstreamHost),
    Lent(LentOrigin),
}

/// The fault of a site's certificate and key.
#[derive(Debug, thiserror::Error)]
enum UnusableCertificate {
    #[error("its certificate can't be read: {0}")]
    Certificate(#[source] rustls::pki_types::pem::Error),
    #[error("its key can't be read: {0}")]
    Key(#[source] rustls::pki_types::pem::Error),
    #[error("its certificate and key don't fit: {0}")]
    Misfit(#[source] rustls::Error),
}

impl Certificate {
    fn read(&self) -> Result<CertifiedKey, UnusableCertificate> {
        let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(&self.chain)
            .collect::<Result<_, _>>()
            .map_err(UnusableCertificate::Certificate)?;
        let key = PrivateKeyDer::from_pem_slice(&self.key).map_err(UnusableCertificate::Key)?;
        CertifiedKey::from_der(chain, key, &rustls::crypto::ring::default_provider())
            .map_err(UnusableCertificate::Misfit)
    }
}

impl Sites {
    /// Reads the certificates and makes the sites ready. Files below `private` are never served.
    ///
    /// # Errors
    /// When a site's certificate or key can't be used.
    pub fn new(sites: Vec<ServedSite>, private: &[Utf8PathBuf]) -> Result<Self, SiteError> {
        let (mut by_name, mut by_parent) = (HashMap::new(), HashMap::new());
        for served in sites {
            let fault = |fault| SiteError { site: served.site.name.to_string(), fault };
            let key = served.certificate.as_ref().map(Certificate::read).transpose().map_err(fault)?;
            let answer = match &served.site.content {
                Content::Upstream(upstream) => Answerer::Upstream(upstream.clone(), served.site.serving.upstream_host),
                Content::Folder { folder, .. } => {
                    let folder = Folder::of(&served.site, folder, private).expect("a folder has a document root");
                    Answerer::Folder(Arc::new(folder))
                }
            };
            let site = &served.site;
            let redirects =
                site.serving.redirect_aliases.iter().map(|alias| (alias.to_string(), site.name.to_string()));
            let (https, redirects) = (site.https, redirects.collect());
            let entry = Arc::new(SiteEntry { answer, https, redirects, key: key.map(Arc::new) });
            if site.serving.tenants {
                by_parent.insert(site.name.to_string(), entry.clone());
            }
            by_name.extend(served.site.names().map(|name| (name.to_string(), entry.clone())));
        }
        Ok(Self { by_name, by_parent })
    }

    /// The one site that is lent under this name.
    ///
    /// # Errors
    /// When its certificate or key can't be used.
    pub(crate) fn lent(name: &str, certificate: &Certificate, origin: LentOrigin) -> Result<Self, SiteError> {
        let fault = |fault| SiteError { site: name.to_owned(), fault };
        let key = Some(Arc::new(certificate.read().map_err(fault)?));
        let (answer, https, redirects) = (Answerer::Lent(origin), Https::Only, HashMap::new());
        let entry = Arc::new(SiteEntry { answer, https, redirects, key });
        Ok(Self { by_name: HashMap::from([(name.to_owned(), entry)]), by_parent: HashMap::new() })
    }

    /// How many names are answered.
    pub fn len(&self) -> usize {
        self.by_name.len()
    }

    /// Whether no name is answered.
    pub fn is_empty(&self) -> bool {
        self.by_name.is_empty()
    }

    /// The site of a host name, whatever its case.
    pub(crate) fn get(&self, host: &str) -> Option<&Arc<SiteEntry>> {
        let host = host.trim_end_matches('.');
        if host.bytes().any(|byte| byte.is_ascii_uppercase()) {
            return self.find(&host.to_ascii_lowercase());
        }
        self.find(host)
    }
}

impl Sites {
    /// The site of a host name in lower case: the one of that name, or one with tenants right above it.
    fn find(&self, host: &str) -> Option<&Arc<SiteEntry>> {
        let of_parent = || {
            let (tenant, parent) = host.split_once('.')?;
            self.by_parent.get(parent).filter(|_| !tenant.is_empty())
        };
        self.by_name.get(host).or_else(of_parent)
    }
}

impl fmt::Debug for Sites {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.by_name.keys()).finish()
    }
}

impl fmt::Debug for ServedSite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Not the key.
        f.debug_struct("ServedSite").field("site", &self.site).finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use rustls::pki_types::pem::Error;

    use super::*;

    #[test]
    fn unusable_certificates_are_reported() {
        let all = [
            UnusableCertificate::Certificate(Error::NoItemsFound),
            UnusableCertificate::Key(Error::NoItemsFound),
            UnusableCertificate::Misfit(rustls::Error::InconsistentKeys(rustls::InconsistentKeys::KeyMismatch)),
        ];
        let told = all.map(|fault| {
            match fault {
                UnusableCertificate::Certificate(_) | UnusableCertificate::Key(_) | UnusableCertificate::Misfit(_) => {}
            }
            SiteError { site: "tides.test".into(), fault }.to_string()
        });
        let expected = [
            "the site `tides.test` can't be served: its certificate can't be read: no items found",
            "the site `tides.test` can't be served: its key can't be read: no items found",
            "the site `tides.test` can't be served: its certificate and key don't fit: keys may not be consistent: KeyMismatch",
        ];
        assert_eq!(told, expected);
    }
}
