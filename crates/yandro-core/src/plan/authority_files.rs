//! The authority as its files have it.

use camino::Utf8PathBuf;

use super::content::FileContent;
use crate::pki::{Authority, AuthorityCertificates, Key, PkiError};

/// The authority's files as they are on the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AuthorityTexts {
    /// The root certificate.
    pub root: FileContent,
    /// The issuing certificate.
    pub issuing: FileContent,
    /// The issuing certificate's key, in the clear or behind a passphrase. Secret.
    pub key: FileContent,
}

/// The authority, read.
#[derive(Debug)]
pub struct AuthorityFiles {
    /// Root and issuing certificate.
    pub authority: Authority,
    /// Its files.
    pub texts: AuthorityTexts,
    /// The issuing certificate's key; `None` while nobody has given the passphrase for it.
    key: Option<Key>,
}

impl AuthorityFiles {
    /// Reads an authority, its key as well if that is in the clear or the passphrase is given.
    ///
    /// # Errors
    /// When one of the files is not what it ought to be, or the passphrase is another.
    pub fn read(texts: AuthorityTexts, passphrase: Option<&str>) -> Result<Self, PkiError> {
        let text = |content: &FileContent| String::from_utf8_lossy(content).into_owned();
        let certificates = AuthorityCertificates { root: text(&texts.root), issuing: text(&texts.issuing) };
        let pem = zeroize::Zeroizing::new(text(&texts.key));
        let key = match passphrase {
            Some(passphrase) if Key::is_locked(&pem) => Some(Key::unlock(&pem, passphrase)?),
            None if Key::is_locked(&pem) => None,
            _ => Some(Key::from_pem(&pem)?),
        };
        Ok(Self { authority: Authority::read(&certificates)?, texts, key })
    }

    /// The key that signs.
    ///
    /// # Errors
    /// [`PkiError::Locked`] while nobody has given its passphrase.
    pub fn key(&self) -> Result<&Key, PkiError> {
        self.key.as_ref().ok_or(PkiError::Locked)
    }

    /// The name of the folder that it is kept in after a replacement: the beginning of its root's key identifier.
    pub fn id(&self) -> String {
        self.authority.root_facts.subject_key.iter().take(8).map(|byte| format!("{byte:02x}")).collect()
    }

    /// Whether the key on the disk is behind a passphrase.
    pub fn is_locked(&self) -> bool {
        Key::is_locked(&String::from_utf8_lossy(&self.texts.key))
    }
}

/// A certificate that was issued to no site, as it is found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Issued {
    /// The file with the full chain.
    pub path: Utf8PathBuf,
    /// Its content; `None` if it is gone.
    pub chain: Option<FileContent>,
}
