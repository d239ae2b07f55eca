//! Randomness of the system.

use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P384_SHA384_ASN1_SIGNING, EcdsaKeyPair};
use yandro_core::{Fresh, Key, KeyKind, PkiError};

use crate::openssl;

/// Keys and serial numbers from the system's own source of randomness.
#[derive(Debug)]
pub struct SystemFresh(SystemRandom);

impl SystemFresh {
    /// The system's source.
    #[allow(clippy::new_without_default, reason = "randomness is asked for, never defaulted to")]
    pub fn new() -> Self {
        Self(SystemRandom::new())
    }
}

impl Fresh for SystemFresh {
    fn key(&mut self, kind: KeyKind) -> Result<Key, PkiError> {
        let on_curve = |curve| {
            let der = EcdsaKeyPair::generate_pkcs8(curve, &self.0).expect("the system gives randomness");
            Key::from_pkcs8_der(der.as_ref())
        };
        match kind {
            KeyKind::P256 => on_curve(&ECDSA_P256_SHA256_ASN1_SIGNING),
            KeyKind::P384 => on_curve(&ECDSA_P384_SHA384_ASN1_SIGNING),
            // The library of the other kinds makes none.
            KeyKind::Rsa3072 => {
                openssl::rsa_key(3072).map_err(|why| PkiError::KeyNotMade { kind: kind.word(), why: why.to_string() })
            }
        }
    }

    fn bytes(&mut self) -> [u8; 16] {
        random()
    }
}

/// Random bytes of the system.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    SystemRandom::new().fill(&mut bytes).expect("the system gives randomness");
    bytes
}

/// A random word of 32 hexadecimal digits.
pub(crate) fn nonce() -> String {
    format!("{:032x}", u128::from_be_bytes(random()))
}
