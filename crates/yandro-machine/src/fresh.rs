//! Randomness of the system.

use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use yandro_core::pki::{Key, Serial};
use yandro_core::plan::Fresh;

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
    fn key(&mut self) -> Key {
        let der = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &self.0)
            .expect("the system gives randomness");
        Key::from_pkcs8_der(der.as_ref()).expect("a generated key is a P-256 key")
    }

    fn serial(&mut self) -> Serial {
        Serial::from_random(random())
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
