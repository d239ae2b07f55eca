//! Any bytes as a message to the responder: nothing panics, and what goes out is an answer to it, no larger than the asker
//! can take.

#![no_main]

use libfuzzer_sys::fuzz_target;
use yandro_serve::TenantNames;

fuzz_target!(|bytes: &[u8]| {
    let mut names = TenantNames::default();
    names.add_zone("a.test", &["127.0.0.1".parse().expect("it is one"), "::1".parse().expect("it is one")]);
    names.add_host("b.c.a.test", &["127.0.0.2".parse().expect("it is one")]);
    for is_whole in [false, true] {
        if let Some(answer) = names.answer(bytes, is_whole) {
            assert!(answer[..2] == bytes[..2] && answer[2] & 0x80 != 0);
            assert!(is_whole || answer.len() <= 1232);
        }
    }
});
