//! Certificate stores of the system.

use std::io;
use std::ptr;
use std::slice;

use windows_sys::Win32::Security::Cryptography::{
    CERT_CONTEXT, CERT_STORE_ADD_REPLACE_EXISTING, CERT_STORE_CTRL_COMMIT, CERT_STORE_PROV_SYSTEM_REGISTRY_W,
    CERT_STORE_PROV_SYSTEM_W, CERT_STORE_READONLY_FLAG, CERT_SYSTEM_STORE_CURRENT_USER,
    CERT_SYSTEM_STORE_LOCAL_MACHINE, CertAddEncodedCertificateToStore, CertCloseStore, CertControlStore,
    CertDeleteCertificateFromStore, CertDuplicateCertificateContext, CertEnumCertificatesInStore, CertOpenStore,
    HCERTSTORE, X509_ASN_ENCODING,
};

use windows_sys::core::PCSTR;

use super::{checked, length, wide};

/// The owner of a store.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Location {
    /// The current user's store.
    CurrentUser,
    /// The machine's, for all users.
    LocalMachine,
}

/// A store of trusted roots (`ROOT`), open.
#[derive(Debug)]
pub struct Roots(HCERTSTORE);

impl Roots {
    /// Opens the store for reading: only its own part, without what that of a user shows of the machine's.
    ///
    /// # Errors
    /// When this user may not, or nothing was ever put into it.
    pub fn open(location: Location) -> io::Result<Self> {
        Self::opened(CERT_STORE_PROV_SYSTEM_REGISTRY_W, location, CERT_STORE_READONLY_FLAG)
    }

    /// Opens the store to change it, as the system guards it: it may ask the user.
    ///
    /// # Errors
    /// When this user may not.
    pub fn open_to_change(location: Location) -> io::Result<Self> {
        Self::opened(CERT_STORE_PROV_SYSTEM_W, location, 0)
    }

    fn opened(provider: PCSTR, location: Location, access: u32) -> io::Result<Self> {
        let place = match location {
            Location::CurrentUser => CERT_SYSTEM_STORE_CURRENT_USER,
            Location::LocalMachine => CERT_SYSTEM_STORE_LOCAL_MACHINE,
        };
        let name = wide("ROOT");
        // SAFETY: both providers take the store's name with a zero at its end; it lives until the call returns.
        let store = unsafe { CertOpenStore(provider, 0, 0, place | access, name.as_ptr().cast()) };
        if store.is_null() { Err(io::Error::last_os_error()) } else { Ok(Self(store)) }
    }

    /// The certificates in it, in DER.
    pub fn all(&self) -> Vec<Vec<u8>> {
        let mut found = Vec::new();
        self.each(|_, der| found.push(der.to_vec()));
        found
    }

    /// Goes through the certificates.
    fn each(&self, mut look: impl FnMut(*const CERT_CONTEXT, &[u8])) {
        let mut context: *const CERT_CONTEXT = ptr::null();
        loop {
            // SAFETY: the store is open; the call frees the context that it is given, which nobody uses any more.
            context = unsafe { CertEnumCertificatesInStore(self.0, context) };
            // SAFETY: it is null, or a context that lives until the next call.
            let Some(own) = (unsafe { context.as_ref() }) else { return };
            // SAFETY: the context's certificate has so many bytes, and lives as long as the context.
            look(context, unsafe { slice::from_raw_parts(own.pbCertEncoded, own.cbCertEncoded as usize) });
        }
    }

    /// Puts a certificate in, in DER.
    ///
    /// # Errors
    /// When it can't be read, this user may not, or they were asked and said no.
    pub fn add(&self, der: &[u8]) -> io::Result<()> {
        let (kind, how) = (X509_ASN_ENCODING, CERT_STORE_ADD_REPLACE_EXISTING);
        // SAFETY: the certificate has the length that is passed; no context is asked for.
        checked(unsafe {
            CertAddEncodedCertificateToStore(self.0, kind, der.as_ptr(), length(der), how, ptr::null_mut())
        })?;
        self.commit()
    }

    /// Takes a certificate out, in DER; does nothing if it isn't there.
    ///
    /// # Errors
    /// When this user may not, or they were asked and said no.
    pub fn remove(&self, der: &[u8]) -> io::Result<()> {
        // The first is the user's own; another would be the machine's, shown in this store.
        let mut found = None;
        self.each(|context, own| {
            if own == der && found.is_none() {
                // SAFETY: the context lives now; the copy is another reference to it.
                found = Some(unsafe { CertDuplicateCertificateContext(context) });
            }
        });
        if let Some(context) = found {
            // SAFETY: the reference is ours, and the call takes it, also when it fails.
            checked(unsafe { CertDeleteCertificateFromStore(context) })?;
        }
        self.commit()
    }

    /// Writes what was changed.
    fn commit(&self) -> io::Result<()> {
        // SAFETY: the store is open; this way of control takes no parameter.
        checked(unsafe { CertControlStore(self.0, 0, CERT_STORE_CTRL_COMMIT, ptr::null()) })
    }
}

impl Drop for Roots {
    fn drop(&mut self) {
        // SAFETY: the store is ours, and nobody uses it any more.
        unsafe { CertCloseStore(self.0, 0) };
    }
}
