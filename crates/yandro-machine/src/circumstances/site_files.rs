//! Files of a site that its server reads only when it starts or is reloaded.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{CertificateFacts, Expected, FileFault, FileFaults};

use crate::certificates;
use crate::files;
use crate::machine::Machine;
use crate::markers;

/// Faults of a site's certificate, key and document root.
pub(crate) fn file_faults(machine: &Machine, expected: &Expected) -> FileFaults {
    let site = &expected.site;
    let is_folder_missing = site.document_root().is_some_and(|root| !root.is_dir());
    let has = |page: &&&str| site.document_root().is_some_and(|root| root.join(page).is_file());
    let index_page = ["index.html", "index.htm"].iter().find(has).map(|page| (*page).to_owned());
    let moved_to = if is_folder_missing { markers::moved_to(machine, site) } else { None };
    let mut found = FileFaults { is_folder_missing, moved_to, index_page, ..FileFaults::default() };
    if !site.https.is_on() {
        return found;
    }
    let (chain, key) = (machine.places.chain(&site.name), machine.places.key(&site.name));
    let is_chain = |bytes: &[u8]| CertificateFacts::certificates(bytes).is_ok_and(|all| !all.is_empty());
    let is_key = |bytes: &[u8]| bytes.starts_with(b"-----BEGIN ") && bytes.trim_ascii_end().ends_with(b"-----");
    match (content(&chain, is_chain), content(&key, is_key)) {
        (Err(fault), _) | (_, Err(fault)) => found.certificate = Some(fault),
        (Ok(chain_text), Ok(key_text)) => {
            let chain = CertificateFacts::certificates(&chain_text).unwrap_or_default();
            match certificates::is_key_of(&chain, &key_text) {
                Some(fits) => found.is_other_key = !fits,
                None => found.certificate = Some((key, FileFault::Damaged)),
            }
        }
    }
    found
}

/// The content of a file, or its fault.
fn content(path: &Utf8Path, is_whole: impl Fn(&[u8]) -> bool) -> Result<Vec<u8>, (Utf8PathBuf, FileFault)> {
    match files::read_if_there(path) {
        Ok(Some(bytes)) if is_whole(&bytes) => Ok(bytes),
        Ok(Some(_)) => Err((path.to_owned(), FileFault::Damaged)),
        Ok(None) => Err((path.to_owned(), FileFault::Missing)),
        Err(error) => Err((path.to_owned(), FileFault::Unreadable(files::words(&error.source)))),
    }
}
