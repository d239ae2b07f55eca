//! Paths of all files.

use camino::{Utf8Path, Utf8PathBuf};

use crate::config::PathView;
use crate::name::HostName;
use crate::site::ListId;

/// Paths of all files on this machine, the sysroot included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Places {
    /// The folder that replaces `/`.
    pub sysroot: Utf8PathBuf,
    /// The hosts file.
    pub hosts: Utf8PathBuf,
    /// The user's home.
    pub home: Utf8PathBuf,
    /// The folder of the site list and the settings.
    pub config: Utf8PathBuf,
    /// The folder of the authority, the certificates and the history.
    pub data: Utf8PathBuf,
    /// The site list, as what yandro writes into shared files names it.
    pub list: ListId,
}

impl Places {
    /// Path of `sites.toml`.
    pub fn site_list(&self) -> Utf8PathBuf {
        self.config.join("sites.toml")
    }

    /// The sites as they were last applied.
    pub fn applied(&self) -> Utf8PathBuf {
        self.data.join("applied.toml")
    }

    /// The settings.
    pub fn settings(&self) -> Utf8PathBuf {
        self.config.join("settings.toml")
    }

    /// The messages of the built-in server as a service.
    pub fn serve_log(&self) -> Utf8PathBuf {
        self.data.join("serve.log")
    }

    /// The log of what applications on the built-in server say.
    pub fn error_log(&self) -> Utf8PathBuf {
        self.data.join("logs/error.log")
    }

    /// There once the user agreed that the list of name servers is changed for tenants.
    pub fn agreed_name_servers(&self) -> Utf8PathBuf {
        self.data.join("name-servers.agreed")
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

    /// The folder of one of them, by its [id](super::AuthorityFiles::id).
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
        self.certificate_file(name, "fullchain.pem")
    }

    /// A site's key.
    pub fn key(&self, name: &HostName) -> Utf8PathBuf {
        self.certificate_file(name, "key.pem")
    }

    fn certificate_file(&self, name: &HostName, file: &str) -> Utf8PathBuf {
        [self.data.as_str(), "certificates", name.as_str(), file].iter().collect()
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
        self.view().there_or_same(path).to_native()
    }
}
