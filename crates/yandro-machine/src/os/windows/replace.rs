//! Replacing and removing files that other programs may have open.

use std::fs;
use std::io;
use std::time::{Duration, Instant};

use camino::Utf8Path;
use yandro_sys::windows::files;

/// How long a file that another program has open is waited for.
const PATIENCE: Duration = Duration::from_secs(3);
/// Between two tries.
const PAUSE: Duration = Duration::from_millis(20);

/// Whether another program has a file open in a way that keeps others from it: `ERROR_SHARING_VIOLATION` and
/// `ERROR_LOCK_VIOLATION`.
pub(super) fn is_in_use(error: &io::Error) -> bool {
    matches!(error.raw_os_error(), Some(32 | 33))
}

/// Puts a file, link or folder in the place of another file or link, at no moment half. A program that has the old one
/// open, such as a virus scanner, is waited for.
///
/// # Errors
/// As the system says; `ResourceBusy` where another program has it open.
pub(crate) fn rename(from: &Utf8Path, to: &Utf8Path) -> io::Result<()> {
    patiently(to, || fs::rename(from, to))
}

/// Removes a file or a link, as patiently.
///
/// # Errors
/// As [`rename`].
pub(crate) fn remove_file(path: impl AsRef<Utf8Path>) -> io::Result<()> {
    patiently(path.as_ref(), || fs::remove_file(path.as_ref()))
}

/// Removes a folder in which nothing is.
///
/// # Errors
/// As the system says.
pub(crate) fn remove_folder(path: impl AsRef<Utf8Path>) -> io::Result<()> {
    point();
    fs::remove_dir(path.as_ref())
}

/// Gives a file a second name.
///
/// # Errors
/// As the system says.
pub(crate) fn hard_link(file: &Utf8Path, other: &Utf8Path) -> io::Result<()> {
    point();
    fs::hard_link(file, other)
}

/// Takes a file's place, whatever has it open.
fn patiently(to: &Utf8Path, take: impl Fn() -> io::Result<()>) -> io::Result<()> {
    point();
    let writable = Writable::made(to);
    let began = Instant::now();
    let error = loop {
        match take() {
            // Windows reports an open file as "access denied".
            Err(error) if is_in_use(&error) || is_denied_for_now(&error, to) => {
                if began.elapsed() > PATIENCE {
                    break error;
                }
                std::thread::sleep(PAUSE);
            }
            Err(error) => break error,
            Ok(()) => return Ok(()),
        }
    };
    drop(writable);
    // It may still be written in place.
    Err(if is_in_use(&error) { io::ErrorKind::ResourceBusy.into() } else { error })
}

fn is_denied_for_now(error: &io::Error, to: &Utf8Path) -> bool {
    error.kind() == io::ErrorKind::PermissionDenied && holder(to).is_some()
}

/// The program that has a file open, if the system tells.
fn holder(path: &Utf8Path) -> Option<String> {
    let this = std::process::id();
    let holders = files::holders(path.as_str()).ok()?;
    holders.into_iter().find(|(_, pid)| *pid != this).map(|(name, pid)| format!("`{name}` (process {pid})"))
}

/// A file whose read-only attribute was taken off, to put another in its place; put on again when dropped.
struct Writable<'p>(Option<&'p Utf8Path>);

impl<'p> Writable<'p> {
    fn made(path: &'p Utf8Path) -> Self {
        Self(set_read_only(path, true, false).then_some(path))
    }
}

impl Drop for Writable<'_> {
    fn drop(&mut self) {
        if let Some(path) = self.0 {
            set_read_only(path, false, true);
        }
    }
}

/// Changes a file's read-only attribute, if it is `from`.
#[expect(clippy::permissions_set_readonly_false, reason = "it is only this attribute here")]
fn set_read_only(path: &Utf8Path, from: bool, to: bool) -> bool {
    let Ok(meta) = path.symlink_metadata() else { return false };
    let mut permissions = meta.permissions();
    if !meta.is_file() || permissions.readonly() != from {
        return false;
    }
    permissions.set_readonly(to);
    fs::set_permissions(path, permissions).is_ok()
}

/// The error for a file that another program keeps to itself.
pub(super) fn in_use(path: &Utf8Path) -> io::Error {
    let who = holder(path).unwrap_or_else(|| "another program".to_owned());
    io::Error::other(format!("{who} has it open and keeps others from writing it: close that first"))
}

/// A point at which this process could be interrupted. In a build for the tests of that it ends itself at the one whose
/// number `YANDRO_END_AT` gives, as another program would end it.
pub(super) fn point() {
    #[cfg(feature = "interruption-points")]
    {
        use std::sync::LazyLock;
        use std::sync::atomic::{AtomicUsize, Ordering};
        static LEFT: LazyLock<AtomicUsize> = LazyLock::new(|| {
            AtomicUsize::new(std::env::var("YANDRO_END_AT").ok().and_then(|text| text.parse().ok()).unwrap_or(0))
        });
        let left = LEFT.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1));
        if left == Ok(1) {
            _ = yandro_sys::windows::processes::end(std::process::id());
        }
    }
}
