//! A file for the messages of a server in the background.

use std::fs::{File, OpenOptions};
use std::io::{self, Write as _};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_machine::caller;

use crate::context::{now, stamp};

/// Beyond this length, in bytes, the file is put aside.
const LONGEST: u64 = 1_000_000;

/// A file that grows, and is put aside as `FILE.1` when it has become long.
#[derive(Debug)]
pub(super) struct Log {
    path: Utf8PathBuf,
    file: File,
}

impl Log {
    /// Goes on with a file, or makes it.
    pub(super) fn open(path: &Utf8Path) -> io::Result<Self> {
        let _rights = caller::rights_for(path);
        Ok(Self { path: path.to_owned(), file: OpenOptions::new().append(true).create(true).open(path)? })
    }

    /// Adds a line, with the time.
    pub(super) fn write(&mut self, text: &str) -> io::Result<()> {
        if self.file.metadata()?.len() > LONGEST {
            let renamed = {
                let _rights = caller::rights_for(&self.path);
                std::fs::rename(&self.path, format!("{}.1", self.path))
            };
            renamed?;
            *self = Self::open(&self.path)?;
        }
        self.file.write_all(format!("{} {text}\n", stamp(now())).as_bytes())
    }
}
