//! Randomness of the system.

use getrandom::SysRng;
use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P384_SHA384_ASN1_SIGNING, EcdsaKeyPair};
use rsa::PrivateKey;
use rsa::pkcs8::{EncodePrivateKey as _, SecretDocument};
use rsa::rand_core::UnwrapErr;
use yandro_core::pki::{Key, KeyKind};
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
    fn key(&mut self, kind: KeyKind) -> Key {
        let on_curve = |curve| {
            let der = EcdsaKeyPair::generate_pkcs8(curve, &self.0).expect("the system gives randomness");
            Key::from_pkcs8_der(der.as_ref())
        };
        let key = match kind {
            KeyKind::P256 => on_curve(&ECDSA_P256_SHA256_ASN1_SIGNING),
            KeyKind::P384 => on_curve(&ECDSA_P384_SHA384_ASN1_SIGNING),
            KeyKind::Rsa3072 => Key::from_pkcs8_der(rsa_key().as_bytes()),
        };
        key.expect("a generated key is one of its kind")
    }

    fn bytes(&mut self) -> [u8; 16] {
        random()
    }
}

/// An RSA key of 3,072 bits in PKCS#8: the library of the other kinds makes none.
fn rsa_key() -> SecretDocument {
    let made = PrivateKey::new(&mut UnwrapErr(SysRng), 3072).expect("3,072 bits are enough for a key");
    made.to_pkcs8_der().expect("a key can be written")
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
