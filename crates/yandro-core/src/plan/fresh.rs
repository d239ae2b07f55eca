//! Randomness, as an argument.

use crate::pki::{Key, KeyKind, PkiError, Serial};

/// A source of fresh keys and serial numbers: randomness is an argument, too.
pub trait Fresh {
    /// A new private key.
    ///
    /// # Errors
    /// When nothing here can make one of this kind.
    fn key(&mut self, kind: KeyKind) -> Result<Key, PkiError>;
    /// Random bytes.
    fn bytes(&mut self) -> [u8; 16];
    /// A new serial number.
    fn serial(&mut self) -> Serial {
        Serial::from_random(self.bytes())
    }
}
