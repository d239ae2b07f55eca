//! Java's own form of a key store (`JKS`), for runtimes that come without the program that keeps it.
//!
//! All numbers are big-endian: a mark, a version, the number of entries, the entries, and a SHA-1 over
//! the password in UTF-16, a phrase and all bytes before. As `java.security.KeyStore` reads it.

use rustls_pki_types::CertificateDer;

const MARK: u32 = 0xfeed_feed;
const PHRASE: &[u8] = b"Mighty Aphrodite";
/// An entry that is a certificate, and no key.
const CERTIFICATE: u32 = 2;

/// A key store, entry by entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JavaStore {
    version: u32,
    entries: Vec<StoreEntry>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct StoreEntry {
    alias: String,
    /// All bytes of the file.
    bytes: Vec<u8>,
    certificate: Option<CertificateDer<'static>>,
}

/// A hash of 20 bytes (FIPS 180-4).
pub type Sha1 = fn(&[u8]) -> [u8; 20];

impl JavaStore {
    /// Whether a file is in this form.
    pub fn is_one(bytes: &[u8]) -> bool {
        bytes.starts_with(&MARK.to_be_bytes())
    }

    /// Reads a store; `None` for what is none, is damaged, or has another password.
    pub fn read(bytes: &[u8], password: &str, sha1: Sha1) -> Option<Self> {
        let (content, seal) = bytes.split_at_checked(bytes.len().checked_sub(20)?)?;
        if sealed(content, password, sha1) != seal {
            return None;
        }
        let mut rest = Reader(content);
        if rest.number()? != MARK {
            return None;
        }
        let version = rest.number()?;
        let count = rest.number()?;
        let mut entries = Vec::new();
        for _ in 0..count {
            let before = rest.0;
            let (tag, alias) = (rest.number()?, String::from_utf8_lossy(rest.text()?).into_owned());
            rest.take(8)?;
            let certificate = if tag == CERTIFICATE {
                Some(CertificateDer::from(rest.certificate(version)?.to_vec()))
            } else {
                rest.block()?;
                for _ in 0..rest.number()? {
                    rest.certificate(version)?;
                }
                None
            };
            let bytes = before[..before.len() - rest.0.len()].to_vec();
            entries.push(StoreEntry { alias, bytes, certificate });
        }
        rest.0.is_empty().then_some(Self { version, entries })
    }

    /// The certificates with their names.
    pub fn certificates(&self) -> impl Iterator<Item = (&str, &CertificateDer<'static>)> {
        self.entries.iter().filter_map(|entry| Some((entry.alias.as_str(), entry.certificate.as_ref()?)))
    }

    /// Puts a trusted certificate in; `at` is milliseconds since 1970.
    pub fn put(&mut self, alias: &str, certificate: &CertificateDer<'_>, at: i64) {
        self.take_out(alias);
        let mut bytes = [&CERTIFICATE.to_be_bytes()[..], &counted(alias), &at.to_be_bytes()].concat();
        if self.version > 1 {
            bytes.extend(counted("X.509"));
        }
        let length = u32::try_from(certificate.len()).expect("a certificate is short");
        bytes.extend([&length.to_be_bytes()[..], certificate].concat());
        let certificate = Some(certificate.clone().into_owned());
        self.entries.push(StoreEntry { alias: alias.to_owned(), bytes, certificate });
    }

    /// Takes an entry out, if it is there.
    pub fn take_out(&mut self, alias: &str) {
        self.entries.retain(|entry| entry.alias != alias);
    }

    /// The file.
    pub fn to_bytes(&self, password: &str, sha1: Sha1) -> Vec<u8> {
        let count = u32::try_from(self.entries.len()).expect("a store has some hundred entries");
        let mut content: Vec<u8> = [MARK, self.version, count].iter().flat_map(|number| number.to_be_bytes()).collect();
        content.extend(self.entries.iter().flat_map(|entry| entry.bytes.iter().copied()));
        let seal = sealed(&content, password, sha1);
        content.extend(seal);
        content
    }
}

fn counted(text: &str) -> Vec<u8> {
    let length = u16::try_from(text.len()).expect("a name is short");
    [&length.to_be_bytes()[..], text.as_bytes()].concat()
}

fn sealed(content: &[u8], password: &str, sha1: Sha1) -> [u8; 20] {
    let password: Vec<u8> = password.encode_utf16().flat_map(u16::to_be_bytes).collect();
    sha1(&[&password, PHRASE, content].concat())
}

struct Reader<'b>(&'b [u8]);

impl<'b> Reader<'b> {
    fn take(&mut self, length: usize) -> Option<&'b [u8]> {
        let (taken, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(taken)
    }

    fn number(&mut self) -> Option<u32> {
        Some(u32::from_be_bytes(self.take(4)?.try_into().ok()?))
    }

    fn text(&mut self) -> Option<&'b [u8]> {
        let length = u16::from_be_bytes(self.take(2)?.try_into().ok()?);
        self.take(length.into())
    }

    fn block(&mut self) -> Option<&'b [u8]> {
        let length = usize::try_from(self.number()?).ok()?;
        self.take(length)
    }

    fn certificate(&mut self, version: u32) -> Option<&'b [u8]> {
        if version > 1 {
            self.text()?;
        }
        self.block()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};

    use super::*;

    fn sha1(bytes: &[u8]) -> [u8; 20] {
        digest(&SHA1_FOR_LEGACY_USE_ONLY, bytes).as_ref().try_into().unwrap()
    }

    fn store(certificates: &[(String, Vec<u8>)]) -> JavaStore {
        let mut store = JavaStore { version: 2, entries: Vec::new() };
        for (alias, der) in certificates {
            store.put(alias, &CertificateDer::from(der.clone()), 7);
        }
        store
    }

    proptest! {
        #![proptest_config(crate::tests::cases(64))]

        #[test]
        fn java_stores_are_read_back_and_damaged_ones_refused(
            held in prop::collection::vec(("[a-zé]{1,9}", prop::collection::vec(any::<u8>(), 0..80)), 0..6),
            at in any::<prop::sample::Index>(),
            flip in 1..=255_u8,
        ) {
            let mut own = store(&held);
            let bytes = own.to_bytes("changeit", sha1);
            prop_assert!(JavaStore::is_one(&bytes));
            prop_assert_eq!(JavaStore::read(&bytes, "changeit", sha1), Some(own.clone()));
            prop_assert_eq!(JavaStore::read(&bytes, "other", sha1), None);
            // A root that is added and removed again leaves no trace.
            own.put("yandro-0", &CertificateDer::from(vec![1, 2, 3]), 9);
            prop_assert!(own.certificates().any(|(alias, _)| alias == "yandro-0"));
            own.take_out("yandro-0");
            prop_assert_eq!(own.to_bytes("changeit", sha1), bytes.clone());
            // Any byte changed, or any cut, is seen: never read as something else, and no panic.
            let mut damaged = bytes.clone();
            let at = at.index(damaged.len());
            damaged[at] ^= flip;
            prop_assert_eq!(JavaStore::read(&damaged, "changeit", sha1), None);
            prop_assert_eq!(JavaStore::read(&bytes[..at], "changeit", sha1), None);
            // Lengths that lie, under a seal that is right.
            let content = &damaged[..damaged.len() - 20];
            let lying = [content, &sealed(content, "changeit", sha1)].concat();
            _ = JavaStore::read(&lying, "changeit", sha1);
        }
    }
}
