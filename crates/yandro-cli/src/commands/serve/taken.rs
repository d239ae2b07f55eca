//! The running built-in server says here which site list and certificates it serves. A command that asks it for a page
//! right after a change waits until the server has loaded that change.

use std::fs::{File, OpenOptions};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_machine::{Machine, files};

use crate::context::Context;

/// How long to wait for the server: it looks several times a second.
const PATIENCE: Duration = Duration::from_secs(5);
/// How often is looked whether it has come so far.
const LOOK: Duration = Duration::from_millis(10);

/// The file in which the server says what it serves, as long as it runs.
pub(super) struct Taken<'m> {
    machine: &'m Machine,
    file: Utf8PathBuf,
    /// Locked as long as there is something to wait for.
    _lock: File,
}

impl<'m> Taken<'m> {
    /// Begins to tell. `None` when another server tells already, or the files can't be written: then nobody waits.
    pub(super) fn begin(machine: &'m Machine) -> Option<Self> {
        let (file, lock) = paths(machine);
        machine.write_private(&lock, b"").ok()?;
        let lock = OpenOptions::new().write(true).open(&lock).ok()?;
        lock.try_lock().ok()?;
        Some(Self { machine, file, _lock: lock })
    }

    /// Tells that this state is served, or was looked at and left for a fault in it.
    pub(super) fn tell(&self, state: &str) {
        // Without it those who wait lose patience, and no more.
        _ = self.machine.write_private(&self.file, state.as_bytes());
    }
}

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        _ = files::remove_own(&self.file);
    }
}

/// Waits until the running server serves the site list and the certificates as they are now. Returns at once if no
/// server runs.
pub(crate) async fn wait(context: &Context) {
    let (file, lock) = paths(&context.machine);
    let runs = || File::open(&lock).is_ok_and(|lock| lock.try_lock_shared().is_err());
    let (wanted, began) = (state(context), Instant::now());
    let is_served = || std::fs::read_to_string(&file).is_ok_and(|told| told == wanted);
    while !is_served() && began.elapsed() < PATIENCE && runs() {
        tokio::time::sleep(LOOK).await;
    }
}

/// The file with the state that is served, and the file that is locked as long as the server runs.
fn paths(machine: &Machine) -> (Utf8PathBuf, Utf8PathBuf) {
    let file = |name: &str| machine.places.data.join(name);
    (file("serve.state"), file("serve.running"))
}

/// A fingerprint of when the site list and the certificates were last changed.
pub(super) fn state(context: &Context) -> String {
    let places = &context.machine.places;
    let changed = |path: &Utf8Path| path.metadata().ok().map(|meta| (meta.modified().ok(), meta.len()));
    let folders = places.certificates().read_dir_utf8().into_iter().flatten().flatten();
    let mut chains: Vec<_> =
        folders.map(|folder| (folder.path().to_owned(), changed(&folder.path().join("fullchain.pem")))).collect();
    chains.sort();
    let all = (changed(&places.site_list()), changed(&places.certificates()), chains);
    files::fingerprint(format!("{all:?}").as_bytes())
}
