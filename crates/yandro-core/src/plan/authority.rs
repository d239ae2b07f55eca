//! Planning the authority: the first one, and what it issued to no site.

use camino::Utf8PathBuf;

use super::authority_files::{AuthorityTexts, Issued};
use super::change::{Access, ChangeSet};
use super::error::PlanError;
use super::fresh::Fresh;
use super::observed::Observed;
use super::places::Places;
use super::role::Role;
use crate::pki::{CertificateFacts, Constraints, KeyKind, Leaf, NewAuthority, PkiError, create_authority};
use crate::tables::{self, Value};

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
    let pem = match &observed.wishes.passphrase {
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

/// Plans to renew the certificates of names that are not sites when they are due, or when another authority
/// of this user issued them.
///
/// # Errors
/// When the authority can't issue for a name of one of them.
pub(super) fn renew_issued(set: &mut ChangeSet, observed: &Observed, fresh: &mut dyn Fresh) -> Result<(), PlanError> {
    let Some(files) = &observed.authority else { return Ok(()) };
    let own: Vec<&[u8]> =
        observed.former.values().map(|former| &former.authority.issuing_facts.subject_key[..]).collect();
    for Issued { path, chain } in &observed.issued {
        let Some(old) = chain.as_ref() else { continue };
        let Ok(certificates) = CertificateFacts::certificates(old) else { continue };
        let Ok(facts) = CertificateFacts::read(&certificates[0]) else { continue };
        let ours = files.authority.issuing_facts.subject_key == facts.authority_key;
        // Somebody put a certificate of another authority there: theirs to renew.
        if !ours && !own.contains(&&facts.authority_key[..]) {
            continue;
        }
        let is_current = Leaf::of(&facts)
            .is_some_and(|leaf| files.authority.is_current(&facts, &leaf, observed.now, observed.wishes.renew_within));
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
