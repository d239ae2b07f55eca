//! PKCS#12 files (RFC 7292): certificate, chain and key in one, behind a passphrase.

use p12_keystore::{
    Certificate, EncryptionAlgorithm, KeyStore, KeyStoreEntry, MacAlgorithm, PrivateKey, PrivateKeyChain,
};
use yandro_core::pki::{Facts, Key};

use crate::files;

/// How often the passphrase is hashed: what OpenSSL does by default, times ten.
const ROUNDS: u32 = 20_480;

/// Such a file for a chain in PEM, leaf first, and its key: AES-256 and SHA-256, as systems since
/// about 2019 take them. `name` is what it is called where it is imported.
///
/// # Errors
/// When one of them can't be read, or put into the form.
pub fn bundle(name: &str, key: &Key, chain: &str, passphrase: &str) -> Result<Vec<u8>, String> {
    let words = |error: p12_keystore::error::Error| error.to_string();
    let chain = Facts::certificates(chain.as_bytes()).map_err(|error| error.to_string())?;
    // Key and certificate are held together by a number that nobody looks at: its fingerprint will do.
    let number = files::sha1(&chain[0]).into_bytes();
    let certificates: Vec<Certificate> =
        chain.iter().map(|der| Certificate::from_der(der)).collect::<Result<_, _>>().map_err(words)?;
    let key = PrivateKey::from_der(&key.to_secret_der()).map_err(words)?;
    let mut store = KeyStore::new();
    store.add_entry(name, KeyStoreEntry::PrivateKeyChain(PrivateKeyChain::new(number, key, certificates)));
    store
        .writer(passphrase)
        .encryption_algorithm(EncryptionAlgorithm::PbeWithHmacSha256AndAes256)
        .encryption_iterations(ROUNDS)
        .mac_algorithm(MacAlgorithm::HmacSha256)
        .mac_iterations(ROUNDS)
        .write()
        .map_err(words)
}
