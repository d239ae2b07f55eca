//! Reading files that may be anything: never one that blocks, never ends or is too large.

use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::HostName;

use crate::caller;
use crate::confine;
use crate::files::{self, FileError};
use crate::os;

/// The largest file that is read, in bytes: far above any configuration or hosts file.
const LARGEST: u64 = 256 << 20;
/// How long a pipe that a command was given has to say something.
const PIPE_LIMIT: Duration = Duration::from_secs(10);

/// Opens a file for reading, and nothing that would block or never end: a FIFO, a device.
///
/// # Errors
/// When it can't be opened, or is not a regular file.
pub fn open_regular(path: &Utf8Path) -> Result<File, FileError> {
    Ok(open_with_size(path)?.0)
}

/// The same with its size in bytes, as it is now.
fn open_with_size(path: &Utf8Path) -> Result<(File, u64), FileError> {
    let real = confine::real(path).map_err(FileError::at(path))?;
    let _rights = caller::rights_to_read(&real);
    let file = os::open_reading(&real).map_err(FileError::at(path))?;
    let meta = file.metadata().map_err(FileError::at(path))?;
    if meta.is_file() {
        return Ok((file, meta.len()));
    }
    let what = if meta.is_dir() { "it is a folder" } else { "it is not a regular file" };
    Err(FileError::at(path)(io::Error::other(what)))
}

/// A regular file's bytes, of at most 256 MB.
///
/// # Errors
/// When it can't be read, is not a regular file, or is larger.
pub fn read(path: &Utf8Path) -> Result<Vec<u8>, FileError> {
    let read = |(file, size)| read_up_to(file, size, LARGEST).map_err(FileError::at(path));
    let bytes = open_with_size(path).and_then(read);
    match &bytes {
        Ok(bytes) => tracing::debug!(target: "read", "{path}: {} bytes", bytes.len()),
        Err(error) => tracing::debug!(target: "read", "{error}"),
    }
    bytes
}

/// The last bytes of a regular file, at most `most`, as text.
///
/// # Errors
/// When it can't be read, or is not a regular file.
pub fn read_end(path: &Utf8Path, most: u64) -> Result<String, FileError> {
    let mut file = open_regular(path)?;
    let mut bytes = Vec::new();
    let mut read = || {
        let from = file.metadata()?.len().saturating_sub(most);
        file.seek(SeekFrom::Start(from))?;
        file.by_ref().take(most).read_to_end(&mut bytes)
    };
    read().map_err(FileError::at(path))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// All bytes of `file`, which most likely has this size.
fn read_up_to(file: impl io::Read, size: u64, limit: u64) -> io::Result<Vec<u8>> {
    // With room for one more byte its end is seen without growing.
    let mut bytes = Vec::with_capacity(usize::try_from(size.min(limit) + 1).unwrap_or_default());
    file.take(limit + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit {
        return Err(io::Error::other(format!("it is larger than {} kB", limit >> 10)));
    }
    Ok(bytes)
}

/// A file's bytes, or `None` if there is no such file.
///
/// # Errors
/// When it exists and can't be read, is not a regular file, or is larger than 256 MB.
pub fn read_if_there(path: &Utf8Path) -> Result<Option<Vec<u8>>, FileError> {
    match read(path) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(error) if error.source.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// How many files are looked for one by one.
const FEW: usize = 4;

/// The files of one folder that these names have there, by `path_of`. Of many names most have none, such as those of
/// another server's sites: the folder is listed first then.
///
/// # Errors
/// As [`read_if_there`].
pub(crate) fn read_by_name(
    folder: &Utf8Path,
    names: &[HostName],
    path_of: impl Fn(&HostName) -> Utf8PathBuf,
) -> Result<BTreeMap<HostName, Vec<u8>>, FileError> {
    let listed = if names.len() > FEW { file_names(folder) } else { None };
    let mut found = BTreeMap::new();
    for name in names {
        let path = path_of(name);
        let is_missing = |listed: &HashSet<String>| !listed.contains(path.file_name().unwrap_or_default());
        if listed.as_ref().is_some_and(is_missing) {
            continue;
        }
        if let Some(text) = read_if_there(&path)? {
            found.insert(name.clone(), text);
        }
    }
    Ok(found)
}

/// The names of a folder's files; `None` if it can't be listed.
fn file_names(folder: &Utf8Path) -> Option<HashSet<String>> {
    let real = files::follow(folder).ok()?;
    let _rights = caller::rights_to_read(&real);
    let entries = match real.read_dir_utf8() {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Some(HashSet::new()),
        Err(_) => return None,
    };
    entries.map(|entry| Some(entry.ok()?.file_name().to_owned())).collect()
}

/// The content of a file or pipe that the user named, of at most `limit` bytes; `None` if there is no such
/// file. A pipe, such as `/dev/stdin`, has ten seconds to give it all.
///
/// # Errors
/// When it can't be read, is larger, or doesn't end in time.
pub fn read_given(path: &Utf8Path, limit: u64) -> Result<Option<Vec<u8>>, FileError> {
    let file = match os::open_reading(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        opened => opened.map_err(FileError::at(path))?,
    };
    let patient = Patient { file, until: Instant::now() + PIPE_LIMIT };
    read_up_to(patient, 0, limit).map(Some).map_err(FileError::at(path))
}

/// A file that is waited for when it has nothing to say yet, up to a moment.
struct Patient {
    file: File,
    until: Instant,
}

impl io::Read for Patient {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            match self.file.read(buffer) {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                done => return done,
            }
            let left = self.until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "it doesn't end: nothing came for ten seconds"));
            }
            os::wait_for_input(&self.file, left)?;
        }
    }
}

/// Whether a file holds just this; with `None`, whether there is no such file.
pub fn holds(path: &Utf8Path, content: Option<&[u8]>) -> bool {
    let (file, content) = match (open_regular(path), content) {
        (Ok(file), Some(content)) => (file, content),
        (Err(error), None) => return error.source.kind() == io::ErrorKind::NotFound,
        _ => return false,
    };
    let mut rest = content;
    let mut part = vec![0; 1 << 16];
    let mut file = io::Read::take(file, content.len() as u64 + 1);
    loop {
        match io::Read::read(&mut file, &mut part) {
            Ok(0) => return rest.is_empty(),
            Ok(length) if rest.starts_with(&part[..length]) => rest = &rest[length..],
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            _ => return false,
        }
    }
}
