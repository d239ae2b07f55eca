//! Signatures within certificates, each verified once in a run: all sites have the same intermediate certificate,
//! and each of them shows the same chain at every address.

use std::collections::HashSet;
use std::sync::{Mutex, OnceLock, PoisonError};

use ring::digest::{Context, SHA256, SHA256_OUTPUT_LEN};
use rustls::crypto::{CryptoProvider, WebPkiSupportedAlgorithms};
use rustls::pki_types::{AlgorithmIdentifier, InvalidSignature, SignatureVerificationAlgorithm};

/// `provider`, with algorithms that remember which signatures of a chain are valid. Those of handshakes are left
/// as they are: none comes twice.
pub(super) fn for_chains(provider: &CryptoProvider) -> CryptoProvider {
    static ALL: OnceLock<Vec<&'static dyn SignatureVerificationAlgorithm>> = OnceLock::new();
    let own = provider.signature_verification_algorithms;
    // One for the whole process, since the algorithms of a provider live as long.
    let all = ALL.get_or_init(|| own.all.iter().map(|algorithm| Remembering::of(*algorithm)).collect());
    let signature_verification_algorithms = WebPkiSupportedAlgorithms { all, ..own };
    CryptoProvider { signature_verification_algorithms, ..provider.clone() }
}

/// An algorithm, and what it has found valid.
#[derive(Debug)]
struct Remembering {
    algorithm: &'static dyn SignatureVerificationAlgorithm,
    valid: Mutex<HashSet<[u8; SHA256_OUTPUT_LEN]>>,
}

impl Remembering {
    fn of(algorithm: &'static dyn SignatureVerificationAlgorithm) -> &'static dyn SignatureVerificationAlgorithm {
        Box::leak(Box::new(Self { algorithm, valid: Mutex::default() }))
    }
}

impl SignatureVerificationAlgorithm for Remembering {
    fn verify_signature(&self, public_key: &[u8], message: &[u8], signature: &[u8]) -> Result<(), InvalidSignature> {
        let asked = digest([public_key, message, signature]);
        let valid = || self.valid.lock().unwrap_or_else(PoisonError::into_inner);
        if valid().contains(&asked) {
            return Ok(());
        }
        self.algorithm.verify_signature(public_key, message, signature)?;
        valid().insert(asked);
        Ok(())
    }

    fn public_key_alg_id(&self) -> AlgorithmIdentifier {
        self.algorithm.public_key_alg_id()
    }

    fn signature_alg_id(&self) -> AlgorithmIdentifier {
        self.algorithm.signature_alg_id()
    }
}

/// One number for three texts: each with its length before it, so that none can end in the next.
fn digest(parts: [&[u8]; 3]) -> [u8; SHA256_OUTPUT_LEN] {
    let mut context = Context::new(&SHA256);
    for part in parts {
        context.update(&part.len().to_be_bytes());
        context.update(part);
    }
    context.finish().as_ref().try_into().expect("SHA-256 has 32 bytes")
}

#[cfg(test)]
mod tests {
    use ring::rand::SystemRandom;
    use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair, KeyPair};

    use super::*;

    #[test]
    fn what_was_valid_once_makes_nothing_else_valid() {
        let random = SystemRandom::new();
        let pkcs8 = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &random).unwrap();
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, pkcs8.as_ref(), &random).unwrap();
        let signature = pair.sign(&random, b"ferry").unwrap();
        let provider = for_chains(&rustls::crypto::ring::default_provider());
        let found = |message: &[u8], signature: &[u8]| {
            let all = provider.signature_verification_algorithms.all;
            all.iter()
                .filter(|one| one.verify_signature(pair.public_key().as_ref(), message, signature).is_ok())
                .count()
        };
        for _ in 0..2 {
            assert_eq!(found(b"ferry", signature.as_ref()), 1);
            assert_eq!(found(b"Ferry", signature.as_ref()), 0);
            assert_eq!(found(b"ferry", &signature.as_ref()[1..]), 0);
            // The same bytes, cut at another place.
            assert_eq!(found(&[b"ferry", &signature.as_ref()[..1]].concat(), &signature.as_ref()[1..]), 0);
        }
    }
}
