//! Issuing certificates, compared with the cost of a new key and one signature.
//!
//! `cargo bench -p yandro-core --bench pki`

use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use time::OffsetDateTime;
use time::macros::datetime;
use yandro_core::{
    Authority, Constraints, HostName, Key, LEAF_DAYS, Leaf, LeafRequest, NewAuthority, Serial, create_authority,
};

const NOW: OffsetDateTime = datetime!(2026-11-23 08:00 UTC);

fn main() {
    divan::main();
}

fn key() -> Key {
    let der = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &SystemRandom::new());
    Key::from_pkcs8_der(der.expect("randomness").as_ref()).expect("a key")
}

fn serial() -> Serial {
    let mut bytes = [0; 16];
    SystemRandom::new().fill(&mut bytes).expect("randomness");
    Serial::from_random(bytes)
}

fn authority() -> (Authority, Key) {
    let issuing_key = key();
    let made = create_authority(NewAuthority {
        owner: "ada@saltmarsh",
        now: NOW,
        constraints: &Constraints::default(),
        root_key: key(),
        issuing_key: &issuing_key,
        serials: [serial(), serial()],
    });
    (Authority::read(&made.expect("an authority")).expect("it reads"), issuing_key)
}

/// The floor: a new key, and one signature with another.
#[divan::bench]
fn key_and_signature_alone(bencher: divan::Bencher<'_, '_>) {
    let random = SystemRandom::new();
    let der = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &random).expect("randomness");
    let signer = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, der.as_ref(), &random).expect("a key");
    bencher.counter(1_usize).bench_local(|| {
        let new = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &random).expect("randomness");
        (new, signer.sign(&random, &[7; 600]).expect("a signature"))
    });
}

/// A new key, the certificate, its judgement, both as text.
#[divan::bench]
fn a_certificate_with_a_new_key(bencher: divan::Bencher<'_, '_>) {
    let (authority, issuing_key) = authority();
    let leaf =
        Leaf { names: vec![HostName::parse("saltmarsh.test").expect("a name")], days: LEAF_DAYS, ..Leaf::default() };
    bencher.counter(1_usize).bench_local(|| {
        let key = key();
        let request = LeafRequest { leaf: &leaf, now: NOW, serial: serial() };
        (authority.issue(&issuing_key, &request, &key).expect("it is issued"), key.to_secret_pem())
    });
}
