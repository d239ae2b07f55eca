//! The bytes of files.

use std::ops::Deref;
use std::sync::Arc;

use zeroize::Zeroizing;

/// A file's bytes, which several steps of the way hold at once: hosts files can be large. They are
/// wiped from memory when the last of them lets go, since they may be a key.
#[derive(Clone, PartialEq, Eq)]
pub struct FileContent(Arc<Zeroizing<Vec<u8>>>);

impl Deref for FileContent {
    type Target = Vec<u8>;

    fn deref(&self) -> &Vec<u8> {
        &self.0
    }
}

impl From<Vec<u8>> for FileContent {
    fn from(bytes: Vec<u8>) -> Self {
        Self(Arc::new(Zeroizing::new(bytes)))
    }
}

impl std::fmt::Debug for FileContent {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "FileContent({} bytes)", self.len())
    }
}
