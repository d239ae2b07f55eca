//! Planning the authority: the first one, another in its place, and what it issued to no site.

use camino::Utf8PathBuf;

use super::change::{Access, ChangeSet};
use super::content::Content;
use super::observed::{Fresh, Observed, Places};
use super::role::Role;
use super::settle::{Failed, renew};
use super::site::PlanError;
use crate::pki::{
    Authority, AuthorityCertificates, Constraints, Facts, Key, KeyKind, Leaf, NewAuthority, PkiError, create_authority,
};
use crate::site::SiteList;
use crate::tables::{self, Value};

/// The authority's files as they are on the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AuthorityTexts {
    /// The root certificate.
    pub root: Content,
    /// The issuing certificate.
    pub issuing: Content,
    /// The issuing certificate's key, in the clear or behind a passphrase. Secret.
    pub key: Content,
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
        let text = |content: &Content| String::from_utf8_lossy(content).into_owned();
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

    /// What it is called when another takes its place: the beginning of its root's key identifier.
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
    /// What it holds; `None` if it is gone.
    pub chain: Option<Content>,
}

/// Makes an authority that is limited to `constraints`; its key is behind the passphrase that
/// was given, if one was.
pub(super) fn new_authority(
    observed: &Observed,
    constraints: &Constraints,
    fresh: &mut dyn Fresh,
) -> Result<AuthorityTexts, PkiError> {
    let key = fresh.key(KeyKind::P256)?;
    let made = create_authority(NewAuthority {
        owner: &observed.owner,
        now: observed.now,
        constraints,
        root_key: fresh.key(KeyKind::P256)?,
        issuing_key: &key,
        serials: [fresh.serial(), fresh.serial()],
    })?;
    let pem = match &observed.passphrase {
        Some(passphrase) => key.to_locked_pem(passphrase, fresh.bytes(), fresh.bytes())?.into_bytes(),
        None => key.to_secret_pem().as_bytes().to_vec(),
    };
    Ok(AuthorityTexts {
        root: made.root.into_bytes().into(),
        issuing: made.issuing.into_bytes().into(),
        key: pem.into(),
    })
}

/// Writes an authority where the present one is, or where none is.
pub(super) fn put(set: &mut ChangeSet, observed: &Observed, texts: &AuthorityTexts) {
    let places = &observed.places;
    let old = observed.authority.as_ref().map(|files| &files.texts);
    set.folder(Role::Authority, places.authority(), Access::Private);
    let (root, issuing) = (old.map(|old| old.root.clone()), old.map(|old| old.issuing.clone()));
    let key = old.map(|old| old.key.clone());
    set.file(Role::Root, places.root_certificate(), (root, Some(texts.root.clone())), Access::Private);
    let issuing = (issuing, Some(texts.issuing.clone()));
    set.file(Role::Authority, places.issuing_certificate(), issuing, Access::Private);
    set.file(Role::Authority, places.issuing_key(), (key, Some(texts.key.clone())), Access::Secret);
}

/// Plans another authority, limited to `constraints`, in the place of the present one: every leaf
/// of a site and every other that is known is issued anew, and the present authority is kept aside
/// so that all of this can be taken back.
///
/// # Errors
/// What can't be issued anew, with its site.
pub fn replace_authority(
    mut observed: Observed,
    list: &SiteList,
    constraints: &Constraints,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, Failed> {
    let texts = new_authority(&observed, constraints, fresh).map_err(|error| Failed::of(None, error.into()))?;
    put_in_place(&mut observed, list, &texts, fresh)
}

/// Puts an authority in the place of the present one, keeps that aside, and issues all anew.
pub(super) fn put_in_place(
    observed: &mut Observed,
    list: &SiteList,
    texts: &AuthorityTexts,
    fresh: &mut dyn Fresh,
) -> Result<ChangeSet, Failed> {
    let mut set = ChangeSet::default();
    put_aside(&mut set, observed);
    put(&mut set, observed, texts);
    // What it issued is known as our own by it.
    let old = observed.authority.take().and_then(|old| AuthorityFiles::read(old.texts, None).ok());
    observed.former.extend(old.map(|old| (old.id(), old)));
    observed.advance(&set);
    set.merge(renew(observed, list, fresh)?);
    Ok(set)
}

/// Keeps a copy of the present authority.
fn put_aside(set: &mut ChangeSet, observed: &Observed) {
    let (Some(files), places) = (&observed.authority, &observed.places) else { return };
    let (old, id) = (&files.texts, files.id());
    let role = Role::FormerAuthority(id.clone());
    for folder in [places.former_authorities(), places.former_authority(&id)] {
        set.folder(role.clone(), folder, Access::Private);
    }
    // It may have been put aside before, and have come back.
    let was = observed.former.get(&id).map(|former| &former.texts);
    let kept = [
        ("root.pem", &old.root, was.map(|was| &was.root), Access::Private),
        ("issuing.pem", &old.issuing, was.map(|was| &was.issuing), Access::Private),
        ("issuing.key", &old.key, was.map(|was| &was.key), Access::Secret),
    ];
    for (name, content, was, access) in kept {
        let path = places.former_authority(&id).join(name);
        set.file(role.clone(), path, (was.cloned(), Some(content.clone())), access);
    }
}

/// Plans to make anew those certificates of no site whose time comes, or which another authority
/// of this person's issued.
///
/// # Errors
/// When the authority may not vouch for a name of one of them.
pub(super) fn renew_issued(set: &mut ChangeSet, observed: &Observed, fresh: &mut dyn Fresh) -> Result<(), PlanError> {
    let Some(files) = &observed.authority else { return Ok(()) };
    let own: Vec<&[u8]> =
        observed.former.values().map(|former| &former.authority.issuing_facts.subject_key[..]).collect();
    for Issued { path, chain } in &observed.issued {
        let Some(old) = chain.as_ref() else { continue };
        let Ok(certificates) = Facts::certificates(old) else { continue };
        let Ok(facts) = Facts::read(&certificates[0]) else { continue };
        let ours = files.authority.issuing_facts.subject_key == facts.authority_key;
        // Somebody put a certificate of another authority there: theirs to renew.
        if !ours && !own.contains(&&facts.authority_key[..]) {
            continue;
        }
        let is_current = Leaf::of(&facts)
            .is_some_and(|leaf| files.authority.is_current(&facts, &leaf, observed.now, observed.renew_within));
        if is_current {
            continue;
        }
        let at = |error| PlanError::Issued { path: path.clone(), error };
        let key = files.key().map_err(at)?;
        let chain = files.authority.issue_again(key, &certificates[0], observed.now, fresh.serial()).map_err(at)?;
        let content = (Some(old.clone()), Some(chain.into_bytes()));
        set.file(Role::IssuedCertificate, path.clone(), content, Access::Public);
    }
    Ok(())
}

const HEAD: &str = "# Certificates that yandro issued to no site, and renews. Edit this file as you like.\n";

/// Plans to note a certificate that was issued to no site, so that it is renewed with the others.
pub fn note_issued(set: &mut ChangeSet, places: &Places, list: Option<String>, path: &camino::Utf8Path) {
    let fields = [("path", Some(Value::Text(path.to_string())))];
    let is_it = |table: &toml::de::DeTable<'_>| tables::text_of(table, "path") == Some(path.as_str());
    let text = tables::set(list.as_deref().unwrap_or_default(), HEAD, "certificate", is_it, &fields);
    set.folder(Role::IssuedList, places.data.clone(), Access::Private);
    let content = (list.map(String::into_bytes), Some(text.into_bytes()));
    set.file(Role::IssuedList, places.issued(), content, Access::Private);
}

/// The paths that a list of issued certificates names; none of a list that can't be read.
pub fn issued_paths(text: &str) -> Vec<Utf8PathBuf> {
    #[derive(serde::Deserialize)]
    struct List {
        #[serde(default)]
        certificate: Vec<Entry>,
    }
    #[derive(serde::Deserialize)]
    struct Entry {
        path: Utf8PathBuf,
    }
    let list: List = toml::from_str(text).unwrap_or(List { certificate: Vec::new() });
    list.certificate.into_iter().map(|entry| entry.path).collect()
}
